//! The result of an announcement to one engine.

use atlas_core::announce::{ChangeCounts, LeftAlone};
use atlas_core::rfc3339;
use atlas_store::model::Announced;
use serde::Serialize;

use super::{EngineSettings, LiveReport, Tells};

/// The result for one engine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct EngineReport {
    /// The engine's name.
    pub engine: String,
    /// The number of URLs that it accepted.
    pub taken: u64,
    /// The number of URLs that it refused for good.
    pub refused: u64,
    /// The number of URLs that are kept for the next time.
    pub kept: u64,
    /// The numbers of added, changed, removed and redirected URLs among all of them.
    pub changes: ChangeCounts,
    /// Each message.
    pub messages: Vec<Announced>,
    /// Until when it is left alone, because it asked for that or failed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub left_alone: Option<LeftAlone>,
    /// What the live site does not serve yet, and is not told for that reason.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_live: Option<LiveReport>,
    /// URLs that wait for a time that the configuration sets.
    pub waiting: Vec<Waiting>,
    /// The word for its protocol.
    pub via: &'static str,
    /// Whether it is told of files rather than of URLs.
    pub of_files: bool,
    /// If it was never told anything: the number of URLs that are the baseline from which changes are counted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub baseline: Option<u64>,
    /// Whether what it was told of was chosen by hand; what is left of that is not kept.
    pub by_hand: bool,
    /// It has given up being told in this way, and nothing is kept for it.
    pub retired: bool,
    /// Why it could not be told anything.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
    /// The round was stopped after this many messages, of this many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stopped: Option<u64>,
}

/// URLs that wait for a time that the configuration sets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Waiting {
    /// How many.
    pub urls: u64,
    /// When the next of them may be announced, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub until: i64,
    /// What they wait for.
    pub why: WaitsFor,
}

/// What URLs wait for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum WaitsFor {
    /// As many as a day allows have been announced.
    Allowance,
    /// They were announced a short time ago.
    Pause,
    /// The round took as long as it may.
    Time,
}

impl EngineReport {
    /// The report on an engine that cannot be told anything, and why.
    pub fn of_trouble(engine: &EngineSettings, kept: u64, problem: String) -> Self {
        Self { kept, problem: Some(problem), ..Self::of(&engine.name, engine.via.word, engine.tells) }
    }

    pub(super) fn of(engine: &str, via: &'static str, tells: Tells) -> Self {
        Self {
            engine: engine.to_owned(),
            via,
            of_files: tells.of_files(),
            baseline: None,
            by_hand: false,
            retired: false,
            taken: 0,
            refused: 0,
            kept: 0,
            changes: ChangeCounts::default(),
            messages: Vec::new(),
            left_alone: None,
            not_live: None,
            waiting: Vec::new(),
            problem: None,
            stopped: None,
        }
    }
}
