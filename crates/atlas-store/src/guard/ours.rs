//! Whether a file is this tool's own, judged by its contents.

use atlas_core::format::read;
use atlas_core::placement::{CHILD_PREFIX, STYLESHEET_NAME};

/// Whether this tool wrote a main file, judged by its stylesheet or the names of the files that it lists. So a lost
/// ledger does not turn the site's own files into another tool's.
pub(crate) fn is_ours(bytes: &[u8]) -> bool {
    let head = String::from_utf8_lossy(&bytes[..bytes.len().min(512)]);
    if head.contains(&format!("href=\"{STYLESHEET_NAME}\"")) {
        return true;
    }
    let (mut children, mut ours) = (0u64, 0u64);
    let _ = read(
        bytes,
        |_| (),
        |child| {
            children += 1;
            let name = child.loc.unwrap_or_default();
            ours += u64::from(name.rsplit('/').next().is_some_and(|name| name.starts_with(CHILD_PREFIX)));
        },
    );
    children > 0 && ours == children
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::by_its_stylesheet("<?xml-stylesheet type=\"text/css\" href=\"atlas.css\"?><urlset/>", true)]
    #[case::by_its_children(
        "<sitemapindex xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><sitemap><loc>https://www.marrowvale.example/atlas-pages-1.xml</loc></sitemap></sitemapindex>",
        true
    )]
    #[case::another_tools(
        "<sitemapindex xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><sitemap><loc>https://www.marrowvale.example/posts.xml</loc></sitemap></sitemapindex>",
        false
    )]
    #[case::no_sitemap("lamp oil", false)]
    fn own_files_are_recognised_without_a_ledger(#[case] text: &str, #[case] wanted: bool) {
        assert_eq!(is_ours(text.as_bytes()), wanted);
    }
}
