//! Kinds of file: a section's pages, and what stands in files of its own beside them.

use std::fmt;

use serde::{Deserialize, Serialize};

/// Which of a section's files an entry stands in: in each kind of file at most once.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum FileKind {
    /// The entries themselves, with all that is not in a kind of file of its own.
    #[default]
    Pages,
    /// Pictures, where they have files of their own.
    Images,
    /// Videos, where they have files of their own.
    Videos,
    /// The articles of the last days, as news.
    News,
}

impl FileKind {
    /// All of them, in the order in which an index lists their files.
    pub const ALL: [Self; 4] = [Self::Pages, Self::Images, Self::Videos, Self::News];

    /// Its word in file names and in the ledger.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Pages => "pages",
            Self::Images => "images",
            Self::Videos => "videos",
            Self::News => "news",
        }
    }

    /// The kind of file of that word.
    pub fn named(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.as_str() == word)
    }
}

impl fmt::Display for FileKind {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(self.as_str())
    }
}
