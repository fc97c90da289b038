//! Facts about a site as a whole.

/// A fact about the site as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fact {
    /// The seed of all keys.
    Seed,
    /// What the main file is, once it is an index.
    MainFile,
    /// The version of the page reader.
    Reader,
    /// A fingerprint of how the files beside the sitemaps were made.
    Extras,
    /// A fingerprint of what decided about the rows that are recognised unread.
    Choices,
    /// Whether entries are derived from others, or groups of translations found, and whether all of that was sound.
    Derived,
    /// The site's URL.
    Site,
    /// The name of the main file.
    Main,
    /// Whether files end in `.gz`.
    Gzip,
    /// Reasons whose share of left-out entries was accepted, each with that share in percent.
    AcceptedLeftOut,
    /// The declarations that the tool has made in robots.txt, one per line.
    Declared,
    /// The IndexNow key that the tool made.
    IndexNowKey,
}

impl Fact {
    /// Its name in the ledger.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Seed => "seed",
            Self::MainFile => "form",
            Self::Reader => "reader",
            Self::Extras => "people",
            Self::Choices => "choices",
            Self::Derived => "derived",
            Self::Site => "site",
            Self::Main => "main",
            Self::Gzip => "gzip",
            Self::AcceptedLeftOut => "accepted-left-out",
            Self::Declared => "declared",
            Self::IndexNowKey => "indexnow-key",
        }
    }
}

/// What a build derived from entries, packed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct DerivedBefore {
    /// The rows of archive pages.
    pub rows: Vec<u8>,
    /// The groups of translations of some entries.
    pub groups: Vec<u8>,
}
