//! Path patterns of rules and sections.

use globset::GlobSet;

/// Path patterns, with the text they were typed as.
#[derive(Debug, Clone)]
pub struct Patterns {
    /// The patterns.
    pub globs: GlobSet,
    /// As they were typed, for messages.
    pub written: String,
}
