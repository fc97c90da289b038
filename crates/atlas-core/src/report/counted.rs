//! Counts with examples.

use serde::Serialize;

/// A count with a few examples.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Default)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Counted {
    /// The count.
    pub count: u64,
    /// The first few addresses.
    pub examples: Vec<String>,
}
