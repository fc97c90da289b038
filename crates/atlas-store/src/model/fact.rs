//! Facts about a site as a whole.

/// What the ledger remembers of a site as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fact {
    /// The seed of all keys.
    Seed,
    /// The form of the main file, once it is an index.
    MainFile,
    /// The version of the page reader.
    Reader,
    /// How the files beside the sitemaps were made.
    Extras,
    /// What rows were decided by that are known unread.
    Choices,
    /// The site's URL.
    Site,
    /// The name of the main file.
    Main,
    /// Whether files end in `.gz`.
    Gzip,
    /// Reasons whose share was accepted, each with that share in percent.
    AcceptedLeftOut,
    /// The declarations that the tool has made in robots.txt, one a line.
    Declared,
    /// The IndexNow key that was made.
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
            Self::Site => "site",
            Self::Main => "main",
            Self::Gzip => "gzip",
            Self::AcceptedLeftOut => "accepted-left-out",
            Self::Declared => "declared",
            Self::IndexNowKey => "indexnow-key",
        }
    }
}
