//! Departures: entries that are no longer listed, and those that are back unchanged.

use std::collections::HashMap;

use atlas_core::placement::FileKind;

use super::found::{Departed, RunFindings};
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered};
use crate::model::{Departure, RememberedEntry, urls_of};
use crate::provenance::Provenances;
use crate::settle::{Gone, Settled};

/// The addresses of removed entries, read from the text of their segments.
pub(super) fn gone(
    ledger: &dyn Ledger,
    remembered: &Remembered,
    settled: &Settled,
    provenances: &Provenances,
) -> Result<Vec<Departed>, StoreError> {
    let mut gone = settled.gone.clone();
    gone.sort_unstable_by_key(|gone| gone.prior);
    let mut gone = gone.into_iter().peekable();
    let mut departed = Vec::new();
    for (file, segment) in remembered.segments(|kind| kind == FileKind::Pages) {
        let range = segment.range();
        if gone.peek().is_none_or(|gone| !range.contains(&(gone.prior as usize))) {
            continue;
        }
        let entries = ledger.entries_of(file.id, segment)?;
        let urls = urls_of(&ledger.body(file.id, segment.number)?, segment.size)?;
        while let Some(gone) = gone.next_if(|gone| range.contains(&(gone.prior as usize))) {
            let nth = gone.prior as usize - range.start;
            let url = urls.get(nth).cloned().unwrap_or_default();
            // Its source is no longer configured, so its page may well exist.
            let by_choice = gone.reason.is_none() && provenances.all_left(entries[nth].provenance);
            let change = gone.change.filter(|_| !by_choice && !entries[nth].untold);
            let RememberedEntry { key, changed, page, declared, .. } = entries[nth];
            let departure = Departure { changed, page, declared };
            let section = file.section.clone();
            departed.push(Departed { key, url, section, title: None, gone: Gone { change, ..gone }, departure });
        }
    }
    Ok(departed)
}

/// Entries that are back as they were when they left. Engines that were not told in between need not be told at all.
pub(super) fn returned(found: &RunFindings, ledger: &dyn Ledger) -> Result<HashMap<u128, u32>, StoreError> {
    if found.first || found.settled.counts.added.count() == 0 {
        return Ok(HashMap::new());
    }
    let departures = ledger.departures()?;
    if departures.is_empty() {
        return Ok(HashMap::new());
    }
    let added = found.added().into_iter();
    let back = added.filter_map(|(key, place)| {
        let (summary, before) = (found.arrivals.summary(place), departures.get(&key)?);
        let as_it_was = before.page != 0 && (before.page, before.declared) == (summary.page, summary.declared);
        as_it_was.then_some((key, before.changed))
    });
    Ok(back.collect())
}
