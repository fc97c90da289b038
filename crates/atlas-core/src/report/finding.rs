//! Findings: what `check` reports.

use serde::Serialize;

/// The severity of a finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// An engine may refuse the file or a URL in it.
    Error,
    /// An engine may ignore part of it, or it says something untrue.
    Warning,
    /// It works but could be better.
    Advice,
}

/// One finding in one file, however often it occurs.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Finding {
    /// The stable code.
    pub code: &'static str,
    /// Its severity.
    pub severity: Severity,
    /// The file, as an address.
    pub file: String,
    /// The line of the first occurrence, counted from 1.
    pub line: Option<u64>,
    /// The number of occurrences in this file.
    pub count: u64,
    /// What is wrong, with the first example.
    pub message: String,
    /// What to do about it.
    pub mend: &'static str,
}
