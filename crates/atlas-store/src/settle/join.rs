//! Joining keys: which rows speak of one URL, and where the ledger remembers it. Rows are only read where several have to
//! be merged.

use std::collections::BTreeMap;

use atlas_core::contribution::Said;
use rayon::prelude::*;

use super::{Sample, UNKNOWN};
use crate::arrival::{Arrivals, Block, Place};
use crate::ledger::LaneEntry;

const PARTITIONS: usize = 64;

fn partition(key: u128) -> usize {
    (key >> 122) as usize
}

/// What the keys alone say.
pub(crate) struct Joined {
    /// For each row of each block: where the ledger remembers it, [`UNKNOWN`], or [`PASSED_OVER`].
    pub(crate) roles: Vec<Vec<u32>>,
    /// Rows that were merged from several.
    pub(crate) merged: Vec<Merged>,
    /// Remembered entries that no row speaks of.
    pub(super) gone: Vec<u32>,
    /// Rows whose source had named the URL before.
    pub(super) duplicates: Option<Sample>,
    /// Fields on which two sources say something else.
    pub(super) at_odds: BTreeMap<Odds, Sample>,
}

/// A field, and the two sources that are at odds about it.
pub(crate) type Odds = (&'static str, u16, u16);

/// The rows of one partition that were merged from several.
pub(crate) struct Merged {
    pub(super) rows: Block,
    pub(super) priors: Vec<u32>,
    pub(super) origins: Vec<Origin>,
}

/// Where a merged row comes from.
#[derive(Debug, Clone)]
pub(crate) struct Origin {
    /// The place of the first of its rows.
    pub(crate) first: Place,
    /// The sum of their fingerprints.
    pub(crate) sum: u64,
    /// Their sources, each once.
    pub(crate) sources: Vec<u16>,
}

/// A row that counts only as part of a merged one.
pub(super) const PASSED_OVER: u32 = u32::MAX - 1;

/// A row in its partition.
type Dealt = (u128, Place, u64);

/// Joins the keys of all rows with one another and with those that the ledger remembers.
pub(crate) fn join<'l>(arrivals: &Arrivals, lane: impl Iterator<Item = (usize, &'l LaneEntry)>, seed: u64) -> Joined {
    let share = arrivals.len() / PARTITIONS + arrivals.len() / PARTITIONS / 8 + 16;
    let mut rows: Vec<Vec<Dealt>> = (0..PARTITIONS).map(|_| Vec::with_capacity(share)).collect();
    for (place, mark) in arrivals.marks() {
        rows[partition(mark.key)].push((mark.key, place, mark.said));
    }
    let mut known: Vec<Vec<(u128, u32)>> = vec![Vec::new(); PARTITIONS];
    for (at, entry) in lane {
        known[partition(entry.key)].push((entry.key, at as u32));
    }
    let parts: Vec<Part> =
        rows.into_par_iter().zip(known).map(|(rows, known)| join_partition(arrivals, seed, rows, known)).collect();
    let mut joined = Joined {
        roles: arrivals.block_lengths().map(|rows| vec![PASSED_OVER; rows]).collect(),
        merged: Vec::new(),
        gone: Vec::new(),
        duplicates: None,
        at_odds: BTreeMap::new(),
    };
    for part in parts {
        part.at_odds.into_iter().for_each(|(odds, sample)| joined.at_odds.entry(odds).or_default().join(sample));
        part.singles.into_iter().for_each(|(place, prior)| joined.roles[place.block()][place.row()] = prior);
        joined.gone.extend(part.gone);
        if part.duplicates.count() > 0 {
            joined.duplicates.get_or_insert_default().join(part.duplicates);
        }
        if !part.merged.rows.is_empty() {
            joined.merged.push(part.merged);
        }
    }
    joined
}

/// What came of one partition.
struct Part {
    singles: Vec<(Place, u32)>,
    pub(super) merged: Merged,
    pub(super) gone: Vec<u32>,
    pub(super) duplicates: Sample,
    at_odds: BTreeMap<Odds, Sample>,
}

fn join_partition(arrivals: &Arrivals, seed: u64, mut rows: Vec<Dealt>, mut known: Vec<(u128, u32)>) -> Part {
    rows.sort_unstable_by_key(|(key, place, _)| (*key, *place));
    known.sort_unstable();
    let mut part = Part {
        singles: Vec::with_capacity(rows.len()),
        merged: Merged { rows: Block::new(seed), priors: Vec::new(), origins: Vec::new() },
        gone: Vec::new(),
        duplicates: Sample::default(),
        at_odds: BTreeMap::new(),
    };
    let mut known = known.into_iter().peekable();
    for group in rows.chunk_by(|one, other| one.0 == other.0) {
        let key = group[0].0;
        while let Some((_, gone)) = known.next_if(|(known, _)| *known < key) {
            part.gone.push(gone);
        }
        let prior = known.next_if(|(known, _)| *known == key).map_or(UNKNOWN, |(_, at)| at);
        match group {
            [(_, place, _)] => part.singles.push((*place, prior)),
            group => part.merge(arrivals, group, prior),
        }
    }
    part.gone.extend(known.map(|(_, gone)| gone));
    part
}

impl Part {
    fn merge(&mut self, arrivals: &Arrivals, group: &[Dealt], prior: u32) {
        let (_, first, mut sum) = group[0];
        let mut said = Said::read(arrivals.row(first));
        let own = arrivals.source_of(first) as u16;
        let mut sources = vec![own];
        let mut earlier = vec![(own, said.clone())];
        for &(_, place, hash) in &group[1..] {
            let source = arrivals.source_of(place) as u16;
            let other = Said::read(arrivals.row(place));
            if sources.contains(&source) {
                self.duplicates.add(place, &said.url);
            } else {
                sources.push(source);
                // An archive's page is said to be so by its entries: that is no other word of a source.
                let fields = if other.archive.is_some() { Vec::new() } else { said.at_odds(&other) };
                for field in fields {
                    let standing = word(&said, field);
                    // The word that stands is that of the first who said anything.
                    let owner =
                        earlier.iter().find(|(_, one)| word(one, field) == standing).map_or(own, |(owner, _)| *owner);
                    let sample = self.at_odds.entry((field, owner, source)).or_default();
                    sample.add_with(first, || format!("{}\n{standing}\n{}", said.url, word(&other, field)));
                }
                earlier.push((source, other.clone()));
            }
            said.merge(other);
            sum = sum.wrapping_add(hash);
        }
        self.merged.rows.push(&said);
        self.merged.priors.push(prior);
        self.merged.origins.push(Origin { first, sum, sources });
    }
}

/// What is said in a field, in words.
fn word(said: &Said<'_>, field: &str) -> String {
    said.words()
        .into_iter()
        .find(|(name, _)| *name == field)
        .map(|(_, word)| word.replace('\n', " "))
        .unwrap_or_default()
}
