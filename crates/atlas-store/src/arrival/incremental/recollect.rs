//! Reading what the ledger remembers of the entries, as far as a build needs it.

use std::path::Path;

use atlas_core::placement::FileKind;

use super::interest::{Interest, InterestReason};
use crate::disk::spill::Partitions;
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered};
use crate::model::{KnownEntry, NEVER, PackedEntries, RememberedEntry, Untouched, from_bytes, tag};
use crate::provenance::{Provenances, Unchanged};

/// Reads what is remembered of all entries, or of those that have to be compared, the others being unchanged. Uses
/// about this much memory; beyond that, entries are written to the folder `scratch`. Returns the number of entries that
/// unchanged chunks name, or `None` if a row names one of them after all.
pub(super) fn recollect(
    ledger: &dyn Ledger,
    remembered: &mut Remembered,
    (scratch, memory): (&Path, usize),
    interest: Option<&Interest>,
    provenances: &Provenances,
) -> Result<Option<usize>, StoreError> {
    let Remembered { files, known, observed, .. } = remembered;
    *known = Partitions::new(scratch, memory);
    observed.clear();
    let (mut untouched, mut quiet, mut sound) = (Vec::new(), 0, true);
    let mut unchanged = Unchanged::new();
    let mut segments = files.iter().flat_map(|file| file.segments.iter().map(move |segment| (file.kind, segment)));
    ledger.each_segment_entries(&mut |PackedEntries { entries, raws }| {
        let missing = || StoreError::LedgerDamaged("a segment is missing");
        let (kind, segment) = segments.next().ok_or_else(missing)?;
        let (first, count) = (segment.first, segment.count as usize);
        untouched.resize(if interest.is_some() { (first + count).div_ceil(64) } else { 0 }, 0u64);
        if kind != FileKind::Pages {
            return Ok(());
        }
        let raws = raws.as_chunks().0;
        for (entry, nth) in from_bytes(&entries, count)?.zip(0..) {
            let (at, RememberedEntry { key, written, observed: seen, from_page, provenance, .. }) =
                (first + nth, entry);
            match interest.map(|interest| interest.of(tag(key))) {
                None | Some(Some(InterestReason::MayHaveChanged)) => {}
                Some(None) => {
                    untouched[at / 64] |= 1 << (at % 64);
                    match provenances.is_incremental(provenance) {
                        true => *unchanged.entry(provenance).or_default() += 1,
                        false => quiet += 1,
                    }
                    continue;
                }
                Some(Some(InterestReason::Named)) => sound = false,
            }
            let at = at as u32;
            if seen != NEVER {
                observed.push((at, seen));
            }
            let raw = raws.get(nth).map_or(0, |raw| u64::from_le_bytes(*raw));
            let keyed = known.push(KnownEntry { key, written, raw, at, from_page, provenance });
            keyed.map_err(StoreError::io("cannot write temporary data to", scratch))?;
        }
        Ok(())
    })?;
    remembered.unchanged = unchanged;
    remembered.untouched = if interest.is_some() { Untouched::Some(untouched) } else { Untouched::None };
    Ok(sound.then_some(quiet))
}
