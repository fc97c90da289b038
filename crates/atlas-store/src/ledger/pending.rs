//! What engines have still to be told.

use std::collections::HashMap;
use std::ops::Range;

use atlas_core::announce::{Change, EngineState};
use atlas_core::fingerprint;
use atlas_core::placement::FileKind;

use super::Ledger;
use super::lookup::lookup;
use crate::bytes::{halves, key_of};
use crate::error::StoreError;
use crate::model::{Pending, RememberedEntry, Tombstone, urls_of};

/// Changes that an engine has still to be told of, in order: the most recent run first, and within a run by key. Each
/// takes its URL and 40 bytes.
#[derive(Debug, Default)]
pub struct PendingChanges {
    urls: String,
    changes: Vec<PackedChange>,
}

#[derive(Debug, Clone, Copy)]
struct PackedChange {
    key: [u64; 2],
    /// Where its URL ends.
    end: u64,
    length: u32,
    run: u32,
    change: Change,
}

impl PackedChange {
    fn key(&self) -> u128 {
        key_of(self.key)
    }
}

impl PendingChanges {
    /// Adds a change. The order is that of the calls until [`PendingChanges::sort`].
    pub fn push(&mut self, one: &Pending) {
        self.urls.push_str(&one.url);
        self.changes.push(PackedChange {
            key: halves(one.key),
            end: self.urls.len() as u64,
            length: one.url.len() as u32,
            run: one.run as u32,
            change: one.change,
        });
    }

    /// To an engine that was never told anything, everything is new.
    pub fn all_new(&mut self) {
        self.changes.iter_mut().filter(|one| one.change == Change::Changed).for_each(|one| one.change = Change::Added);
    }

    /// Brings the changes into order.
    pub fn sort(&mut self) {
        self.changes.sort_unstable_by_key(|one| (std::cmp::Reverse(one.run), one.key()));
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.changes.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.changes.is_empty()
    }

    /// Some of them.
    pub fn some(&self, range: Range<usize>) -> Vec<Pending> {
        range.map(|at| self.one(at)).collect()
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = Pending> {
        (0..self.len()).map(|at| self.one(at))
    }

    fn one(&self, at: usize) -> Pending {
        let packed = self.changes[at];
        let end = packed.end as usize;
        Pending {
            key: packed.key(),
            url: self.urls.get(end - packed.length as usize..end).unwrap_or_default().to_owned(),
            change: packed.change,
            run: i64::from(packed.run),
            ends_run: self.changes.get(at + 1).is_none_or(|next| next.run != packed.run),
        }
    }
}

/// What to announce by hand, whether it was announced before or not.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ByHand {
    /// These URLs; if there are none, whatever the others choose.
    pub urls: Vec<String>,
    /// Only what is, or was, in this section.
    pub section: Option<String>,
    /// What has changed in this run or later; otherwise what has still to be announced.
    pub since: Option<i64>,
    /// Everything that is listed.
    pub all: bool,
}

/// What is chosen by hand, apart from all runs, and the URLs that are neither listed nor known to have been.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn chosen(
    ledger: &dyn Ledger,
    state: &EngineState,
    by_hand: &ByHand,
) -> Result<(PendingChanges, Vec<String>), StoreError> {
    let mut pending = PendingChanges::default();
    let mut apart = |one: Pending| pending.push(&Pending { run: 0, ..one });
    let mut unknown = Vec::new();
    if by_hand.urls.is_empty() {
        let after = by_hand.since.map(|run| run - 1).or(by_hand.all.then_some(0));
        let since = after.map(EngineState::met);
        each_pending(ledger, since.as_ref().unwrap_or(state), by_hand.section.as_deref(), &mut apart)?;
    } else {
        let seed = ledger.seed()?;
        let keys: Vec<u128> = by_hand.urls.iter().map(|url| fingerprint::key(seed, url)).collect();
        let listed = lookup(ledger, &ledger.remembered()?, &keys.iter().copied().collect())?;
        let gone: HashMap<u128, Option<Change>> =
            ledger.tombstones()?.into_iter().map(|(gone, _)| (gone.key, gone.change)).collect();
        for (url, key) in by_hand.urls.iter().zip(keys) {
            let change = match listed.contains_key(&key) {
                true => Some(Change::Changed),
                false => gone.get(&key).map(|change| change.unwrap_or(Change::Removed)),
            };
            match change {
                Some(change) => apart(Pending { key, url: url.clone(), change, run: 0, ends_run: false }),
                None => unknown.push(url.clone()),
            }
        }
    }
    pending.sort();
    Ok((pending, unknown))
}

/// All changes that an engine with this progress has still to be told of.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn pending(ledger: &dyn Ledger, state: &EngineState) -> Result<PendingChanges, StoreError> {
    let mut pending = PendingChanges::default();
    each_pending(ledger, state, None, &mut |one| pending.push(&one))?;
    pending.sort();
    Ok(pending)
}

/// Passes on the same changes, in no particular order: all of them, or those of one section.
fn each_pending(
    ledger: &dyn Ledger,
    state: &EngineState,
    section: Option<&str>,
    take: &mut dyn FnMut(Pending),
) -> Result<(), StoreError> {
    let additions = ledger.additions(state.watermark)?;
    let remembered = ledger.remembered()?;
    let is_wanted = |of: &str| section.is_none_or(|section| section == of);
    let segments = remembered.segments(|kind| kind == FileKind::Pages);
    for (file, segment) in segments.filter(|(file, _)| is_wanted(&file.section)) {
        let entries = ledger.entries_of(file.id, segment)?;
        let awaited = |entry: &RememberedEntry| !entry.untold && state.awaits(i64::from(entry.changed), entry.key);
        if !entries.iter().any(awaited) {
            continue;
        }
        let urls = urls_of(&ledger.body(file.id, segment.number)?, segment.size)?;
        for (entry, url) in entries.iter().zip(urls).filter(|(entry, _)| awaited(entry)) {
            let change = if additions.contains(&entry.key) { Change::Added } else { Change::Changed };
            take(Pending { key: entry.key, url, change, run: i64::from(entry.changed), ends_run: false });
        }
    }
    let is_awaited = |(gone, run): &(Tombstone, i64)| state.awaits(*run, gone.key) && is_wanted(&gone.section);
    for (gone, run) in ledger.tombstones()?.into_iter().filter(is_awaited) {
        if let Some(change) = gone.change {
            take(Pending { key: gone.key, url: gone.url, change, run, ends_run: false });
        }
    }
    Ok(())
}
