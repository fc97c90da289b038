//! A query on any kind of database.

use std::io;
use std::time::Duration;

use atlas_core::number::count;
use serde_json::{Map, Value};

use crate::reading::json_array::JsonArrayLines;
use crate::reading::record::RecordSettings;

use super::connection::Database;

/// A query.
#[derive(Debug, Clone)]
pub struct SqlSource {
    /// Where.
    pub database: Database,
    /// Its name: see [`shown`](super::shown).
    pub shown: String,
    /// The query.
    pub query: String,
    /// How its rows are read.
    pub records: RecordSettings,
    /// Its time limit.
    pub wait: Duration,
}

impl SqlSource {
    /// The query without a final semicolon, so that it can be embedded in another.
    pub(super) fn bare(&self) -> &str {
        self.query.trim().trim_end_matches(|letter: char| letter == ';' || letter.is_whitespace())
    }

    pub(super) fn out_of_time(&self) -> io::Error {
        io::Error::other(format!(
            "the query took longer than {} (wait_seconds)",
            count(self.wait.as_secs(), "second", "seconds")
        ))
    }
}

/// Passes on a row.
pub(super) fn push(object: &Map<String, Value>, lines: &mut JsonArrayLines) -> io::Result<()> {
    lines.push(&serde_json::to_vec(object).map_err(io::Error::from)?)
}
