//! Whether a file is this tool's own, judged by its contents. So a lost ledger does not turn the site's own files into
//! another tool's.

use atlas_core::address::Site;
use atlas_core::format::read;
use atlas_core::placement::{CHILD_PREFIX, MOST_BYTES, STYLESHEET_NAME, TEXT, is_packed};

use crate::disk::segmented_gzip::unpack;

/// What every file of ours, other than sitemaps and lists of URLs, says of itself.
const MARKS: [&str; 2] = ["Written by Idle Atlas", "<meta name=\"idle-atlas\""];

/// Whether this tool wrote a sitemap file, judged by its stylesheet or the names of the files that it lists.
pub(crate) fn is_ours(bytes: &[u8]) -> bool {
    if head_of(bytes).contains(&format!("href=\"{STYLESHEET_NAME}\"")) {
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

/// Whether this tool wrote the file with this name, whatever kind it is.
pub fn is_own_file(name: &str, bytes: &[u8], site: &Site) -> bool {
    if is_packed(name) {
        return unpack(bytes, MOST_BYTES).is_ok_and(|bytes| is_ours(&bytes));
    }
    let is_marked = MARKS.iter().any(|mark| head_of(bytes).contains(mark));
    if name.ends_with(TEXT) {
        let text = String::from_utf8_lossy(bytes);
        return text.lines().all(|line| line.is_empty() || site.holds(line));
    }
    is_marked || is_ours(bytes)
}

fn head_of(bytes: &[u8]) -> String {
    String::from_utf8_lossy(&bytes[..bytes.len().min(512)]).into_owned()
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

    #[rstest]
    #[case::stylesheet("atlas.css", atlas_core::visitor::STYLESHEET, true)]
    #[case::a_stylesheet("atlas.css", "body { margin: 0 }", false)]
    #[case::visitor_page("atlas.html", "<!doctype html><meta name=\"idle-atlas\" content=\"keep=no\">", true)]
    #[case::a_page("atlas.html", "<!doctype html><title>Atlas</title>", false)]
    #[case::list("atlas.txt", "https://www.marrowvale.example/\nhttps://www.marrowvale.example/halts/\n", true)]
    #[case::a_text("atlas.txt", "https://www.marrowvale.example/\nlamp oil\n", false)]
    #[case::no_gzip("sitemap.xml.gz", "lamp oil", false)]
    fn own_files_of_other_kinds(#[case] name: &str, #[case] text: &str, #[case] wanted: bool) {
        let site = Site::parse("https://www.marrowvale.example/").unwrap();
        assert_eq!(is_own_file(name, text.as_bytes(), &site), wanted);
    }
}
