//! The path patterns of rules and sections.

use globset::GlobSet;
use serde::{Serialize, Serializer};

/// Path patterns, with the text as typed.
#[derive(Debug, Clone)]
pub struct Patterns {
    /// The compiled patterns.
    pub globs: GlobSet,
    /// The text as typed, for messages.
    pub written: String,
}

impl Serialize for Patterns {
    /// Serializes the text as typed, which decides what they match.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.written.serialize(serializer)
    }
}
