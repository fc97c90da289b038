//! What a build can reuse of the one before: unchanged chunks of rows, and the entries that they name.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;

use super::interest::Interest;
use super::recollect::recollect;
use crate::arrival::{Arrivals, Need, RowId};
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered, Writing};
use crate::model::{ChunkShare, Fact, KnownChunks, Untouched, tag};
use crate::provenance::Provenances;

/// What a build can reuse.
#[derive(Debug, Clone)]
pub(crate) struct Reuse {
    /// Which rows it needs.
    pub(crate) need: Need,
    /// The remembered chunks, if chunks are used.
    pub(crate) chunks: Option<Arc<KnownChunks>>,
    /// [`ReuseConditions::by_row`].
    pub(crate) by_row: bool,
    /// [`ReuseConditions::derives`].
    pub(crate) derives: bool,
    /// [`ReuseConditions::groups`].
    pub(crate) groups: bool,
    /// Whether texts are retained, so that rows which were skipped can be read after all.
    pub(crate) retains: bool,
}

/// The conditions for reuse.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ReuseConditions {
    /// Whether this is a build; other commands read all rows.
    pub(crate) is_build: bool,
    /// A fingerprint of everything that decides about a row besides the row itself; `None` if something else decides,
    /// too.
    pub(crate) choices: Option<u64>,
    /// Whether all sources recognise their rows, so that no entry comes from rows that are read in another way.
    pub(crate) by_row: bool,
    /// Whether entries are derived from others, or groups of translations found: then any row may be needed after all.
    pub(crate) derives: bool,
    /// Whether entries may be in groups of translations.
    pub(crate) groups: bool,
    /// Whether a source yields its rows only once.
    pub(crate) yields_once: bool,
    /// Whether files are made from all entries, so that all rows must be in memory if any has to be read.
    pub(crate) wants_all: bool,
    /// Whether these files would be the same as before.
    pub(crate) same_extras: bool,
    /// Whether everything is read anew.
    pub(crate) is_fresh: bool,
    /// Whether sources are asked for changes alone; `None` if none can be.
    pub(crate) by_changes: Option<bool>,
}

impl Reuse {
    /// Decides what can be reused. Rows can be reused by a build if nothing but the row and fixed settings decide about
    /// it; chunks, if in addition no entry comes from rows that are read in another way.
    pub(crate) fn of(conditions: &ReuseConditions, ledger: &dyn Ledger) -> Result<Self, StoreError> {
        let &ReuseConditions { by_row, derives, groups, .. } = conditions;
        let retains = by_row && (derives || conditions.yields_once);
        let nothing = Self { need: Need::All, chunks: None, by_row, derives, groups, retains };
        if !conditions.is_build {
            return Ok(nothing);
        }
        let Some(choices) = conditions.choices else { return Ok(nothing.reading_all(conditions.wants_all)) };
        let chunks = conditions.by_row.then(|| ledger.chunks().map(Arc::new)).transpose()?;
        let same_choices = ledger.fact(Fact::Choices)?.is_some_and(|known| known == choices.to_string());
        let by_changes = conditions.by_changes;
        let any = by_changes == Some(true) || chunks.as_ref().is_none_or(|chunks| !chunks.is_empty());
        let same_extras = !conditions.wants_all || conditions.same_extras;
        let moved = Self { need: Need::Moved, chunks, ..nothing };
        let is_known = same_choices && any && same_extras && !conditions.is_fresh && by_changes != Some(false);
        Ok(if is_known { moved } else { moved.reading_all(conditions.wants_all) })
    }

    /// The same, but all rows are read.
    pub(crate) fn reading_all(self, wants_all: bool) -> Self {
        Self { need: if wants_all { Need::AllAtHand } else { Need::All }, ..self }
    }

    /// Whether rows of unchanged chunks are skipped.
    pub(crate) fn skips_rows(&self) -> bool {
        self.quiet().is_some()
    }

    /// The chunks that can be skipped.
    fn quiet(&self) -> Option<&KnownChunks> {
        self.chunks.as_deref().filter(|_| self.need == Need::Moved)
    }
}

/// Reads what is remembered of the entries. All entries of unchanged chunks are untouched; those that were derived, with
/// these keys, belong to no chunk. Returns `false` if that cannot be told for each of them, or if so much changed that
/// reading all rows costs no more.
pub(crate) fn remember_entries(
    ledger: &dyn Ledger,
    remembered: &mut Remembered,
    arrivals: &Arrivals,
    (reuse, derived, provenances): (&Reuse, &[u128], &Provenances),
    (scratch, memory): (&Path, usize),
) -> Result<bool, StoreError> {
    let Some(chunks) = reuse.quiet() else {
        return Ok(recollect(ledger, remembered, (scratch, memory), None, provenances)?.is_some());
    };
    let met: HashSet<u64> = arrivals.chunks().met().iter().map(|(print, _)| *print).collect();
    let quiet: usize = arrivals.chunks().met().iter().map(|(_, rows)| *rows as usize).sum();
    let moved = chunks.iter().map(|(print, chunk)| (chunk, !met.contains(print)));
    let open = moved.filter(|(chunk, moved)| *moved || chunk.rest().next().is_some());
    let mut open = ledger.tags(&mut open.map(|(chunk, moved)| (chunk.members, moved)))?;
    let (rows, changed) = (arrivals.named(), arrivals.changed());
    let is_all = quiet + derived.len() == remembered.entries() || provenances.only_increments_stand();
    if open.is_empty() && rows.is_empty() && changed.is_empty() && is_all {
        remembered.untouched = Untouched::All;
        return Ok(true);
    }
    if open.len() + rows.len() + changed.len() > memory / BYTES_OF_INTEREST {
        return Ok(false);
    }
    open.extend(derived.iter().map(|key| tag(*key)).chain(changed.iter().copied()));
    open.extend(arrivals.summaries_of(arrivals.asked()).iter().map(|summary| tag(summary.key())));
    let interest = Interest::new(&open, rows);
    drop(open);
    // If two unchanged chunks name the same entry, the numbers differ.
    Ok(recollect(ledger, remembered, (scratch, memory), Some(&interest), provenances)? == Some(quiet))
}

/// About how many bytes it takes to record that an entry has to be compared, or that a row names it.
const BYTES_OF_INTEREST: usize = 24;

/// Remembers the chunks with their shares, by print, and which of their rows the next build has to read. If chunks are not used, remembered ones
/// are forgotten.
pub(crate) fn keep_chunks(
    reuse: &Reuse,
    arrivals: &Arrivals,
    stands: impl Fn(RowId) -> bool,
    share: impl Fn(u64) -> Result<Option<ChunkShare>, StoreError>,
    writing: &dyn Writing,
    scratch: &Path,
) -> Result<(), StoreError> {
    let Some(known) = &reuse.chunks else { return writing.forget_chunks() };
    let chunks = arrivals.chunks();
    let mut keeping = writing.keep_chunks(known, &chunks.prints().collect())?;
    chunks
        .each(scratch, stands, |print, chunk, members| keeping.keep(print, chunk, &members, share(print)?.as_ref()))?;
    keeping.done()
}
