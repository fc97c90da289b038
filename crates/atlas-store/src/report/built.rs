//! What a build did.

use atlas_core::placement::is_extra_file;
use serde::Serialize;

use super::last::LastBuild;
use super::survey::Survey;

/// What a build did.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Built {
    /// The number of the run.
    pub run: i64,
    /// What was found and written.
    #[serde(flatten)]
    pub survey: Survey,
    /// Names of the files in the web root that were written, index and copies included.
    pub written: Vec<String>,
    /// Names of files that left the index; they stay on disk for some days.
    pub retired: Vec<String>,
    /// Names of files that were removed from disk.
    pub removed: Vec<String>,
    /// How many changes engines are to be told of.
    pub to_announce: u64,
    /// A fingerprint of the configuration.
    pub configuration: String,
    /// What the last build said, where it was made under the same configuration.
    #[serde(skip)]
    pub last: Option<LastBuild>,
}

impl Built {
    /// Of the files that were written, those that are no sitemaps.
    pub fn extra_files(&self) -> impl Iterator<Item = &str> {
        self.written.iter().map(String::as_str).filter(|name| is_extra_file(name))
    }
}
