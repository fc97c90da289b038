//! What people read: the page for visitors, the text form, the feeds of the newest, and the look of the XML in a browser.
//!
//! All of it is made of [`VisitorLine`]s: what is shown of an entry.

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

/// How a browser shows sitemap files and indexes: a table with counts (see `atlas.css` in the web root). A stylesheet of
/// CSS, because browsers are taking the other kind, XSLT, away.
pub const STYLESHEET: &str = include_str!("atlas.css");

/// What is shown of an entry.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct VisitorLine<'a> {
    /// Its URL.
    pub url: &'a str,
    /// Its path, query included.
    pub path: &'a str,
    /// Its title, where it has one: not blank, and without spaces around it.
    pub title: Option<&'a str>,
    /// What it is about, where it says so.
    pub description: Option<&'a str>,
    /// Its language, where it is known.
    pub language: Option<&'a str>,
    /// The date that is written of it.
    pub lastmod: Option<Lastmod>,
    /// When it was published, where it says so.
    pub published: Option<Lastmod>,
    /// It lists others: an archive, a tag, an author.
    pub is_list: bool,
    /// Its section's place among all.
    pub section: u16,
    /// How long the part of its path is that names the folder it lies in.
    folder: usize,
}

impl<'a> VisitorLine<'a> {
    /// What it is called: its title, else its path.
    pub fn name(&self) -> &'a str {
        self.title.unwrap_or(self.path)
    }

    /// A line with nothing but a URL.
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

    /// The folder it lies in, or the first two parts of that.
    fn folder(&self) -> &'a str {
        &self.path[..self.folder]
    }
}

/// Whether a path is that of a page which lists others, by the words that sites have for such pages: `/tag/ice/`, `/authors/`,
/// `/news/page/3/`, `/archive/2026/11/`. An article may lie below such a word: `/archive/the-last-train/`.
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

/// How a feed is made: what stands around it, all lines, and how many of them at most.
pub type MakeFeed = fn(&FeedFrame, &[VisitorLine<'_>], usize) -> Vec<u8>;

/// Text as it may stand in HTML or XML, in elements and attributes alike.
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

    /// A line with a path and a title alone.
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
    fn lists_are_told_by_their_paths(#[case] path: &str, #[case] wanted: bool) {
        assert_eq!(lists_others(path), wanted);
    }

    #[test]
    fn nothing_of_a_title_is_markup() {
        assert_eq!(escaped("<b>\"A\" & 'B'\u{0}</b>"), "&lt;b&gt;&quot;A&quot; &amp; &apos;B&apos;&lt;/b&gt;");
    }
}
