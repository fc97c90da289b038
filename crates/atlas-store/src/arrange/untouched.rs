//! Counting the contents of unread entries from the text of their segments.

use std::sync::mpsc::channel;

use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::{ContentCounts, SegmentRow, SegmentText};
use crate::settle::{EntryFate, Settled};

/// How many segments are read at a time.
pub(super) const SEGMENTS_AT_A_TIME: usize = 256;

/// Entries whose rows were not read. Their pictures, videos and dates are counted from the text of their segments.
#[derive(Default)]
pub(super) struct UntouchedContents {
    /// By section: segments in which no row was read.
    whole: Vec<(usize, ContentCounts)>,
    /// Segments in which some rows were read.
    mixed: Vec<(usize, i64, SegmentRow)>,
}

impl UntouchedContents {
    pub(super) fn note(&mut self, section: usize, file: i64, segment: &SegmentRow, fates: &[u8]) {
        match fates.iter().filter(|fate| **fate == EntryFate::Untouched as u8).count() {
            0 => {}
            all if all == fates.len() => self.whole.push((section, segment.facts)),
            _ => self.mixed.push((section, file, *segment)),
        }
    }

    pub(super) fn read(self, ledger: &dyn Ledger, settled: &mut Settled) -> Result<(), StoreError> {
        self.whole.iter().for_each(|(section, facts)| settled.counts.tallies[*section].add(facts));
        for some in self.mixed.chunks(SEGMENTS_AT_A_TIME) {
            let place = |(_, file, segment): &&(usize, i64, SegmentRow)| (*file, segment.number);
            let facts = look_into(ledger, some, place, |(section, _, segment), body| {
                let fates = &settled.fates[segment.range()];
                let untouched = |at: u32| fates[at as usize] == EntryFate::Untouched as u8;
                Ok((*section, SegmentText::read(&body, segment)?.facts(segment, untouched)))
            })?;
            facts.iter().for_each(|(section, facts)| settled.counts.tallies[*section].add(facts));
        }
        Ok(())
    }
}

/// Processes the texts of some segments in other threads, while the next ones are read from the ledger. The results are
/// in the order of the segments.
pub(super) fn look_into<T: Send, F: Send>(
    ledger: &dyn Ledger,
    segments: impl IntoIterator<Item = T>,
    place: impl Fn(&T) -> (i64, u32),
    look: impl Fn(T, Vec<u8>) -> Result<F, StoreError> + Sync,
) -> Result<Vec<F>, StoreError> {
    let (sender, found) = channel();
    let look = &look;
    rayon::in_place_scope(|scope| {
        for (segment, nth) in segments.into_iter().zip(0usize..) {
            let (file, number) = place(&segment);
            let (body, sender) = (ledger.body(file, number)?, sender.clone());
            // The receiver stops only when it has all results.
            scope.spawn(move |_| _ = sender.send((nth, look(segment, body))));
        }
        Ok::<(), StoreError>(())
    })?;
    drop(sender);
    let mut found: Vec<(usize, Result<F, StoreError>)> = found.into_iter().collect();
    found.sort_unstable_by_key(|(nth, _)| *nth);
    found.into_iter().map(|(_, found)| found).collect()
}
