//! A query on any kind of database.

use std::time::Duration;

/// A query.
#[derive(Debug, Clone)]
pub(super) struct Query<'s> {
    /// The query as typed.
    pub(super) text: &'s str,
    /// Its time limit.
    pub(super) wait: Duration,
    /// The name of the site's zone.
    #[cfg_attr(not(feature = "sql-servers"), expect(dead_code, reason = "files know no zones"))]
    pub(super) zone: String,
}

impl Query<'_> {
    /// The query without a final semicolon, so that it can be embedded in another.
    pub(super) fn bare(&self) -> &str {
        self.text.trim().trim_end_matches(|letter: char| letter == ';' || letter.is_whitespace())
    }
}
