//! The kinds of change that engines are told of.

use serde::Serialize;

/// A change that engines are told of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Change {
    /// It was added.
    Added,
    /// Its page changed.
    Changed,
    /// Its page no longer exists.
    Removed,
    /// It now redirects elsewhere.
    Redirected,
}

impl Change {
    /// The word for it in output and in the ledger.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Added => "added",
            Self::Changed => "changed",
            Self::Removed => "removed",
            Self::Redirected => "redirected",
        }
    }
}

impl Change {
    /// The change with this word.
    pub fn of_word(word: &str) -> Option<Self> {
        [Self::Added, Self::Changed, Self::Removed, Self::Redirected].into_iter().find(|one| one.as_str() == word)
    }
}

/// The number of changes of each kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Default)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ChangeCounts {
    /// Added.
    pub added: u64,
    /// Changed.
    pub changed: u64,
    /// Removed.
    pub removed: u64,
    /// Redirected.
    pub redirected: u64,
}

impl ChangeCounts {
    /// Counts one more.
    pub fn add(&mut self, change: Change) {
        *match change {
            Change::Added => &mut self.added,
            Change::Changed => &mut self.changed,
            Change::Removed => &mut self.removed,
            Change::Redirected => &mut self.redirected,
        } += 1;
    }
}

impl Extend<Change> for ChangeCounts {
    fn extend<I: IntoIterator<Item = Change>>(&mut self, changes: I) {
        changes.into_iter().for_each(|change| self.add(change));
    }
}
