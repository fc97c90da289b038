//! Problems: what could not be read.

use serde::Serialize;

/// Something in a source that could not be read, or that deserves a look. The rest of the source still counts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Problem {
    /// The file, as the user named it, or relative to the folder that the user named.
    pub file: String,
    /// The line, counted from 1.
    pub line: Option<u64>,
    /// What is wrong, what was expected, and how to fix it.
    pub message: String,
    /// Whether a row or file is not listed because of it.
    pub passed_over: bool,
}
