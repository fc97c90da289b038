//! What happened to robots.txt.

use serde::{Deserialize, Serialize};

/// A sitemap of another tool that robots.txt declares.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct OtherSitemap {
    /// The line, counted from 1.
    pub line: usize,
    /// Its address.
    pub address: String,
}

/// What happened to robots.txt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum RobotsFate {
    /// The configuration does not name one.
    Unnamed,
    /// It does not exist and must not be created: the site may well have one elsewhere.
    Missing,
    /// It did not exist and was created.
    Created,
    /// It did not exist and was created from the one that the live site serves.
    #[serde(rename = "taken-over")]
    TakenOver,
    /// A line was added, or one of ours was removed.
    Declared,
    /// It was already up to date.
    Unchanged,
}
