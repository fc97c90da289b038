//! The preview of a build.

use atlas_core::choose::Reason;
use atlas_core::placement::FileKind;
use serde::Serialize;

use super::survey::Survey;

/// The preview of a build.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Preview {
    /// The findings.
    #[serde(flatten)]
    pub survey: Survey,
    /// What would happen to each sitemap file; those that would disappear come last.
    pub files: Vec<FilePreview>,
    /// URLs that would be added, at most the first 10,000.
    pub comes: Vec<String>,
    /// URLs whose pages changed, at most the first 10,000.
    pub edited: Vec<String>,
    /// URLs that would be removed, at most the first 10,000.
    pub goes: Vec<Goes>,
    /// URLs that would move to another section, at most the first 10,000.
    pub moves: Vec<Moves>,
    /// robots.txt, if it would change.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub robots_txt: Option<TextChange>,
    /// Other files that would be written.
    #[serde(rename = "asides")]
    pub extra_files: Vec<String>,
}

/// A text before and after.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TextChange {
    /// As it is; empty if there is none.
    pub before: String,
    /// As it would be.
    pub after: String,
}

/// What would happen to one sitemap file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FilePreview {
    /// Its address.
    pub address: String,
    /// Its kind.
    #[serde(rename = "strand")]
    pub kind: FileKind,
    /// What would happen to it.
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

/// What would happen to a sitemap file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Planned {
    /// It does not exist yet.
    New,
    /// It would have more entries.
    Grows,
    /// It would have fewer entries.
    Shrinks,
    /// It would have the same number of entries, with changes.
    Changes,
    /// Nothing would happen to it.
    Stays,
    /// It was touched or lost, and would be restored.
    Restored,
    /// It would leave the index.
    Vanishes,
}

/// A URL that would be removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Goes {
    /// The URL.
    pub url: String,
    /// Why it is left out; `None` if no source names it any more.
    pub reason: Option<Reason>,
    /// The reason in words.
    pub because: &'static str,
}

/// A URL that would move to another section.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Moves {
    /// The URL.
    pub url: String,
    /// The section it is in.
    pub from: String,
    /// The section it would be in.
    pub to: String,
}
