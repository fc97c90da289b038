//! Runs: what each build found and did.

use atlas_core::rfc3339;
use serde::Serialize;

/// The summary of one build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct RunRow {
    /// Its number.
    pub run: i64,
    /// Its instant, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    pub at: i64,
    /// Its counts.
    #[serde(flatten)]
    pub counts: RunCounts,
}

/// The counts of a build.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct RunCounts {
    /// Entries in the sitemap.
    pub entries: u64,
    /// Added entries.
    pub added: u64,
    /// Entries whose page changed.
    pub changed: u64,
    /// Removed entries.
    pub removed: u64,
    /// Entries left out.
    pub left_out: u64,
    /// Files written.
    pub files_written: u64,
}
