//! Knowing what need not be looked at: stretches of rows that are as they were, and the entries that they speak of.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;

use super::{CHOICES, Found, Job, Purpose, same_people};
use crate::arrival::{Arrivals, Need};
use crate::error::StoreError;
use crate::ledger::{Interest, Ledger, Remembered, Untouched, Writing};
use crate::model::KnownStretches;

/// What a build need not look at.
#[derive(Debug, Clone)]
pub(super) struct Knowing {
    /// What is needed of the rows.
    pub(super) need: Need,
    /// The stretches that the ledger knows, where any are to be remembered.
    pub(super) stretches: Option<Arc<KnownStretches>>,
}

impl Knowing {
    /// Rows may be known only to a build, and where nothing but a row and fixed choices decides about it; stretches, where
    /// besides no entry may come of rows that are read otherwise.
    pub(super) fn of(job: &Job<'_>, ledger: &Ledger, purpose: Purpose) -> Result<Self, StoreError> {
        let nothing = Self { need: Need::All, stretches: None };
        if purpose != Purpose::Write {
            return Ok(nothing);
        }
        let Some(choices) = job.choices.filter(|_| job.chooser.archives.is_empty()) else {
            return Ok(nothing.reading_all(job));
        };
        let by_stretch = job.sources.iter().all(|source| source.knows_rows());
        let stretches = by_stretch.then(|| ledger.stretches().map(Arc::new)).transpose()?;
        let same_choices = ledger.fact(CHOICES)?.is_some_and(|known| known == choices.to_string());
        let any = stretches.as_ref().is_none_or(|stretches| !stretches.is_empty());
        let same_people = !job.people.wants_all() || same_people(job, ledger)?;
        let moved = Self { need: Need::Moved, stretches };
        Ok(if same_choices && any && same_people && !job.fresh { moved } else { moved.reading_all(job) })
    }

    /// The same where all rows have to be read.
    pub(super) fn reading_all(self, job: &Job<'_>) -> Self {
        Self { need: if job.people.wants_all() { Need::AllAtHand } else { Need::All }, ..self }
    }

    /// The stretches that need not be looked at.
    fn quiet(&self) -> Option<&KnownStretches> {
        self.stretches.as_deref().filter(|_| self.need == Need::Moved)
    }
}

/// Reads what is remembered of the entries. Where stretches are known that were met as they were, all their entries are
/// untouched. False where that cannot be told of each alone, or where as much moved that reading all rows is no more work.
pub(super) fn recollect(
    job: &Job<'_>,
    ledger: &Ledger,
    remembered: &mut Remembered,
    arrivals: &Arrivals,
    knowing: &Knowing,
) -> Result<bool, StoreError> {
    let Some(stretches) = knowing.quiet() else {
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

/// Remembers the stretches that came, and what rows of them the next build has to read. Where none are to be remembered, those that
/// were are forgotten.
pub(super) fn keep_stretches(found: &Found, writing: &Writing<'_>, folder: &Path) -> Result<(), StoreError> {
    let Some(known) = &found.knowing.stretches else { return writing.forget_stretches() };
    let stretches = found.arrivals.stretches();
    let mut keeping = writing.keep_stretches(known, stretches.prints())?;
    let stands = |place| found.settled.standing.stands(place);
    stretches.each(folder, stands, |print, stretch, members| keeping.keep(print, stretch, &members))?;
    keeping.done()
}
