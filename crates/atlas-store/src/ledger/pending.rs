//! What engines have still to be told.

use std::ops::Range;

use atlas_core::announce::{Change, EngineState};
use atlas_core::placement::FileKind;

use super::Ledger;
use crate::error::StoreError;
use crate::model::{Pending, urls_of};

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
        u128::from(self.key[1]) << 64 | u128::from(self.key[0])
    }

    fn run(&self) -> i64 {
        i64::from(self.run)
    }
}

impl PendingChanges {
    /// Adds a change. The order is that of the calls until [`PendingChanges::sort`].
    pub fn push(&mut self, one: &Pending) {
        self.urls.push_str(&one.url);
        self.changes.push(PackedChange {
            key: [one.key as u64, (one.key >> 64) as u64],
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
            run: packed.run(),
            ends_run: self.changes.get(at + 1).is_none_or(|next| next.run != packed.run),
        }
    }

    /// How many of them a state still awaits.
    pub fn awaited(&self, state: &EngineState) -> usize {
        self.changes.iter().filter(|one| state.awaits(one.run(), one.key())).count()
    }
}

/// All changes that an engine with this progress has still to be told of.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn pending(ledger: &dyn Ledger, state: &EngineState) -> Result<PendingChanges, StoreError> {
    let mut pending = PendingChanges::default();
    each_pending(ledger, state, &mut |one| pending.push(&one))?;
    pending.sort();
    Ok(pending)
}

/// Passes on the same changes, in no particular order.
///
/// # Errors
///
/// As [`pending`].
pub fn each_pending(ledger: &dyn Ledger, state: &EngineState, take: &mut dyn FnMut(Pending)) -> Result<(), StoreError> {
    let additions = ledger.additions(state.watermark)?;
    let remembered = ledger.remembered()?;
    for (file, segment) in remembered.segments(|kind| kind == FileKind::Pages) {
        let entries = ledger.entries_of(file.id, segment)?;
        let awaited = |run: u32, key: u128| state.awaits(i64::from(run), key);
        if !entries.iter().any(|entry| awaited(entry.changed, entry.key)) {
            continue;
        }
        let urls = urls_of(&ledger.body(file.id, segment.number)?, segment.size)?;
        for (entry, url) in entries.iter().zip(urls).filter(|(entry, _)| awaited(entry.changed, entry.key)) {
            let change = if additions.contains(&entry.key) { Change::Added } else { Change::Changed };
            take(Pending { key: entry.key, url, change, run: i64::from(entry.changed), ends_run: false });
        }
    }
    for (gone, run) in ledger.tombstones()?.into_iter().filter(|(gone, run)| state.awaits(*run, gone.key)) {
        if let Some(change) = gone.change {
            take(Pending { key: gone.key, url: gone.url, change, run, ends_run: false });
        }
    }
    Ok(())
}
