//! Files beside the sitemaps: what is for people, and what the site's own templates include.

use std::fmt;

use atlas_core::people::{STYLESHEET_NAME, TEXT, VISITOR_PAGE};

/// The feed of the newest as Atom.
pub(crate) const NEWEST_ATOM: &str = "atlas-newest.xml";
/// The feed of the newest as RSS.
pub(crate) const NEWEST_RSS: &str = "atlas-newest-rss.xml";

/// A file that is made whole, when it is wanted.
pub struct Aside<'a> {
    /// Its name in the ledger.
    pub name: String,
    make: Box<dyn Fn() -> Vec<u8> + Sync + 'a>,
}

impl<'a> Aside<'a> {
    /// A file that `make` makes: always the same bytes.
    pub fn new(name: impl Into<String>, make: impl Fn() -> Vec<u8> + Sync + 'a) -> Self {
        Self { name: name.into(), make: Box::new(make) }
    }

    /// A file that stands as it is to be: it is never made.
    pub(crate) fn standing(name: impl Into<String>) -> Self {
        Self::new(name, Vec::new)
    }

    /// Makes it.
    pub fn bytes(&self) -> Vec<u8> {
        (self.make)()
    }
}

impl fmt::Debug for Aside<'_> {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.debug_tuple("Aside").field(&self.name).finish()
    }
}

/// Whether a file of ours is no sitemap: nobody holds on to one that is no longer wanted, so it goes at once.
pub(crate) fn is_aside(name: &str) -> bool {
    let elsewhere = name.starts_with("site:") || name.starts_with("data:");
    let named = [STYLESHEET_NAME, VISITOR_PAGE, TEXT, NEWEST_ATOM, NEWEST_RSS].contains(&name);
    elsewhere || named || name.ends_with(".html") || name.ends_with(".txt")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("atlas.css", true)]
    #[case("atlas-journal-3.html", true)]
    #[case("atlas-2.txt", true)]
    #[case("atlas-newest.xml", true)]
    #[case("data:films/weir.json", true)]
    #[case("sitemap.xml", false)]
    #[case("atlas-newest-1.xml.gz", false)]
    fn sitemaps_are_told_from_other_files(#[case] name: &str, #[case] wanted: bool) {
        assert_eq!(is_aside(name), wanted);
    }
}
