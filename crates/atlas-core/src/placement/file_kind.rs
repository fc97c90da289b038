//! Kinds of sitemap file: pages, and images, videos and news in files of their own.

use std::fmt;

use serde::{Deserialize, Serialize};

/// The kind of a sitemap file. An entry is in at most one file of each kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum FileKind {
    /// The entries themselves, with everything that is not in a file of its own.
    #[default]
    Pages,
    /// Pictures, if they have files of their own.
    Images,
    /// Videos, if they have files of their own.
    Videos,
    /// News articles of the last days.
    News,
}

impl FileKind {
    /// All kinds, in the order in which an index lists their files.
    pub const ALL: [Self; 4] = [Self::Pages, Self::Images, Self::Videos, Self::News];

    /// The word for it in file names and in the ledger.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Pages => "pages",
            Self::Images => "images",
            Self::Videos => "videos",
            Self::News => "news",
        }
    }

    /// The kind that this word names.
    pub fn named(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.as_str() == word)
    }
}

impl fmt::Display for FileKind {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(self.as_str())
    }
}
