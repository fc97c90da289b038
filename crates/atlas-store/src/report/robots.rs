//! What became of robots.txt.

use serde::{Deserialize, Serialize};

/// A sitemap of others that robots.txt declares.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OtherSitemap {
    /// The line, counted from 1.
    pub line: usize,
    /// Its address.
    pub address: String,
}

/// What became of robots.txt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum RobotsFate {
    /// The configuration names none.
    Unnamed,
    /// It is not there, and must not be made: the site may well have one elsewhere.
    Missing,
    /// It was not there and was made.
    Created,
    /// It was not there and was made from the one that the live site serves.
    #[serde(rename = "taken-over")]
    TakenOver,
    /// A line was added, or one of ours taken out.
    Declared,
    /// It was right already.
    Unchanged,
}
