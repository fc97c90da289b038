//! What engines have been told, and what they have still to be told.

use atlas_core::announce::Change;
use atlas_core::rfc3339;
use serde::Serialize;

/// One URL that an engine has to be told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pending {
    /// Its key, in whose order URLs are told.
    pub key: u128,
    /// The URL.
    pub url: String,
    /// What happened to it.
    pub change: Change,
}

/// An entry that is gone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tombstone {
    /// Its key.
    pub key: u128,
    /// Its URL.
    pub url: String,
    /// Gone, or redirected.
    pub change: Change,
}

/// What an entry was like when it left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Departure {
    /// The run in which it last changed.
    pub changed: u32,
    /// [`RememberedEntry::page`](super::LaneEntry::page).
    pub page: u64,
    /// [`RememberedEntry::declared`](super::LaneEntry::declared).
    pub declared: u32,
}

/// One message to one engine and what came of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Announced {
    /// The engine's name.
    pub engine: String,
    /// When, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    pub at: i64,
    /// The run up to which it tells.
    pub run: i64,
    /// The URLs in it.
    pub urls: u64,
    /// The HTTP status, where there was an answer.
    pub status: Option<u16>,
    /// What follows: `done`, `later`, `mend-first`, `refused`.
    pub outcome: String,
    /// The answer in words.
    pub words: String,
    /// The first few URLs.
    pub examples: Vec<String>,
}
