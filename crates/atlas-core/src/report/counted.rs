//! Counts with examples.

use serde::Serialize;

/// How many, and a few examples.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Default)]
pub struct Counted {
    /// How many.
    pub count: u64,
    /// The first few addresses.
    pub examples: Vec<String>,
}
