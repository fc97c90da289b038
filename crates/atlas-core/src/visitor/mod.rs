//! What visitors of the site read: the visitor page, the text sitemap, the feeds of the newest entries, and the
//! stylesheet for sitemap files.
//!
//! All of it is made from [`VisitorLine`]s, which hold what visitors see of an entry.

mod rank;
mod template;
mod parts;
mod page;
mod text;
mod newest;

use std::borrow::Cow;

use crate::address;
use crate::lastmod::Lastmod;

pub use newest::{FeedFrame, atom, rss};
pub use page::Visitors;
pub use parts::Label;
pub use template::{PageTemplate, TemplateError};
pub use text::text_files;

/// The stylesheet with which a browser displays sitemap files and indexes: a table with counts (see `atlas.css` in the
/// web root). It is CSS, because browsers are dropping XSLT.
pub const STYLESHEET: &str = include_str!("atlas.css");

/// What visitors see of an entry.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct VisitorLine<'a> {
    /// Its URL.
    pub url: &'a str,
    /// Its path, query included.
    pub path: &'a str,
    /// Its title, if it has one: not blank, and trimmed.
    pub title: Option<&'a str>,
    /// Its description, if it has one.
    pub description: Option<&'a str>,
    /// Its language, if known.
    pub language: Option<&'a str>,
    /// The date that is written in the sitemap.
    pub lastmod: Option<Lastmod>,
    /// Its publication date, if known.
    pub published: Option<Lastmod>,
    /// Whether it lists other pages: an archive, a tag, an author.
    pub is_list: bool,
    /// The index of its section.
    pub section: u16,
    /// The length of the part of its path that names its folder.
    folder: usize,
}

impl<'a> VisitorLine<'a> {
    /// Its name: the title, else the path.
    pub fn name(&self) -> &'a str {
        self.title.unwrap_or(self.path)
    }

    /// A line with only a URL.
    pub fn new(url: &'a str) -> Self {
        let path = address::path(url);
        let plain = &path[..memchr::memchr(b'?', path.as_bytes()).unwrap_or(path.len())];
        let inner = plain.strip_suffix('/').unwrap_or(plain);
        let folder = memchr::memchr_iter(b'/', inner.as_bytes()).take(3).last().map_or(1, |at| at + 1);
        Self {
            url,
            path,
            title: None,
            description: None,
            language: None,
            lastmod: None,
            published: None,
            is_list: lists_others(plain),
            section: 0,
            folder: folder.min(path.len()),
        }
    }

    /// Its folder, or the first two parts of that.
    fn folder(&self) -> &'a str {
        &self.path[..self.folder]
    }
}

/// Whether a path is that of a page which lists others, by the words that sites use for such pages: `/tag/ice/`,
/// `/authors/`, `/news/page/3/`, `/archive/2026/11/`. An article may be below such a word: `/archive/the-last-train/`.
fn lists_others(path: &str) -> bool {
    const GROUPS: [&str; 8] = ["author", "authors", "categories", "category", "tag", "tags", "topic", "topics"];
    let parts: Vec<&str> = path.split('/').filter(|part| !part.is_empty()).collect();
    let is_number = |part: &&str| part.bytes().all(|byte| byte.is_ascii_digit());
    parts.iter().enumerate().any(|(at, part)| {
        let rest = &parts[at + 1..];
        match *part {
            "page" => rest.len() == 1 && rest.iter().all(is_number),
            "archive" | "archives" => rest.iter().all(is_number),
            word => GROUPS.contains(&word) && rest.len() <= 1,
        }
    })
}

/// Makes a feed from its frame, all lines, and the most entries that it may contain.
pub type MakeFeed = fn(&FeedFrame, &[VisitorLine<'_>], usize) -> Vec<u8>;

/// Text that HTML and XML can contain, in elements and attributes alike.
fn escaped(text: &str) -> Cow<'_, str> {
    let cleaned = crate::format::clean(text);
    if !crate::format::has_special(cleaned.as_bytes()) {
        return cleaned;
    }
    let mut out = Vec::with_capacity(text.len() + 8);
    crate::format::push_escaped(&mut out, &cleaned);
    Cow::Owned(String::from_utf8(out).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// A line with only a path and a title.
    pub(super) fn line<'a>(url: &'a str, title: Option<&'a str>) -> VisitorLine<'a> {
        VisitorLine { title, ..VisitorLine::new(url) }
    }

    #[rstest]
    #[case("https://a.example/", "/")]
    #[case("https://a.example/fares/", "/")]
    #[case("https://a.example/journal/frost/", "/journal/")]
    #[case("https://a.example/journal/2026/frost.html?a=/b/c/", "/journal/2026/")]
    #[case("https://a.example/2026/11/23/frost/", "/2026/11/")]
    fn folders(#[case] url: &str, #[case] wanted: &str) {
        assert_eq!(line(url, None).folder(), wanted);
    }

    #[rstest]
    #[case("/tag/ice/", true)]
    #[case("/authors/", true)]
    #[case("/news/page/3/", true)]
    #[case("/tag/ice/page/2/", true)]
    #[case("/archive/2026/11/", true)]
    #[case("/archive/the-last-train/", false)]
    #[case("/page/about/", false)]
    #[case("/topics/steam/why-it-hisses/", false)]
    #[case("/fares/", false)]
    fn lists_are_recognised_by_their_paths(#[case] path: &str, #[case] wanted: bool) {
        assert_eq!(lists_others(path), wanted);
    }

    #[test]
    fn titles_are_escaped() {
        assert_eq!(escaped("<b>\"A\" & 'B'\u{0}</b>"), "&lt;b&gt;&quot;A&quot; &amp; &apos;B&apos;&lt;/b&gt;");
    }
}
