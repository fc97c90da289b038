//! What engines have still to be told.

use std::collections::{HashMap, HashSet};

use atlas_core::announce::{Change, EngineState, LeftAlone};
use atlas_store::destination::Names;
use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger, PendingChanges};
use atlas_store::model::{Pending, ToldUrl};

use super::report::{Waiting, WaitsFor};
use super::{EngineSettings, TellingLimits, Tells, ToAnnounce, addresses};

/// The seconds of a day.
const DAY: i64 = 86_400;

/// What an engine has still to be told, in order, with its progress.
pub(super) fn pending(
    ledger: &dyn Ledger,
    (engine, tells): (&str, Tells),
    names: &Names,
    wanted: ToAnnounce<'_>,
) -> Result<(EngineState, PendingChanges), StoreError> {
    let known = ledger.engine(engine)?;
    let was_told = known.as_ref().is_some_and(|known| known.was_told);
    // The address of a file is told at once, even if nothing has changed since the baseline.
    let is_whole = wanted == ToAnnounce::All || (tells.of_files() && !was_told);
    let state = EngineState::begin(known, ledger.last_run()?, is_whole);
    let mut pending = match (wanted, tells) {
        (ToAnnounce::Chosen(by_hand), Tells::Urls(_)) => ledger::chosen(ledger, &state, by_hand)?.0,
        // What is chosen are URLs.
        (ToAnnounce::Chosen(_), _) => PendingChanges::default(),
        (_, Tells::Urls(_)) => ledger::pending(ledger, &state)?,
        (_, tells) => addresses::pending(ledger, tells, names, &state)?,
    };
    if is_whole && !was_told {
        pending.all_new();
    }
    Ok((state, pending))
}

/// What an engine has still to be told, as far as it is listed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PendingList {
    /// The number of all URLs.
    pub count: u64,
    /// The first of them, by URL.
    pub first: Vec<Pending>,
    /// The engine has given up being told, and nothing is kept for it.
    pub is_retired: bool,
    /// If it was never told anything: the number of URLs that are the baseline from which changes are counted.
    pub baseline: Option<u64>,
}

impl PendingList {
    /// Adds a URL. At most `most` are kept.
    fn add(&mut self, one: Pending, most: usize) {
        self.count += 1;
        self.first.push(one);
        if self.first.len() >= most * 2 {
            self.cut(most);
        }
    }

    fn cut(&mut self, most: usize) {
        self.first.sort_unstable_by(|one, other| one.url.cmp(&other.url));
        self.first.truncate(most);
    }
}

/// What an engine has still to be told: the rest of an interrupted round, and what has changed since. At most `most`
/// URLs are listed.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn all_pending(
    ledger: &dyn Ledger,
    engine: &EngineSettings,
    names: &Names,
    wanted: ToAnnounce<'_>,
    most: usize,
) -> Result<PendingList, StoreError> {
    let known = ledger.engine(&engine.name)?;
    if is_retired(known.as_ref(), engine.endpoint_print()) {
        return Ok(PendingList { is_retired: true, ..PendingList::default() });
    }
    let baseline = baseline(ledger, (&engine.name, engine.tells))?;
    Ok(PendingList { baseline, ..pending_list(ledger, (&engine.name, engine.tells), names, wanted, most)? })
}

/// The number of URLs that are the baseline of an engine that was never told of any.
pub(super) fn baseline(ledger: &dyn Ledger, (engine, tells): (&str, Tells)) -> Result<Option<u64>, StoreError> {
    if tells.of_files() || ledger.engine(engine)?.is_some_and(|state| state.was_told) {
        return Ok(None);
    }
    Ok(ledger.runs(1)?.first().map(|run| run.counts.entries))
}

/// Whether the engine has given up being told at this endpoint.
pub(super) fn is_retired(known: Option<&EngineState>, endpoint: u64) -> bool {
    known.is_some_and(|state| state.retired == Some(endpoint))
}

pub(super) fn pending_list(
    ledger: &dyn Ledger,
    (engine, tells): (&str, Tells),
    names: &Names,
    wanted: ToAnnounce<'_>,
    most: usize,
) -> Result<PendingList, StoreError> {
    let (_, mut pending) = pending(ledger, (engine, tells), names, wanted)?;
    let told = ledger.told_urls(engine)?;
    if !told.is_empty() {
        let gone = ledger.tombstones()?.into_iter().map(|(gone, _)| gone.key).collect();
        // What waits for its pause has still to be told.
        pending = split(pending, told, &gone, wanted, i64::MAX).free;
    }
    let mut list = PendingList::default();
    pending.iter().for_each(|one| list.add(one, most));
    list.cut(most);
    Ok(list)
}

/// Pending changes, divided by what an engine was told of a short time ago.
pub(super) struct Split {
    /// Those that may be told now, with those whose pause is over.
    pub(super) free: PendingChanges,
    /// What is to be remembered: URLs that wait, and those that need wait no longer.
    pub(super) held: Vec<ToldUrl>,
    /// The keys of the URLs among the free ones that are remembered apart from runs.
    pub(super) apart: Vec<u128>,
}

/// Divides pending changes. URLs that were `told` after an instant, in seconds since 1970, are held; `gone` are the keys of
/// entries that are no longer listed.
pub(super) fn split(
    pending: PendingChanges,
    told: Vec<ToldUrl>,
    gone: &HashSet<u128>,
    wanted: ToAnnounce<'_>,
    after: i64,
) -> Split {
    let mut known: HashMap<u128, ToldUrl> = told.into_iter().map(|one| (one.key, one)).collect();
    let mut split = Split { free: PendingChanges::default(), held: Vec::new(), apart: Vec::new() };
    for one in pending.iter() {
        match known.remove(&one.key) {
            // It was told by hand, as it is now.
            Some(told) if wanted == ToAnnounce::Due && told.waits.is_none() && told.run >= one.run => {}
            Some(told) if told.at > after => split.held.push(ToldUrl { waits: Some(one.change), ..told }),
            told => {
                split.apart.extend(told.map(|told| told.key));
                split.free.push(&one);
            }
        }
    }
    // An entry that is back as it was is no news.
    let is_back =
        |told: &ToldUrl| matches!(told.waits, Some(Change::Removed | Change::Redirected)) && !gone.contains(&told.key);
    let is_by_hand = matches!(wanted, ToAnnounce::Chosen(_));
    for told in known.into_values().filter(|_| !is_by_hand) {
        match told.waits {
            Some(_) if is_back(&told) => split.held.push(ToldUrl { waits: None, ..told }),
            Some(_) if told.at > after => split.held.push(told),
            Some(change) => {
                split.apart.push(told.key);
                split.free.push(&Pending { key: told.key, url: told.url, change, run: 0, ends_run: false });
            }
            None => {}
        }
    }
    split.free.sort();
    split
}

/// What would wait if an engine were told now, at an instant in seconds since 1970: URLs of which it was told too short a
/// time ago, and those that a day's allowance leaves over.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn would_wait(
    ledger: &dyn Ledger,
    engine: &EngineSettings,
    names: &Names,
    wanted: ToAnnounce<'_>,
    now: i64,
) -> Result<Vec<Waiting>, StoreError> {
    let limits = engine.limits;
    let (_, pending) = pending(ledger, (&engine.name, engine.tells), names, wanted)?;
    let told = ledger.told_urls(&engine.name)?;
    let gone = ledger.tombstones()?.into_iter().map(|(gone, _)| gone.key).collect();
    let Split { free, held, .. } = split(pending, told, &gone, wanted, now - limits.pause_seconds);
    let mut waiting = Vec::from_iter(paused(&held, limits.pause_seconds));
    if let Some(Allowance { left, until }) = Allowance::of(ledger, &engine.name, limits, now)? {
        let urls = (free.len() as u64).saturating_sub(left);
        waiting.extend((urls > 0).then_some(Waiting { urls, until, why: WaitsFor::Allowance }));
    }
    Ok(waiting)
}

/// The URLs among these that wait for their pause, in seconds.
pub(super) fn paused(held: &[ToldUrl], pause: i64) -> Option<Waiting> {
    let wait = held.iter().filter(|told| told.waits.is_some());
    let until = wait.clone().map(|told| told.at + pause).min()?;
    Some(Waiting { urls: wait.count() as u64, until, why: WaitsFor::Pause })
}

/// What an engine may still be told today.
pub(super) struct Allowance {
    /// The number of URLs.
    pub(super) left: u64,
    /// When that becomes more, in seconds since 1970.
    pub(super) until: i64,
}

impl Allowance {
    /// The allowance at an instant; `None` if there is no limit.
    pub(super) fn of(
        ledger: &dyn Ledger,
        engine: &str,
        limits: TellingLimits,
        now: i64,
    ) -> Result<Option<Self>, StoreError> {
        let Some(per_day) = limits.per_day else { return Ok(None) };
        let told = ledger.told_after(engine, now - DAY)?;
        let used: u64 = told.iter().map(|(_, urls)| urls).sum();
        let until = told.first().map_or(now, |(at, _)| *at) + DAY;
        Ok(Some(Self { left: per_day.saturating_sub(used), until }))
    }
}

/// Notes engines that were not met before: their progress begins with the last run, or is that of the engine whose name
/// they had.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read or written.
pub fn meet(ledger: &mut dyn Ledger, engines: &[EngineSettings]) -> Result<(), StoreError> {
    let last_run = ledger.last_run()?;
    for engine in engines.iter().filter(|_| last_run > 0) {
        if ledger.engine(&engine.name)?.is_some() {
            continue;
        }
        let was = match &engine.was {
            Some(was) => ledger.engine(was)?.and(Some(was)),
            None => None,
        };
        let writing = ledger.transaction()?;
        match was {
            Some(was) => writing.rename_engine(was, &engine.name)?,
            None => writing.set_engine(&engine.name, &EngineState::met(last_run))?,
        }
        writing.commit()?;
    }
    Ok(())
}

/// Whether an engine is left alone at this instant, in seconds since 1970, and until when.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn left_alone(ledger: &dyn Ledger, engine: &str, now: i64) -> Result<Option<LeftAlone>, StoreError> {
    Ok(ledger.engine(engine)?.and_then(|state| state.left_alone(now)))
}
