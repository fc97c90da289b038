//! The names of the tool's files: how they are made, and how they are recognised.

use std::collections::BTreeSet;

use super::file_kind::FileKind;
use serde::Serialize;

/// The beginning of the names of child files.
pub const CHILD_PREFIX: &str = "atlas-";
/// The stylesheet of sitemap files.
pub const STYLESHEET_NAME: &str = "atlas.css";
/// The page for visitors.
pub const VISITOR_PAGE: &str = "atlas.html";
/// The text sitemap.
pub const TEXT: &str = "atlas.txt";
/// The Atom feed of the newest entries.
pub const NEWEST_ATOM: &str = "atlas-newest.xml";
/// The RSS feed of the newest entries.
pub const NEWEST_RSS: &str = "atlas-newest-rss.xml";
/// The suffix of compressed files.
const PACKED: &str = ".gz";
/// The suffix of sitemap files.
const XML: &str = ".xml";

/// The tool's own files among the site's URLs.
#[derive(Debug, Clone, Default, Serialize)]
pub struct OwnFiles {
    /// The address of the folder with the main file.
    pub folder: String,
    /// The name of the main file.
    pub main: String,
    /// Addresses of other files that the tool writes or has written. Their names begin with “atlas” or end in `.xml` or
    /// `.gz`.
    pub others: BTreeSet<String>,
    /// Addresses of files that the configuration names, whatever they are called.
    pub named: BTreeSet<String>,
}

impl OwnFiles {
    /// Whether an address is one of them: the main file, a child file beside it, a compressed copy of either, or one of
    /// the others.
    pub fn holds(&self, address: &str) -> bool {
        if !self.may_hold(address) {
            return false;
        }
        let in_folder = address.strip_prefix(&self.folder).is_some_and(|name| self.names(name));
        in_folder || self.others.contains(address) || self.named.contains(address)
    }

    /// Whether an address could be one of them, now or once more files are written. A quick check of the last part of
    /// the address, because most of a site's addresses look nothing like these files.
    pub fn may_hold(&self, address: &str) -> bool {
        if self.named.contains(address) {
            return true;
        }
        let last = address.as_bytes();
        if last.ends_with(b"/") {
            return false;
        }
        let last = &last[memchr::memrchr(b'/', last).map_or(0, |at| at + 1)..];
        last.starts_with(b"atlas") || last.ends_with(b".xml") || last.ends_with(b".gz")
    }

    fn names(&self, name: &str) -> bool {
        let name = plain_name(name);
        let child = name.starts_with(CHILD_PREFIX) && name.ends_with(XML);
        (name == self.main || child) && !name.contains('/')
    }
}

/// The name of a child file, without `.gz`. The name of a section contains no dot, so the kind of a file can never be
/// taken for part of another section's name.
pub fn child_name(section: &str, kind: FileKind, number: u32) -> String {
    match kind {
        FileKind::Pages => format!("{CHILD_PREFIX}{section}-{number}.xml"),
        kind => format!("{CHILD_PREFIX}{section}.{kind}-{number}.xml"),
    }
}

/// The section, kind and number of a child file with this name.
pub fn parts_of(name: &str) -> Option<(&str, FileKind, u32)> {
    let (rest, number) = plain_name(name).strip_prefix(CHILD_PREFIX)?.strip_suffix(XML)?.rsplit_once('-')?;
    let (section, kind) = match rest.split_once('.') {
        Some((section, kind)) => (section, FileKind::named(kind)?),
        None => (rest, FileKind::Pages),
    };
    Some((section, kind, number.parse().ok()?))
}

/// Whether a name is that of a compressed file.
pub fn is_packed(name: &str) -> bool {
    name.ends_with(PACKED)
}

/// The name without `.gz`.
pub fn plain_name(name: &str) -> &str {
    name.strip_suffix(PACKED).unwrap_or(name)
}

/// The name of the compressed copy.
pub fn packed_name(name: &str) -> String {
    format!("{name}{PACKED}")
}

/// The name of the index with this number, counted from 1, which is the main file: `sitemap.xml`, `sitemap-2.xml` and
/// so on.
pub fn index_name(main: &str, number: usize) -> String {
    match number {
        0 | 1 => main.to_owned(),
        _ => format!("{}-{number}{XML}", stem(main)),
    }
}

/// Whether a name is that of an index other than the main file.
pub fn is_further_index(main: &str, name: &str) -> bool {
    let number = plain_name(name).strip_prefix(stem(main)).and_then(|rest| rest.strip_prefix('-')?.strip_suffix(XML));
    number.is_some_and(|number| number.parse::<u32>().is_ok())
}

fn stem(main: &str) -> &str {
    main.strip_suffix(XML).unwrap_or(main)
}

/// Whether a name is that of a sitemap file or index of this tool.
pub(crate) fn is_sitemap(main: &str, name: &str) -> bool {
    let plain = plain_name(name);
    plain == main || plain.starts_with(CHILD_PREFIX) || is_further_index(main, name)
}

/// The name of a file of the text sitemap, counted from 0.
pub fn text_file_name(at: usize) -> String {
    if at == 0 { TEXT.to_owned() } else { format!("{CHILD_PREFIX}{}.txt", at + 1) }
}

/// Whether a file in the ledger is not a sitemap. Nobody depends on such a file, so it is deleted as soon as it is no
/// longer wanted.
pub fn is_extra_file(name: &str) -> bool {
    let elsewhere = name.starts_with("site:") || name.starts_with("data:");
    let named = [STYLESHEET_NAME, VISITOR_PAGE, TEXT, NEWEST_ATOM, NEWEST_RSS].contains(&name);
    elsewhere || named || name.ends_with(".html") || name.ends_with(".txt")
}

/// The media type of a file of ours: that of sitemaps (sitemaps.org asks for XML), of feeds (RFC 4287, section 7; RSS is
/// widely served as application/rss+xml), and of what lies beside them.
pub fn media_type(name: &str) -> &'static str {
    match (name, name.rsplit('.').next().unwrap_or_default()) {
        (NEWEST_ATOM, _) => "application/atom+xml",
        (NEWEST_RSS, _) => "application/rss+xml",
        (_, "xml") => "application/xml",
        (_, "gz") => "application/gzip",
        (_, "css") => "text/css; charset=utf-8",
        (_, "html") => "text/html; charset=utf-8",
        (_, "json") => "application/json",
        _ => "text/plain; charset=utf-8",
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("atlas-pages-1.xml", Some(("pages", FileKind::Pages, 1)))]
    #[case("atlas-cab-rides-12.xml.gz", Some(("cab-rides", FileKind::Pages, 12)))]
    #[case("atlas-halts.images-3.xml", Some(("halts", FileKind::Images, 3)))]
    #[case("atlas-halts.lamps-3.xml", None)]
    #[case("atlas-newest.xml", None)]
    #[case("sitemap.xml", None)]
    fn names_give_section_kind_and_number(#[case] name: &str, #[case] wanted: Option<(&str, FileKind, u32)>) {
        assert_eq!(parts_of(name), wanted);
    }

    #[rstest]
    #[case("atlas.css", true)]
    #[case("atlas-journal-3.html", true)]
    #[case("atlas-2.txt", true)]
    #[case("atlas-newest.xml", true)]
    #[case("data:films/weir.json", true)]
    #[case("sitemap.xml", false)]
    #[case("atlas-newest-1.xml.gz", false)]
    fn sitemaps_are_distinguished_from_other_files(#[case] name: &str, #[case] wanted: bool) {
        assert_eq!(is_extra_file(name), wanted);
    }

    #[rstest]
    #[case("sitemap.xml", true)]
    #[case("sitemap-2.xml.gz", true)]
    #[case("atlas-pages-1.xml", true)]
    #[case("sitemap-old.xml", false)]
    #[case("feed.xml", false)]
    fn own_sitemap_files_are_recognised(#[case] name: &str, #[case] wanted: bool) {
        assert_eq!(is_sitemap("sitemap.xml", name), wanted);
        assert_eq!(is_further_index("sitemap.xml", name), name.starts_with("sitemap-2"));
        assert_eq!(index_name("sitemap.xml", 2), "sitemap-2.xml");
        assert_eq!([text_file_name(0), text_file_name(1)], ["atlas.txt", "atlas-2.txt"]);
    }
}
