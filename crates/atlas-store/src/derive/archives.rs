//! Deriving the pages of archives, which form one more source of the build.

use std::collections::HashSet;
use std::io;

use atlas_core::accepted::Accepted;
use atlas_core::archive::{ArchivePage, ArchiveTally};
use atlas_core::choose::{Chooser, Verdict};
use atlas_core::contribution::{Contribution, is_dead, url_of};
use atlas_core::fingerprint;
use atlas_core::judge::is_redesign;
use atlas_core::output_policy::lastmod;
use rayon::prelude::*;

use crate::arrival::{Arrivals, Block, RowFlag};
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered};
use crate::model::RememberedEntry;
use crate::provenance::Provenances;
use crate::settle::{EntryRow, EntryRows, Expected, ReportLimits, join};
use atlas_core::report::{Outcome, Problem};

/// The name of this source in reports. It comes after all others.
pub const ARCHIVES: &str = "archives";

/// What the ledger remembers of the entries' pages, in its order, to find out on which days they changed.
pub(crate) struct PagesBefore<'a> {
    remembered: &'a Remembered,
    entries: Vec<RememberedEntry>,
    /// The day of this run; `None` if what pages were like before says nothing about now.
    today: Option<i32>,
}

impl<'a> PagesBefore<'a> {
    /// Reads it; `today` is `None` if another version of the reader read the pages then. If no source reads pages,
    /// there is nothing to compare.
    pub(crate) fn read(
        (ledger, reads_pages): (&dyn Ledger, bool),
        remembered: &'a Remembered,
        today: Option<i32>,
    ) -> Result<Self, StoreError> {
        let mut entries = Vec::new();
        if reads_pages {
            entries.reserve(remembered.entries());
            for (file, segment) in remembered.segments(|_| true) {
                entries.extend(ledger.entries_of(file.id, segment)?);
            }
        }
        Ok(Self { remembered, entries, today })
    }

    /// The day on which an entry was last seen to change, including today.
    fn seen(&self, entry_row: &EntryRow<'_>, provenance: u16) -> Option<i32> {
        let at = entry_row.prior?;
        self.today.filter(|_| self.moved(entry_row, provenance) == Some(true)).or_else(|| self.remembered.observed(at))
    }

    /// Whether the page of an entry has changed; `None` if that cannot be told.
    fn moved(&self, entry_row: &EntryRow<'_>, provenance: u16) -> Option<bool> {
        let known = self.entries.get(entry_row.prior? as usize)?;
        let can_be_told = known.from_page
            && entry_row.summary.has(RowFlag::FromPage)
            && known.provenance == provenance
            && !known.is_recalled();
        can_be_told.then_some(known.page != entry_row.summary.page)
    }

    /// Whether so many pages changed at once that this is a redesign: then no change counts as today's.
    fn is_redesigned(&self, arrivals: &Arrivals, entry_rows: &EntryRows) -> bool {
        let (mut known, mut moved) = (0u64, 0u64);
        for at in 0..arrivals.blocks() {
            let block = arrivals.block(at);
            for (entry_row, _) in entry_rows.of_block(arrivals, at, &block) {
                if let Some(is_moved) = self.moved(&entry_row, entry_rows.provenance(arrivals, entry_row.row_id)) {
                    known += 1;
                    moved += u64::from(is_moved);
                }
            }
        }
        is_redesign(moved, known)
    }
}

/// The pages of all archives.
#[derive(Debug)]
pub(crate) struct DerivedPages {
    /// What is reported of them.
    pub(crate) outcome: Outcome,
    /// Their rows, as the ledger keeps them.
    pub(crate) rows: DerivedRows,
}

/// Derives the pages of all archives from the contributions, and adds them to the arrivals as a source of their own. An
/// archive is as new as its newest date, counting days on which entries were seen to change. `pages_known` tells
/// whether some source reads the pages of the site: then an archive is listed only if its page is among them. `skipped`
/// counts the rows of unchanged chunks; those that were read all the same are not counted again.
pub(crate) fn archives(
    arrivals: &mut Arrivals,
    skipped: Option<&ArchiveTally<'_>>,
    pages_known: bool,
    expected: Option<&Expected>,
    provenances: &Provenances,
    mut before: PagesBefore<'_>,
) -> io::Result<DerivedPages> {
    let decider = arrivals.decider().clone();
    let (chooser, seed) = (decider.chooser(), decider.seed());
    let blocks = arrivals.blocks();
    // Remarks on rows are reported when all rows are joined.
    let telling = ReportLimits { examples: 0, accepted: &Accepted::default() };
    let joined = join(arrivals, Some(before.remembered), expected, (provenances, 0), None, telling)?;
    let entry_rows = joined.entry_rows;
    if before.is_redesigned(arrivals, &entry_rows) {
        before.today = None;
    }
    let counted = |passed_over: &HashSet<u128>| {
        let mut tally = count(arrivals, &entry_rows, chooser, &before, passed_over);
        skipped.into_iter().flat_map(ArchiveTally::counts).for_each(|counted| tally.add_counted(counted));
        tally
    };
    let (mut pages, mut troubles) = counted(&HashSet::new()).pages(&chooser.site);
    let keys: HashSet<u128> = pages.iter().map(|page| key(page, seed)).collect();
    let mut there: HashSet<u128> = HashSet::new();
    arrivals.each_summary(|place, summary| {
        if keys.contains(&summary.key()) && !is_dead(&arrivals.row(place)) {
            there.insert(summary.key());
        }
    });
    if !there.is_empty() {
        // The archive's own page may be filed under it, but is not one of its entries.
        (pages, troubles) = counted(&there).pages(&chooser.site);
    }
    arrivals.truncate(blocks);
    let mut rows = DerivedRows::default();
    for page in &pages {
        rows.push(&page.contribution(!pages_known || there.contains(&key(page, seed))));
    }
    rows.arrive(arrivals);
    let mut outcome = outcome(pages.len());
    for (name, why) in troubles {
        let message = format!("“{name}” does not make a URL: {why}; correct the url of the [[archive]]");
        outcome.problem(Problem { file: ARCHIVES.to_owned(), line: None, message, passed_over: true });
    }
    Ok(DerivedPages { outcome, rows })
}

/// Adds the pages of archives as they were derived by the last build, because no entry has moved since. If all entries
/// are `untouched`, they are only counted.
pub(crate) fn archives_as_before(arrivals: &mut Arrivals, rows: DerivedRows, untouched: bool) -> DerivedPages {
    let count = if untouched { rows.pass(arrivals) } else { rows.arrive(arrivals) };
    DerivedPages { outcome: outcome(count), rows }
}

fn outcome(pages: usize) -> Outcome {
    Outcome { rows: pages as u64, ..Outcome::of(ARCHIVES.to_owned()) }
}

/// Rows in one piece: each after its length, in 4 bytes.
#[derive(Debug, Default)]
pub(crate) struct DerivedRows(pub(crate) Vec<u8>);

impl DerivedRows {
    fn push(&mut self, contribution: &Contribution<'_>) {
        let at = self.0.len();
        self.0.extend_from_slice(&[0; 4]);
        contribution.write(&mut self.0);
        let length = (self.0.len() - at - 4) as u32;
        self.0[at..at + 4].copy_from_slice(&length.to_le_bytes());
    }

    fn rows(&self) -> impl Iterator<Item = &[u8]> {
        let mut rest = &self.0[..];
        std::iter::from_fn(move || {
            let (length, after) = rest.split_first_chunk()?;
            let (row, after) = after.split_at_checked(u32::from_le_bytes(*length) as usize)?;
            rest = after;
            Some(row)
        })
    }

    /// The keys of their URLs.
    pub(crate) fn keys(&self, seed: u64) -> Vec<u128> {
        self.rows().map(|row| fingerprint::key(seed, url_of(row))).collect()
    }

    /// Adds them to the arrivals as a source of their own; returns how many there are.
    fn arrive(&self, arrivals: &mut Arrivals) -> usize {
        let mut block = Block::new(&arrivals.begin_source());
        self.rows().for_each(|row| block.push_bytes(row));
        let rows = block.len();
        arrivals.push(block);
        rows
    }

    /// Counts them as rows of a source of their own that were skipped.
    fn pass(&self, arrivals: &mut Arrivals) -> usize {
        let rows = self.rows().count();
        arrivals.begin_source();
        arrivals.let_go(rows as u64);
        rows
    }
}

fn key(page: &ArchivePage, seed: u64) -> u128 {
    fingerprint::key(seed, page.address.as_str())
}

/// Counts all kept entries that were read, except those with these keys and those that their chunks count.
fn count<'c>(
    arrivals: &Arrivals,
    entry_rows: &EntryRows,
    chooser: &'c Chooser,
    before: &PagesBefore<'_>,
    passed_over: &HashSet<u128>,
) -> ArchiveTally<'c> {
    let count_block = |block: usize| {
        let mut tally = chooser.archives.tally();
        let rows = arrivals.block(block);
        for (entry_row, row) in entry_rows.of_block(arrivals, block, &rows) {
            let is_counted = arrivals.asked().binary_search(&entry_row.row_id).is_ok();
            if is_counted || passed_over.contains(&entry_row.summary.key()) {
                continue;
            }
            if let Verdict::Kept(kept) = entry_row.verdict() {
                let contribution = Contribution::read(&row);
                let section = &chooser.sections.list()[usize::from(kept.section)].name;
                let seen = before.seen(&entry_row, entry_rows.provenance(arrivals, entry_row.row_id));
                tally.add(&contribution, section, lastmod(&contribution, seen, kept.date_policy, &chooser.calendar));
            }
        }
        tally
    };
    let parts: Vec<ArchiveTally<'_>> = (0..arrivals.blocks()).into_par_iter().map(count_block).collect();
    parts.into_iter().fold(chooser.archives.tally(), |mut all, part| {
        all.join(part);
        all
    })
}
