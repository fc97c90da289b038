//! Knowing what need not be looked at: stretches of rows that are as they were, and the entries that they speak of.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;

use super::{Found, Job, Purpose};
use crate::arrival::{Arrivals, KnownStretches};
use crate::error::StoreError;
use crate::ledger::{Interest, Ledger, Remembered, Untouched, Writing};

/// The stretches that the ledger knows. None are to be remembered where the sources have none, where an entry may come of
/// rows that are read otherwise, or where nothing is to be remembered.
pub(super) fn stretches(
    job: &Job<'_>,
    ledger: &Ledger,
    purpose: Purpose,
) -> Result<Option<Arc<KnownStretches>>, StoreError> {
    let wanted = purpose == Purpose::Write
        && job.choices.is_some()
        && job.chooser.archives.is_empty()
        && job.sources.iter().all(|source| source.knows_rows());
    Ok(if wanted { Some(Arc::new(ledger.stretches()?)) } else { None })
}

/// Reads what is remembered of the entries. Where stretches are known that were met as they were, all their entries are
/// untouched. False where that cannot be told of each alone, or where as much moved that reading all rows is no more work.
pub(super) fn recollect(
    job: &Job<'_>,
    ledger: &Ledger,
    remembered: &mut Remembered,
    arrivals: &Arrivals,
    stretches: Option<&KnownStretches>,
) -> Result<bool, StoreError> {
    let Some(stretches) = stretches else {
        return Ok(ledger.recollect(remembered, job.memory, None)?.is_some());
    };
    let met: HashSet<u64> = arrivals.stretches().met().iter().copied().collect();
    let quiet: usize = arrivals.stretches().met().iter().map(|print| stretches[print].rows() as usize).sum();
    let moved = stretches.iter().map(|(print, stretch)| (stretch, !met.contains(print)));
    let open = ledger.tags(moved.filter(|(stretch, moved)| *moved || stretch.rest().next().is_some()))?;
    let rows = arrivals.unread();
    if open.is_empty() && rows.is_empty() && quiet == remembered.entries() {
        remembered.untouched = Untouched::All;
        return Ok(true);
    }
    if open.len() + rows.len() > job.memory / BYTES_OF_INTEREST {
        return Ok(false);
    }
    let interest = Interest::new(&open, rows);
    drop(open);
    // Two rows of one entry in two stretches that were met are told by the number.
    Ok(ledger.recollect(remembered, job.memory, Some(&interest))? == Some(quiet))
}

/// About how much memory it takes to know that there is interest in an entry, or that a row speaks of it.
const BYTES_OF_INTEREST: usize = 24;

/// Remembers the stretches that came, and what rows of them the next build has to read.
pub(super) fn keep_stretches(found: &Found, writing: &Writing<'_>, folder: &Path) -> Result<(), StoreError> {
    let (stretches, none) = (found.arrivals.stretches(), KnownStretches::default());
    let mut keeping = writing.keep_stretches(found.stretches.as_deref().unwrap_or(&none), stretches.prints())?;
    let stands = |place| found.settled.standing.stands(place);
    stretches.each(folder, stands, |print, stretch, members| keeping.keep(print, stretch, &members))?;
    keeping.done()
}
