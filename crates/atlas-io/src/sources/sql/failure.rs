//! Failures of queries, in words and without the connection, which may contain a password.

use std::io;
use std::time::Duration;

use atlas_core::number::count;

/// Why a query did not yield its rows.
#[derive(Debug)]
pub(super) struct QueryFailure {
    /// The reason in words.
    pub(super) why: String,
    /// Whether it may pass by itself, so that trying again makes sense.
    pub(super) may_pass: bool,
    /// Whether the server answered with an error, so that it is no longer busy with the query.
    pub(super) is_answered: bool,
    /// The error of the reader, which takes precedence.
    pub(super) reading: Option<io::ErrorKind>,
}

impl QueryFailure {
    /// A failure that will not pass, of a query that the server is no longer busy with.
    pub(super) fn lasting(why: impl Into<String>) -> Self {
        Self { why: why.into(), may_pass: false, is_answered: true, reading: None }
    }

    /// Rows could not be passed on.
    pub(super) fn reading(error: io::Error) -> Self {
        Self { is_answered: false, reading: Some(error.kind()), ..Self::lasting(error.to_string()) }
    }

    /// The query took longer than its source allows.
    pub(super) fn out_of_time(wait: Duration) -> Self {
        let wait = count(wait.as_secs(), "second", "seconds");
        Self::lasting(format!(
            "the query took longer than {wait} and was ended; allow it more with wait_seconds, or make it faster"
        ))
    }

    /// The failure as an error of the source, after this many tries.
    pub(super) fn into_error(self, tries: u32) -> io::Error {
        match self.reading {
            Some(kind) => io::Error::new(kind, self.why),
            None if tries > 1 => io::Error::other(format!("{}; tried {tries} times", self.why)),
            None => io::Error::other(self.why),
        }
    }
}
