//! The names of guards, and builds that they held back.

use serde::Serialize;

/// The guard that held a build back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Guard {
    /// A section would lose a large share of its entries.
    Shrink,
    /// No entries would be left.
    Empty,
    /// One reason would leave out most of the site.
    LeftOut,
    /// The site has a new URL.
    NewUrl,
    /// The file to submit has a new name.
    NewMain,
    /// A section has a new name.
    NewSections,
    /// Files end in `.gz` that did not before, or the reverse.
    Gzip,
    /// robots.txt shuts out all engines.
    ShutOut,
    /// A file that another tool wrote would be overwritten.
    Overwrite,
    /// The clock is behind that of the last run.
    Clock,
    /// A source cannot be read, and nothing stands in for what it has.
    Part,
    /// Everything that the tool has written would leave the web root.
    Withdraw,
}

impl Guard {
    /// Why it holds a build back, for the user.
    pub fn words(self) -> &'static str {
        match self {
            Self::Shrink => "a section would lose a large share of its entries",
            Self::Empty => "nothing would be left to list",
            Self::LeftOut => "one reason would leave out most of the site",
            Self::NewUrl => "the site has another URL than before",
            Self::NewMain => "the file to submit has another name than before",
            Self::NewSections => "a section has another name than before",
            Self::Gzip => "files would end in .gz that did not before, or the reverse",
            Self::ShutOut => "robots.txt shuts engines out of the home page",
            Self::Overwrite => "a file that another tool wrote would be overwritten",
            Self::Clock => "the clock is behind that of the last run",
            Self::Part => "a source cannot be read, and nothing stands in for what it has",
            Self::Withdraw => "with --withdraw, everything that was written would leave the web root",
        }
    }

    /// All guards.
    pub const ALL: [Self; 12] = [
        Self::Shrink,
        Self::LeftOut,
        Self::NewUrl,
        Self::NewMain,
        Self::NewSections,
        Self::Gzip,
        Self::ShutOut,
        Self::Overwrite,
        Self::Clock,
        Self::Part,
        Self::Withdraw,
        Self::Empty,
    ];

    /// Its name in reports.
    pub fn code(self) -> &'static str {
        self.option().unwrap_or("empty")
    }

    /// The word that lets a build pass; `None` if it cannot be passed.
    pub fn option(self) -> Option<&'static str> {
        match self {
            Self::Empty => None,
            Self::Shrink => Some("shrink"),
            Self::LeftOut => Some("left-out"),
            Self::NewUrl => Some("new-url"),
            Self::NewMain => Some("new-main"),
            Self::NewSections => Some("new-sections"),
            Self::Gzip => Some("gzip"),
            Self::ShutOut => Some("shut-out"),
            Self::Overwrite => Some("overwrite"),
            Self::Clock => Some("clock"),
            Self::Part => Some("part"),
            Self::Withdraw => Some("withdraw"),
        }
    }

    /// How to go on, for the user.
    pub(crate) fn mend(self) -> &'static str {
        match self {
            Self::Empty => "See what is left out, and why",
            Self::Part => "Mend it; or, to go on without it",
            Self::Clock => "Set it right; or, if it was ahead then, let this run lower the dates that were recorded",
            _ => "If this is intended, let it pass",
        }
    }
}

/// A build that was held back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Held {
    /// The guard.
    pub guard: Guard,
    /// What would have happened.
    pub message: String,
    /// How to go on.
    pub mend: &'static str,
}
