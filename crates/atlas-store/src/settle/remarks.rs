//! Remarks on entries that are kept, and on their sources.

use std::collections::BTreeMap;

use super::Sample;
use super::partition::Odds;
use atlas_core::report::Notice;

/// Remarks on entries, each with the first few examples.
#[derive(Debug, Default)]
pub(crate) struct Remarks {
    /// By kind.
    pub(crate) by_notice: BTreeMap<Notice, Sample>,
    /// Fields on which two sources disagree.
    pub(crate) at_odds: BTreeMap<Odds, Sample>,
    /// Entries on other hosts or schemes, by origin.
    pub(crate) elsewhere: BTreeMap<String, Sample>,
}

impl Remarks {
    /// The remarks of one kind.
    pub(crate) fn of(&mut self, notice: Notice) -> &mut Sample {
        self.by_notice.entry(notice).or_default()
    }

    pub(crate) fn join(&mut self, most: usize, other: Self) {
        let Self { by_notice, at_odds, elsewhere } = other;
        by_notice.into_iter().for_each(|(notice, sample)| self.of(notice).join(most, sample));
        at_odds.into_iter().for_each(|(odds, sample)| self.at_odds.entry(odds).or_default().join(most, sample));
        elsewhere.into_iter().for_each(|(origin, sample)| self.elsewhere.entry(origin).or_default().join(most, sample));
    }
}
