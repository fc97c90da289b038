//! What engines have been told, and what they have still to be told.

use atlas_core::announce::Change;
use atlas_core::rfc3339;
use serde::Serialize;

/// One URL that an engine has still to be told of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pending {
    /// Its key. The URLs of a run are announced in the order of their keys.
    pub key: u128,
    /// The URL.
    pub url: String,
    /// The change.
    pub change: Change,
    /// The run in which it changed; 0 if it waits apart from all runs.
    pub run: i64,
    /// Whether it is the last of its run.
    pub ends_run: bool,
}

/// A URL that an engine was told of a short time ago.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToldUrl {
    /// Its key.
    pub key: u128,
    /// The URL.
    pub url: String,
    /// When it was told of it, in seconds since 1970.
    pub at: i64,
    /// The last run at that time: it knows all changes up to that run.
    pub run: i64,
    /// The change of which it has still to be told, when the pause is over.
    pub waits: Option<Change>,
}

/// A URL that the user submitted in a console.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SubmittedUrl {
    /// The URL.
    pub url: String,
    /// When, in seconds since 1970.
    pub at: i64,
    /// The last run at that time.
    pub run: i64,
}

/// A sitemap file that the user submitted in a console.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SubmittedFile {
    /// The name by which the user knows the console.
    pub console: String,
    /// The address of the file.
    pub address: String,
    /// When, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub at: i64,
}

/// An entry that is no longer listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tombstone {
    /// Its key.
    pub key: u128,
    /// Its URL.
    pub url: String,
    /// The section that it was in.
    pub section: String,
    /// Its title, if a source remembered its page.
    pub title: Option<String>,
    /// Removed or redirected; `None` if its source left the configuration, which engines are not told.
    pub change: Option<Change>,
}

/// The state of an entry when it left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Departure {
    /// The run in which it last changed.
    pub changed: u32,
    /// [`RememberedEntry::page`](super::RememberedEntry::page).
    pub page: u64,
    /// [`RememberedEntry::declared`](super::RememberedEntry::declared).
    pub declared: u32,
}

/// One message to one engine, and the outcome.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Announced {
    /// The engine's name.
    pub engine: String,
    /// The instant, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub at: i64,
    /// The run up to which it announces changes.
    pub run: i64,
    /// The URLs in it.
    pub urls: u64,
    /// The HTTP status, if there was an answer.
    pub status: Option<u16>,
    /// What to do next: `done`, `later`, `mend-first`, `refused`.
    pub outcome: String,
    /// The answer in words.
    pub words: String,
    /// The first few URLs.
    pub examples: Vec<String>,
}
