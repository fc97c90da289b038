//! The rows that represent entries.

use std::borrow::Cow;
use std::collections::HashMap;

use atlas_core::choose::Verdict;
use atlas_core::fingerprint::Prints;

use super::assignment::{Assignment, Role};
use crate::arrival::{Arrivals, Block, RowId, RowSummary};
use crate::model::UNKNOWN;
use crate::provenance::Provenances;

/// The origin of a merged row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct MergedFrom<'s> {
    /// The first of its rows.
    pub(crate) first: RowId,
    /// Its sources, without duplicates, the most credible first.
    pub(crate) sources: &'s [u16],
    /// The number of its provenance.
    pub(crate) provenance: u16,
}

/// The sources of merged rows. Many rows share one set.
#[derive(Debug, Default)]
pub(crate) struct SourceSets {
    /// Each with the number of its provenance.
    sets: Vec<(Vec<u16>, u16)>,
    by_sources: HashMap<Vec<u16>, u32>,
}

impl SourceSets {
    /// The number of a set, and that of its provenance.
    pub(super) fn number(&mut self, sources: &[u16], provenances: &Provenances) -> (u32, u16) {
        if let Some(&number) = self.by_sources.get(sources) {
            return (number, self.sets[number as usize].1);
        }
        let (number, provenance) = (self.sets.len() as u32, provenances.number(sources));
        self.sets.push((sources.to_owned(), provenance));
        self.by_sources.insert(sources.to_owned(), number);
        (number, provenance)
    }
}

/// The origins of merged rows, which follow each other in the arrivals.
#[derive(Debug, Default)]
pub(crate) struct Origins {
    /// The first merged row.
    begin: u32,
    /// The first row of each merged row, and the number of its set of sources.
    rows: Vec<(RowId, u32)>,
    sets: SourceSets,
    /// The fingerprints that merged rows would have if nothing about their sources had changed, if anything has, by the
    /// first of their rows.
    as_before: HashMap<RowId, Prints>,
}

impl Origins {
    /// No origins yet, of rows that come from here on.
    pub(super) fn new(begin: usize, sets: SourceSets) -> Self {
        Self { begin: begin as u32, sets, ..Self::default() }
    }

    /// Adds the origin of the next merged row.
    pub(super) fn push(&mut self, first: RowId, set: u32) {
        self.rows.push((first, set));
    }

    /// Adds fingerprints that merged rows would have, by the first of their rows.
    pub(super) fn add_as_before(&mut self, prints: Vec<(RowId, Prints)>) {
        self.as_before.extend(prints);
    }

    /// The origin of a row, if it was merged.
    pub(crate) fn of(&self, row_id: RowId) -> Option<MergedFrom<'_>> {
        let (first, set) = *self.rows.get(row_id.0.checked_sub(self.begin)? as usize)?;
        let (sources, provenance) = &self.sets.sets[set as usize];
        Some(MergedFrom { first, sources, provenance: *provenance })
    }

    /// The fingerprints that a merged row would have if nothing about its sources had changed, if anything has.
    pub(crate) fn as_before(&self, row_id: RowId) -> Option<Prints> {
        self.as_before.get(&self.of(row_id)?.first).copied()
    }
}

/// Which rows represent entries, and where merged ones come from. With this, all entries can be iterated again.
#[derive(Debug, Default)]
pub(crate) struct EntryRows {
    pub(crate) assignment: Assignment,
    pub(crate) origins: Origins,
    /// The provenances of one source alone, by the index of the source.
    pub(crate) single: Vec<u16>,
}

/// A row that represents an entry.
#[derive(Debug, Clone, Copy)]
pub(crate) struct EntryRow<'s> {
    /// The row.
    pub(crate) row_id: RowId,
    /// Its summary.
    pub(crate) summary: RowSummary,
    /// The sources of a merged row.
    pub(crate) origin: Option<MergedFrom<'s>>,
    /// The position where the ledger remembers the entry, if it does.
    pub(crate) prior: Option<u32>,
}

impl EntryRows {
    /// Passes on the rows that represent entries. Merged ones come last.
    pub(crate) fn each<'s>(&'s self, arrivals: &Arrivals, mut take: impl FnMut(EntryRow<'s>)) {
        for at in 0..arrivals.blocks() {
            let block = arrivals.block(at);
            self.of_block(arrivals, at, &block).for_each(|(entry_row, _)| take(entry_row));
        }
    }

    /// The rows of one block that represent entries, each with its bytes.
    pub(crate) fn of_block<'b>(
        &self,
        arrivals: &Arrivals,
        at: usize,
        block: &'b Block,
    ) -> impl Iterator<Item = (EntryRow<'_>, Cow<'b, [u8]>)> {
        self.some_of_block(arrivals, at, block, |_| true)
    }

    /// The same, but only rows whose place in the ledger is wanted.
    pub(crate) fn some_of_block<'b>(
        &self,
        arrivals: &Arrivals,
        at: usize,
        block: &'b Block,
        is_wanted: impl Fn(Option<u32>) -> bool,
    ) -> impl Iterator<Item = (EntryRow<'_>, Cow<'b, [u8]>)> {
        let assignment = self.roles_of(arrivals, at, block).enumerate();
        let entry_rows = assignment.filter_map(|(row, role)| Some((row, role.prior()?)));
        let entry_rows = entry_rows.filter(move |(_, prior)| is_wanted(*prior));
        let first = arrivals.first_of(at);
        entry_rows.map(move |(row, prior)| {
            let (bytes, summary) = block.entry(row);
            (self.entry_row(first, row, prior, summary), bytes)
        })
    }

    /// The roles of the rows of one block.
    pub(crate) fn roles_of(&self, arrivals: &Arrivals, at: usize, block: &Block) -> impl Iterator<Item = Role> {
        let first = arrivals.first_of(at).0;
        (first..first + block.len() as u32).map(|at| self.assignment.of(RowId(at)))
    }

    /// A row of a block whose first row has this id.
    pub(crate) fn entry_row(&self, first: RowId, row: usize, prior: Option<u32>, summary: RowSummary) -> EntryRow<'_> {
        let row_id = RowId(first.0 + row as u32);
        EntryRow { row_id, summary, origin: self.origins.of(row_id), prior }
    }

    /// Whether a row represents an entry.
    pub(crate) fn is_entry(&self, row_id: RowId) -> bool {
        self.assignment.of(row_id) != Role::PassedOver
    }

    /// Whether a row represents an entry that is new to the ledger.
    pub(crate) fn is_new(&self, row_id: RowId) -> bool {
        self.assignment.of(row_id) == Role::New
    }

    /// The rows that represent entries new to the ledger.
    pub(crate) fn new_rows(&self) -> impl Iterator<Item = RowId> {
        self.assignment.all().filter(|(_, role)| *role == Role::New).map(|(row_id, _)| row_id)
    }

    /// The sources that name the entry of a row.
    pub(crate) fn sources(&self, arrivals: &Arrivals, row_id: RowId) -> Vec<u16> {
        self.origins.of(row_id).map_or_else(|| vec![arrivals.source_of(row_id)], |origin| origin.sources.to_owned())
    }

    /// The number of the provenance of a row that represents an entry.
    pub(crate) fn provenance(&self, arrivals: &Arrivals, row_id: RowId) -> u16 {
        let alone = || self.single.get(usize::from(arrivals.source_of(row_id))).copied();
        self.origins.of(row_id).map(|origin| origin.provenance).or_else(alone).unwrap_or(UNKNOWN)
    }

    /// The row that first named the entry of this row.
    pub(crate) fn named(&self, row_id: RowId) -> RowId {
        self.origins.of(row_id).map_or(row_id, |origin| origin.first)
    }
}

impl EntryRow<'_> {
    /// The row that first named its URL. It gives the order of sources, which a merged row no longer has.
    pub(crate) fn named(&self) -> RowId {
        self.origin.map_or(self.row_id, |origin| origin.first)
    }

    /// The sources that name the entry.
    pub(crate) fn sources(&self, arrivals: &Arrivals) -> Cow<'_, [u16]> {
        match self.origin {
            Some(origin) => Cow::Borrowed(origin.sources),
            None => Cow::Owned(vec![arrivals.source_of(self.row_id)]),
        }
    }

    /// The verdict on the entry.
    pub(crate) fn verdict(&self) -> Verdict {
        self.summary.verdict
    }
}
