//! A build as it would be.

use atlas_core::choose::Reason;
use atlas_core::placement::FileKind;
use serde::Serialize;

use super::survey::Survey;

/// A build as it would be.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Preview {
    /// What was found.
    #[serde(flatten)]
    pub survey: Survey,
    /// What would become of each sitemap file, those that vanish last.
    pub files: Vec<FilePreview>,
    /// URLs that would come in, at most the first 10,000.
    pub comes: Vec<String>,
    /// URLs whose pages changed, at most the first 10,000.
    pub edited: Vec<String>,
    /// URLs that would go, at most the first 10,000.
    pub goes: Vec<Goes>,
    /// URLs that would change their section, at most the first 10,000.
    pub moves: Vec<Moves>,
    /// Other files that would be written.
    #[serde(rename = "asides")]
    pub extra_files: Vec<String>,
}

/// What would become of one sitemap file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FilePreview {
    /// Its address.
    pub address: String,
    /// What of its section it holds.
    #[serde(rename = "strand")]
    pub kind: FileKind,
    /// What would become of it.
    pub fate: Planned,
    /// Entries in it, as of the last build.
    pub entries_before: u64,
    /// Entries that would be in it.
    pub entries: u64,
    /// Its unpacked size, as of the last build.
    pub bytes_before: u64,
    /// The unpacked size it would have.
    pub bytes: u64,
}

/// What would become of a sitemap file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Planned {
    /// It is not there yet.
    New,
    /// It would have more entries.
    Grows,
    /// It would have fewer entries.
    Shrinks,
    /// It would have as many entries, and say something else of them.
    Changes,
    /// Nothing would happen to it.
    Stays,
    /// It was touched or lost, and would be written again as it was.
    Restored,
    /// It would leave the index.
    Vanishes,
}

/// A URL that would go.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Goes {
    /// The URL.
    pub url: String,
    /// Why it is left out; none where no source knows it any more.
    pub reason: Option<Reason>,
    /// The same, in words.
    pub because: &'static str,
}

/// A URL that would change its section.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Moves {
    /// The URL.
    pub url: String,
    /// The section it is in.
    pub from: String,
    /// The section it would be in.
    pub to: String,
}
