//! Knowing what need not be looked at: chunks of rows that are as they were, and the entries that they speak of.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;

use super::interest::Interest;
use super::recollect::recollect;
use crate::arrival::{Arrivals, Need, RowId};
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered, Writing};
use crate::model::{Fact, KnownChunks, Untouched};

/// What a build need not look at.
#[derive(Debug, Clone)]
pub(crate) struct Knowing {
    /// What is needed of the rows.
    pub(crate) need: Need,
    /// The chunks that the ledger knows, where any are to be remembered.
    pub(crate) chunks: Option<Arc<KnownChunks>>,
}

/// What decides about what need not be looked at.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Ways {
    /// Rows may be known to a build only.
    pub(crate) is_build: bool,
    /// A fingerprint of what decides about a row besides itself; none where that is not all that decides.
    pub(crate) choices: Option<u64>,
    /// All sources know their rows, so that no entry comes of rows that are read otherwise.
    pub(crate) by_chunk: bool,
    /// What is made of all entries, so that all rows have to be at hand where any has to be read.
    pub(crate) wants_all: bool,
    /// That would be made as it was.
    pub(crate) same_extras: bool,
    /// Everything is read anew.
    pub(crate) is_fresh: bool,
}

impl Knowing {
    /// Rows may be known only to a build, and where nothing but a row and fixed choices decides about it; chunks, where
    /// besides no entry may come of rows that are read otherwise.
    pub(crate) fn of(ways: &Ways, ledger: &dyn Ledger) -> Result<Self, StoreError> {
        let nothing = Self { need: Need::All, chunks: None };
        if !ways.is_build {
            return Ok(nothing);
        }
        let Some(choices) = ways.choices else { return Ok(nothing.reading_all(ways.wants_all)) };
        let chunks = ways.by_chunk.then(|| ledger.chunks().map(Arc::new)).transpose()?;
        let same_choices = ledger.fact(Fact::Choices)?.is_some_and(|known| known == choices.to_string());
        let any = chunks.as_ref().is_none_or(|chunks| !chunks.is_empty());
        let same_extras = !ways.wants_all || ways.same_extras;
        let moved = Self { need: Need::Moved, chunks };
        let is_known = same_choices && any && same_extras && !ways.is_fresh;
        Ok(if is_known { moved } else { moved.reading_all(ways.wants_all) })
    }

    /// The same where all rows have to be read.
    pub(crate) fn reading_all(self, wants_all: bool) -> Self {
        Self { need: if wants_all { Need::AllAtHand } else { Need::All }, ..self }
    }

    /// The chunks that need not be looked at.
    fn quiet(&self) -> Option<&KnownChunks> {
        self.chunks.as_deref().filter(|_| self.need == Need::Moved)
    }
}

/// Reads what is remembered of the entries. Where chunks are known that were met as they were, all their entries are
/// untouched. False where that cannot be told of each alone, or where as much moved that reading all rows is no more work.
pub(crate) fn remember_entries(
    ledger: &dyn Ledger,
    remembered: &mut Remembered,
    arrivals: &Arrivals,
    knowing: &Knowing,
    (scratch, memory): (&Path, usize),
) -> Result<bool, StoreError> {
    let Some(chunks) = knowing.quiet() else {
        return Ok(recollect(ledger, remembered, (scratch, memory), None)?.is_some());
    };
    let met: HashSet<u64> = arrivals.chunks().met().iter().copied().collect();
    let quiet: usize = arrivals.chunks().met().iter().map(|print| chunks[print].rows() as usize).sum();
    let moved = chunks.iter().map(|(print, chunk)| (chunk, !met.contains(print)));
    let open = moved.filter(|(chunk, moved)| *moved || chunk.rest().next().is_some());
    let open = ledger.tags(&mut open.map(|(chunk, moved)| (chunk.members, moved)))?;
    let rows = arrivals.unread();
    if open.is_empty() && rows.is_empty() && quiet == remembered.entries() {
        remembered.untouched = Untouched::All;
        return Ok(true);
    }
    if open.len() + rows.len() > memory / BYTES_OF_INTEREST {
        return Ok(false);
    }
    let interest = Interest::new(&open, rows);
    drop(open);
    // Two rows of one entry in two chunks that were met are told by the number.
    Ok(recollect(ledger, remembered, (scratch, memory), Some(&interest))? == Some(quiet))
}

/// About how much memory it takes to know that there is interest in an entry, or that a row speaks of it.
const BYTES_OF_INTEREST: usize = 24;

/// Remembers the chunks that came, and what rows of them the next build has to read. Where none are to be remembered, those that
/// were are forgotten.
pub(crate) fn keep_chunks(
    knowing: &Knowing,
    arrivals: &Arrivals,
    stands: impl Fn(RowId) -> bool,
    writing: &dyn Writing,
    scratch: &Path,
) -> Result<(), StoreError> {
    let Some(known) = &knowing.chunks else { return writing.forget_chunks() };
    let chunks = arrivals.chunks();
    let mut keeping = writing.keep_chunks(known, &chunks.prints().collect())?;
    chunks.each(scratch, stands, |print, chunk, members| keeping.keep(print, chunk, &members))?;
    keeping.done()
}
