//! Path patterns of rules and sections.

use globset::GlobSet;
use serde::{Serialize, Serializer};

/// Path patterns, with the text they were typed as.
#[derive(Debug, Clone)]
pub struct Patterns {
    /// The patterns.
    pub globs: GlobSet,
    /// As they were typed, for messages.
    pub written: String,
}

impl Serialize for Patterns {
    /// As they were typed: that decides what they match.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.written.serialize(serializer)
    }
}
