//! Problems: what could not be read.

use serde::Serialize;

/// Something in a source that could not be read, or is worth a look. The rest of the source counts all the same.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Problem {
    /// The file, as the user named it or below the folder the user named.
    pub file: String,
    /// The line, counted from 1.
    pub line: Option<u64>,
    /// What is wrong, what was expected, how to mend it.
    pub message: String,
    /// A row or file is not listed because of it.
    pub passed_over: bool,
}
