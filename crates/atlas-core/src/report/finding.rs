//! Findings: what `check` has to say.

use serde::Serialize;

/// How much a finding matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// An engine may refuse the file or a URL in it.
    Error,
    /// An engine may pass over part of it, or it says something untrue.
    Warning,
    /// It works, and could be better.
    Advice,
}

/// One thing that was found, however often.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Finding {
    /// The stable code.
    pub code: &'static str,
    /// How much it matters.
    pub severity: Severity,
    /// The file it is about, as an address.
    pub file: String,
    /// The line where it was seen first, counted from 1.
    pub line: Option<u64>,
    /// How often it was seen in this file.
    pub count: u64,
    /// What is wrong, with the first example.
    pub message: String,
    /// What to do about it.
    pub mend: &'static str,
}
