//! Runs: what each build found and did.

use atlas_core::rfc3339;
use serde::Serialize;

/// One build, in brief.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct RunRow {
    /// Its number.
    pub run: i64,
    /// Its instant, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    pub at: i64,
    /// What it counted.
    #[serde(flatten)]
    pub counts: RunCounts,
}

/// What a build counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct RunCounts {
    /// Entries in the sitemap.
    pub entries: u64,
    /// Entries that were not in before.
    pub added: u64,
    /// Entries whose page changed.
    pub changed: u64,
    /// Entries that were gone.
    pub removed: u64,
    /// Entries left out.
    pub left_out: u64,
    /// Files written.
    pub files_written: u64,
}
