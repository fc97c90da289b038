//! Which rows stand for entries.

use std::borrow::Cow;

use atlas_core::choose::{Chooser, Verdict};
use atlas_core::contribution::Said;

use super::join::{Merged, Origin, PASSED_OVER};
use crate::arrival::{Arrivals, Place};

/// Which rows count, and where merged ones come from: what lets all entries be gone over once more.
#[derive(Debug, Default)]
pub(crate) struct Standing {
    pub(super) roles: Vec<Vec<u32>>,
    origins: Vec<Vec<Origin>>,
}

/// A row that stands for an entry.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Stand<'s> {
    /// Where the row is.
    pub(crate) place: Place,
    /// Where its URL was named first.
    pub(crate) named: Place,
    /// Where a merged row comes from.
    pub(crate) origin: Option<&'s Origin>,
    /// Where the ledger remembers it, or [`UNKNOWN`].
    pub(super) prior: u32,
}

impl Standing {
    /// Rows that count by themselves, and those that were merged: their blocks are added to the arrivals.
    pub(crate) fn new(mut roles: Vec<Vec<u32>>, merged: Vec<Merged>, arrivals: &mut Arrivals) -> Self {
        let mut origins = Vec::new();
        for merged in merged {
            roles.push(merged.priors);
            origins.push(merged.origins);
            arrivals.push(merged.rows);
        }
        Self { roles, origins }
    }

    /// The number of blocks.
    pub(crate) fn blocks(&self) -> usize {
        self.roles.len()
    }

    /// All rows that stand for entries; those merged from several come last.
    pub(crate) fn all(&self) -> impl Iterator<Item = Stand<'_>> {
        (0..self.roles.len()).flat_map(|block| self.of_block(block))
    }

    /// The rows of one block that stand for entries.
    pub(crate) fn of_block(&self, block: usize) -> impl Iterator<Item = Stand<'_>> {
        let origins = block.checked_sub(self.roles.len() - self.origins.len()).map(|nth| &self.origins[nth]);
        let standing = self.roles[block].iter().enumerate().filter(|(_, prior)| **prior != PASSED_OVER);
        standing.map(move |(row, &prior)| {
            let place = Arrivals::place(block as u32, row);
            let origin = origins.map(|origins| &origins[row]);
            Stand { place, named: origin.map_or(place, |origin| origin.first), origin, prior }
        })
    }
}

impl Stand<'_> {
    /// The sources that speak of the entry.
    pub(crate) fn sources(&self, arrivals: &Arrivals) -> Cow<'_, [u16]> {
        match self.origin {
            Some(origin) => Cow::Borrowed(&origin.sources),
            None => Cow::Owned(vec![arrivals.source_of(self.place) as u16]),
        }
    }

    /// Decides about the entry, whose row has been read.
    pub(crate) fn choose(&self, said: &Said<'_>, chooser: &Chooser, arrivals: &Arrivals) -> Verdict {
        match self.origin {
            Some(origin) => chooser.choose(said, &origin.sources),
            None => chooser.choose(said, &[arrivals.source_of(self.place) as u16]),
        }
    }
}
