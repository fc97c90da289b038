//! Runs: what each build found and did.

use atlas_core::rfc3339;
use serde::Serialize;

/// The summary of one build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RunRow {
    /// Its number.
    pub run: i64,
    /// Its instant, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub at: i64,
    /// How long it took, in milliseconds.
    pub took_ms: u64,
    /// What started it.
    pub started_by: StartedBy,
    /// Whether files were compressed: `beside`, `only` or `off`.
    pub gzip: String,
    /// Its counts.
    #[serde(flatten)]
    pub counts: RunCounts,
}

/// URLs that a run brought, changed and took away. Of each kind, the first 10,000.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RunUrls {
    /// Those that were not listed before.
    pub added: Vec<String>,
    /// Those whose page changed.
    pub changed: Vec<String>,
    /// Those that no source names any more.
    pub removed: Vec<String>,
    /// Those that were listed before and are left out now.
    pub left_out: Vec<String>,
}

impl RunUrls {
    /// Each kind with its name.
    pub fn kinds(&self) -> [(&'static str, &Vec<String>); 4] {
        [("added", &self.added), ("changed", &self.changed), ("removed", &self.removed), ("left_out", &self.left_out)]
    }

    /// The list of a kind, by its name.
    pub(crate) fn of_kind(&mut self, kind: &str) -> Option<&mut Vec<String>> {
        match kind {
            "added" => Some(&mut self.added),
            "changed" => Some(&mut self.changed),
            "removed" => Some(&mut self.removed),
            "left_out" => Some(&mut self.left_out),
            _ => None,
        }
    }
}

/// The counts of a build.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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
    /// Sitemap files.
    pub files: u64,
    /// The size of all sitemap files, unpacked, in bytes.
    pub bytes: u64,
    /// Rows and files that could not be read, and remarks.
    pub warnings: u64,
}

/// What started a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum StartedBy {
    /// Somebody at a terminal.
    Hand,
    /// `watch`.
    Watch,
    /// A timer, by `watch --once`.
    Timer,
    /// A unit of the system's service manager.
    Unit,
    /// Another program.
    #[default]
    Program,
}

impl StartedBy {
    /// Its word in the ledger.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Hand => "hand",
            Self::Watch => "watch",
            Self::Timer => "timer",
            Self::Unit => "unit",
            Self::Program => "program",
        }
    }

    /// What this word stands for.
    pub fn of_word(word: &str) -> Option<Self> {
        [Self::Hand, Self::Watch, Self::Timer, Self::Unit, Self::Program].into_iter().find(|one| one.as_str() == word)
    }
}

/// A build that did not go through.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AttemptRow {
    /// Its instant, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub at: i64,
    /// What became of it.
    pub ended: AttemptEnd,
    /// Why.
    pub reason: String,
    /// What started it.
    pub started_by: StartedBy,
}

/// What became of a build that did not go through.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum AttemptEnd {
    /// A guard held it back.
    Held,
    /// It failed.
    Failed,
    /// It was asked to stop.
    Stopped,
}

impl AttemptEnd {
    /// Its word in the ledger.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Held => "held",
            Self::Failed => "failed",
            Self::Stopped => "stopped",
        }
    }

    /// What this word stands for.
    pub(crate) fn of_word(word: &str) -> Self {
        [Self::Held, Self::Stopped].into_iter().find(|one| one.as_str() == word).unwrap_or(Self::Failed)
    }
}
