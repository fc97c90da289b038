//! The result of a build.

use atlas_core::placement::is_extra_file;
use serde::Serialize;

use super::last::LastBuild;
use super::survey::Survey;

/// The result of a build.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Built {
    /// The number of the run.
    pub run: i64,
    /// The findings, and what was written.
    #[serde(flatten)]
    pub survey: Survey,
    /// Names of the files in the web root that were written, including indexes and copies.
    pub written: Vec<String>,
    /// Names of files that left the index. They stay on disk for some days.
    pub retired: Vec<String>,
    /// Names of files that were removed from disk.
    pub removed: Vec<String>,
    /// Names of files of other tools that were overwritten, and copied into the ledger's folder before.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub kept: Vec<String>,
    /// The address that the main file had before this build renamed it. It stands for some days.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub moved_main: Option<String>,
    /// The number of changes that engines have to be told of.
    pub to_announce: u64,
    /// A fingerprint of the configuration.
    pub configuration: String,
    /// The report of the last build, if it was made under the same configuration.
    #[serde(skip)]
    pub last: Option<LastBuild>,
}

impl Built {
    /// The written files that are not sitemaps.
    pub fn extra_files(&self) -> impl Iterator<Item = &str> {
        self.written.iter().map(String::as_str).filter(|name| is_extra_file(name))
    }
}
