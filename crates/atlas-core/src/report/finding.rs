//! Findings: what `check` reports.

use std::fmt;

use serde::Serialize;

/// The severity of a finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// An engine may refuse the file or a URL in it.
    Error,
    /// An engine may ignore part of it, or it says something untrue.
    Warning,
    /// It works but could be better.
    Advice,
}

impl Severity {
    /// All severities, the worst first.
    pub const ALL: [Self; 3] = [Self::Error, Self::Warning, Self::Advice];
}

impl fmt::Display for Severity {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(match self {
            Self::Error => "error",
            Self::Warning => "warning",
            Self::Advice => "advice",
        })
    }
}

/// One finding at one place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Finding {
    /// The stable code.
    pub code: &'static str,
    /// Its severity.
    pub severity: Severity,
    /// The file, as an address.
    pub file: Option<String>,
    /// The line in the file, counted from 1.
    pub line: Option<u64>,
    /// The URL that it is about.
    pub url: Option<String>,
    /// What is wrong.
    pub what: String,
    /// What to do about it.
    pub mend: &'static str,
}

impl Finding {
    /// What it is about: the URL, or else the file. Known findings are recognised by this and the code.
    pub fn about(&self) -> &str {
        self.url.as_deref().or(self.file.as_deref()).unwrap_or_default()
    }
}
