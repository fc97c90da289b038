//! The URLs that are most worth submitting by hand.

use std::cmp::Reverse;
use std::collections::HashSet;

use atlas_core::address;
use atlas_core::announce::EngineState;
use atlas_core::hint::depth;
use atlas_core::placement::FileKind;
use serde::Serialize;

use super::Ledger;
use crate::error::StoreError;
use crate::model::{tag, urls_of};

/// A page that is this deep or less is a main page.
const MAIN_DEPTH: usize = 1;

/// Why a URL is worth submitting. The first is worth most.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum WorthSubmitting {
    /// A page that an engine has not taken, by its own word.
    NotPickedUp,
    /// A main page that no engine has been told of.
    UnknownMainPage,
    /// A page that was added since the baseline and that no engine has been told of.
    NewAndUnknown,
    /// A page that was added since the baseline.
    New,
    /// A page that changed since the baseline.
    Changed,
    /// A page of the baseline that no engine has been told of.
    Unknown,
}

impl WorthSubmitting {
    /// The reason in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::NotPickedUp => "not picked up, by an engine's own word",
            Self::UnknownMainPage => "a main page that no engine has been told of",
            Self::NewAndUnknown => "new, and no engine has been told of it",
            Self::New => "new",
            Self::Changed => "added or changed since the first build",
            Self::Unknown => "no engine has been told of it",
        }
    }
}

/// A URL that is worth submitting.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct WorthUrl {
    /// Why.
    pub why: WorthSubmitting,
    /// Whether only something besides its text has changed. Those whose text has come first.
    #[serde(skip)]
    pub is_same_text: bool,
    /// The run in which it last changed, most recent first.
    #[serde(skip)]
    pub changed: Reverse<u32>,
    /// The number of parts of its path.
    #[serde(skip)]
    pub depth: usize,
    /// The URL.
    pub url: String,
}

/// The URLs that are most worth submitting by hand, best first, at most `most`. `engines` are those that are told of
/// URLs, `not_picked_up` the tags of pages that an engine has not taken. What was submitted counts again only once it has
/// changed; what engines are not to be told of does not count.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn worth_submitting(
    ledger: &dyn Ledger,
    engines: &[EngineState],
    not_picked_up: &HashSet<u64>,
    most: usize,
) -> Result<Vec<WorthUrl>, StoreError> {
    let submitted = ledger.submitted_urls()?;
    let additions = ledger.additions(0)?;
    let remembered = ledger.remembered()?;
    let mut best: Vec<WorthUrl> = Vec::new();
    for (file, segment) in remembered.segments(|kind| kind == FileKind::Pages) {
        let entries = ledger.entries_of(file.id, segment)?;
        let urls = urls_of(&ledger.body(file.id, segment.number)?, segment.size)?;
        for (entry, url) in entries.iter().zip(urls).filter(|(entry, _)| !entry.untold) {
            let run = i64::from(entry.changed);
            if submitted.get(&entry.key).is_some_and(|submitted| submitted.run >= run) {
                continue;
            }
            let is_known = engines.iter().any(|engine| engine.knows(run, entry.key));
            let depth = depth(address::path(&url));
            let why = match (additions.contains(&entry.key), is_known) {
                _ if not_picked_up.contains(&tag(entry.key)) => WorthSubmitting::NotPickedUp,
                (_, false) if depth <= MAIN_DEPTH => WorthSubmitting::UnknownMainPage,
                (true, false) => WorthSubmitting::NewAndUnknown,
                (true, true) => WorthSubmitting::New,
                (false, _) if run > 1 => WorthSubmitting::Changed,
                (false, false) => WorthSubmitting::Unknown,
                (false, true) => continue,
            };
            let is_same_text = why == WorthSubmitting::Changed && !entry.text_changed;
            best.push(WorthUrl { why, is_same_text, changed: Reverse(entry.changed), depth, url });
        }
        if best.len() > most.saturating_mul(2).max(1_000) {
            best.sort_unstable();
            best.truncate(most);
        }
    }
    best.sort_unstable();
    best.truncate(most);
    Ok(best)
}
