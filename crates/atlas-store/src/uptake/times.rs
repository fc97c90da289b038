//! When runs were, and when engines were told of them.

use crate::error::StoreError;
use crate::ledger::Ledger;

/// A day, in seconds.
pub(super) const DAY: i64 = 86_400;
/// The most runs and announcements that are looked at.
const MOST: usize = 100_000;

/// When runs were, and when engines were told of them.
#[derive(Debug, Default)]
pub(super) struct RunTimes {
    /// By run, newest first.
    runs: Vec<(i64, i64)>,
    /// The run up to which engines were told, and when; both ascending.
    told: Vec<(i64, i64)>,
}

impl RunTimes {
    /// Reads them.
    pub(super) fn read(ledger: &dyn Ledger) -> Result<Self, StoreError> {
        let runs = ledger.runs(MOST)?.into_iter().map(|row| (row.run, row.at)).collect();
        let mut told: Vec<(i64, i64)> = ledger
            .announcements(MOST)?
            .into_iter()
            .filter(|one| one.outcome == "done")
            .map(|one| (one.run, one.at))
            .collect();
        told.sort_unstable();
        // The first time at which this run or a later one was told.
        for at in (1..told.len()).rev() {
            told[at - 1].1 = told[at - 1].1.min(told[at].1);
        }
        Ok(Self { runs, told })
    }

    /// When a run was; 0 if that is no longer remembered.
    pub(super) fn run_at(&self, run: u32) -> i64 {
        let found = self.runs.binary_search_by(|(known, _)| i64::from(run).cmp(known));
        found.map_or(0, |at| self.runs[at].1)
    }

    /// When an engine was first told of what changed in a run.
    pub(super) fn told_at(&self, run: u32) -> Option<i64> {
        let at = self.told.partition_point(|(known, _)| *known < i64::from(run));
        self.told.get(at).map(|(_, at)| *at)
    }
}
