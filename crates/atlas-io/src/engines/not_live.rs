//! What is not told yet because the live site does not serve it.

use std::collections::{HashMap, HashSet};

use atlas_core::announce::live::{ExpectedLive, NotLive};
use atlas_core::announce::{Change, EngineState};
use atlas_core::placement::{NEWEST_ATOM, NEWEST_RSS};
use atlas_core::rfc3339;
use atlas_store::destination::Names;
use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger, PendingChanges};
use atlas_store::model::{Fact, OutputRuns, Pending, ToldUrl};
use serde::Serialize;

use super::Tells;
use crate::live::LiveSite;

/// If more pages than this are to be announced, so many of them are looked at.
const SAMPLE: usize = 100;
/// The most changed sitemap files that are looked at.
const MOST_FILES: usize = 200;
/// In a sample, this share of pages that are not live holds back the rest: one in so many.
const DOUBTFUL: usize = 10;
/// After so many seconds it is no longer a matter of waiting.
const OVERDUE: i64 = 86_400;
/// How many pages and files are named in a report.
const EXAMPLES: usize = 5;

/// What is not told yet because the live site does not serve it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LiveReport {
    /// The URLs or files that wait.
    pub waiting: u64,
    /// The URLs that are given up: after a day they were not as they should be.
    pub given_up: u64,
    /// Since when something waits, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub since: i64,
    /// Whether that is longer ago than a day.
    pub is_overdue: bool,
    /// Whether the key file is among what is missing.
    pub misses_key_file: bool,
    /// What was seen, of the first few.
    pub seen: Vec<SeenLive>,
}

/// A file or page that the live site does not serve as it was built.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SeenLive {
    /// Its address.
    pub address: String,
    /// What is wrong.
    pub why: NotLive,
    /// The same in words.
    pub words: String,
}

impl SeenLive {
    fn new(address: &str, why: &NotLive) -> Self {
        Self { address: address.to_owned(), why: why.clone(), words: why.to_string() }
    }
}

/// The result of looking at the live site.
pub(super) struct Looked {
    /// What may be told.
    pub(super) free: PendingChanges,
    /// What waits on its own, while the rest is told.
    pub(super) held: Vec<ToldUrl>,
    /// What is given up, and why.
    pub(super) given_up: Vec<(Pending, NotLive)>,
    /// What waits, if anything does.
    pub(super) report: Option<LiveReport>,
}

/// An engine and its progress, for a look at the live site.
pub(super) struct Look<'l> {
    pub(super) ledger: &'l dyn Ledger,
    pub(super) live: &'l dyn LiveSite,
    pub(super) names: &'l Names,
    pub(super) engine: &'l str,
    pub(super) tells: Tells,
    /// The address and text of the key file, if the protocol has one.
    pub(super) key: Option<&'l (String, String)>,
    pub(super) state: &'l EngineState,
    /// In seconds since 1970.
    pub(super) now: i64,
}

impl Look<'_> {
    /// Divides what is to be announced by whether the live site serves it.
    pub(super) fn at(&self, pending: PendingChanges) -> Result<Looked, StoreError> {
        let none = Looked { free: PendingChanges::default(), held: Vec::new(), given_up: Vec::new(), report: None };
        if pending.is_empty() {
            return Ok(Looked { free: pending, ..none });
        }
        let files = self.files(&pending)?;
        let wrong = self.wrong(&files)?;
        if !wrong.is_empty() {
            return Ok(Looked { report: Some(self.all_wait(pending.len(), &wrong)?), ..none });
        }
        if self.tells.of_files() {
            self.all_files_are_live()?;
            return Ok(Looked { free: pending, ..none });
        }
        let pages = self.pages(&pending)?;
        let wrong = self.wrong(&pages)?;
        if pending.len() > SAMPLE && wrong.len() * DOUBTFUL > pages.len() {
            return Ok(Looked { report: Some(self.all_wait(pending.len(), &wrong)?), ..none });
        }
        self.all_files_are_live()?;
        self.without(pending, &wrong)
    }

    /// Forgets since when they were not.
    fn all_files_are_live(&self) -> Result<(), StoreError> {
        match self.ledger.fact(Fact::NotLiveSince)? {
            Some(_) => self.ledger.set_fact(Fact::NotLiveSince, None),
            None => Ok(()),
        }
    }

    /// What is not as expected.
    fn wrong(&self, expected: &[ExpectedLive]) -> Result<Vec<(String, NotLive)>, StoreError> {
        let seen = self.live.look(expected)?;
        let wrong = expected.iter().zip(seen).filter_map(|(one, why)| Some((one.address().to_owned(), why?)));
        Ok(wrong.collect())
    }

    /// The main file, the changed files that it leads to, and the key file.
    fn files(&self, pending: &PendingChanges) -> Result<Vec<ExpectedLive>, StoreError> {
        let told: HashSet<String> = match self.tells.of_files() {
            true => pending.iter().map(|one| one.url).collect(),
            false => HashSet::new(),
        };
        let is_wanted = |output: &&OutputRuns| {
            let is_feed = [NEWEST_ATOM, NEWEST_RSS].iter().any(|feed| output.name.ends_with(feed));
            let address = self.names.address_of(&output.name);
            self.names.is_child(&output.name) || is_feed && address.is_some_and(|address| told.contains(&address))
        };
        let changed = self.ledger.outputs_after(self.state.watermark)?;
        let changed = changed.iter().filter(is_wanted).map(|output| output.name.clone());
        let main = self.names.main.clone();
        let file = |name: String| Some(ExpectedLive::File { address: self.names.address_of(&name)?, name });
        let files = std::iter::once(main).chain(evenly(changed.collect(), MOST_FILES)).filter_map(file);
        let key = self.key.map(|(address, text)| ExpectedLive::Key { address: address.clone(), text: text.clone() });
        Ok(files.chain(key).collect())
    }

    /// The pages to look at.
    fn pages(&self, pending: &PendingChanges) -> Result<Vec<ExpectedLive>, StoreError> {
        let sample = evenly((0..pending.len()).collect(), SAMPLE);
        let sample: Vec<Pending> = sample.into_iter().flat_map(|at| pending.some(at..at + 1)).collect();
        let listed = sample.iter().filter(|one| is_listed(one.change)).map(|one| one.key).collect();
        let prints = ledger::page_prints(self.ledger, &listed)?;
        let expected = sample.into_iter().map(|one| match is_listed(one.change) {
            true => ExpectedLive::Page { print: prints.get(&one.key).copied(), url: one.url },
            false => ExpectedLive::Gone { url: one.url },
        });
        Ok(expected.collect())
    }

    /// The report if everything waits.
    fn all_wait(&self, waiting: usize, wrong: &[(String, NotLive)]) -> Result<LiveReport, StoreError> {
        let known = self.ledger.fact(Fact::NotLiveSince)?.and_then(|text| text.parse().ok());
        let since = known.filter(|since| *since <= self.now).unwrap_or(self.now);
        if known != Some(since) {
            self.ledger.set_fact(Fact::NotLiveSince, Some(&since.to_string()))?;
        }
        let seen = wrong.iter().take(EXAMPLES).map(|(address, why)| SeenLive::new(address, why)).collect();
        let is_overdue = self.now - since > OVERDUE;
        let misses_key_file = self.key.is_some_and(|(key, _)| wrong.iter().any(|(address, _)| address == key));
        Ok(LiveReport { waiting: waiting as u64, given_up: 0, since, is_overdue, misses_key_file, seen })
    }

    /// Some pages wait, or are given up, while the rest is told.
    fn without(&self, pending: PendingChanges, wrong: &[(String, NotLive)]) -> Result<Looked, StoreError> {
        let wrong: HashMap<&str, &NotLive> = wrong.iter().map(|(url, why)| (url.as_str(), why)).collect();
        let mut looked =
            Looked { free: PendingChanges::default(), held: Vec::new(), given_up: Vec::new(), report: None };
        if wrong.is_empty() {
            return Ok(Looked { free: pending, ..looked });
        }
        // Those that waited for the live site before, rather than for a pause, were never told at any instant.
        let waited = self.ledger.told_urls(self.engine)?.into_iter().filter(|told| told.at == 0);
        let waited: HashMap<u128, i64> = waited.map(|told| (told.key, told.run)).collect();
        let last_run = self.ledger.last_run()?;
        let (mut since, mut seen) = (self.now, Vec::new());
        for one in pending.iter() {
            let Some(why) = wrong.get(one.url.as_str()) else {
                looked.free.push(&one);
                continue;
            };
            if seen.len() < EXAMPLES {
                seen.push(SeenLive::new(&one.url, why));
            }
            // The run in which it changed tells how long it has waited.
            let apart = || waited.get(&one.key).copied().unwrap_or(last_run);
            let run = if one.run > 0 { one.run } else { apart() };
            let built = self.ledger.run(run)?.map_or(self.now, |(run, _)| run.at);
            if self.now - built > OVERDUE {
                looked.given_up.push((one, (*why).clone()));
                continue;
            }
            since = since.min(built);
            looked.held.push(ToldUrl { key: one.key, url: one.url, at: 0, run, waits: Some(one.change) });
        }
        looked.free.sort();
        let (waiting, given_up) = (looked.held.len() as u64, looked.given_up.len() as u64);
        looked.report =
            Some(LiveReport { waiting, given_up, since, is_overdue: given_up > 0, misses_key_file: false, seen });
        Ok(looked)
    }
}

/// Whether a page is listed after this change.
fn is_listed(change: Change) -> bool {
    matches!(change, Change::Added | Change::Changed)
}

/// At most so many of these, spread evenly.
fn evenly<T>(all: Vec<T>, most: usize) -> Vec<T> {
    let length = all.len();
    let is_wanted = |at: usize| length <= most || at * most / length != (at + 1) * most / length;
    all.into_iter().enumerate().filter(|(at, _)| is_wanted(*at)).map(|(_, one)| one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sample_is_spread_evenly() {
        assert_eq!(evenly((0..10).collect(), 100), (0..10).collect::<Vec<_>>());
        assert_eq!(evenly((0..10).collect(), 5), [1, 3, 5, 7, 9]);
        assert_eq!(evenly((0..10_007).collect::<Vec<_>>(), 100).len(), 100);
    }
}
