//! What has to be derived again after entries have moved: archives count the rows of unchanged chunks by their shares,
//! and of these rows only those that may be in a group with one that moved are asked for.

use std::collections::{HashMap, HashSet};

use atlas_core::archive::ArchiveTally;
use atlas_core::contribution::Contribution;
use atlas_core::derive::alternates::AlternatesSettings;
use foldhash::fast::FixedState;
use rayon::prelude::*;

use super::alternates::blocking_keys;
use super::shares::{ArchiveNumbers, ShareSums, keys_of_rows};
use crate::arrival::{Arrivals, AskedRows};
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::ChunkShare;

/// If more than this share of the skipped rows is asked for, reading all of them costs no more.
const WORTHWHILE: usize = 3;

/// What has to be derived again.
#[derive(Debug)]
pub(crate) struct Affected<'c> {
    /// The counts of archives among the rows of unchanged chunks.
    pub(crate) tally: ArchiveTally<'c>,
    /// The rows of unchanged chunks that have to be read.
    pub(crate) asked: AskedRows,
}

type Keys = HashSet<u32, FixedState>;

/// Finds out what has to be derived again; `None` if all rows have to be read. `tally` is empty, and `alternates` says
/// how groups are found, if there may be any.
pub(crate) fn affected<'c>(
    ledger: &dyn Ledger,
    arrivals: &Arrivals,
    archives: &ArchiveNumbers,
    mut tally: ArchiveTally<'c>,
    alternates: Option<&AlternatesSettings>,
) -> Result<Option<Affected<'c>>, StoreError> {
    let mut met: HashMap<u64, Option<Vec<u8>>, FixedState> =
        arrivals.chunks().met().iter().map(|(print, _)| (*print, None)).collect();
    let (mut sums, mut moved) = (ShareSums::default(), Keys::default());
    ledger.each_share(&mut |print, ChunkShare { counts, keys }| match met.get_mut(&print) {
        Some(share) => {
            sums.add(&counts);
            *share = Some(keys);
        }
        None => moved.extend(keys_of_rows(&keys).flatten().map(|key| u32::from_le_bytes(*key))),
    })?;
    let shares: Option<Vec<(u64, Vec<u8>)>> = met.into_iter().map(|(print, keys)| Some((print, keys?))).collect();
    let Some(shares) = shares else { return Ok(None) };
    sums.count_in(archives, &mut tally);
    let mut asked = AskedRows::default();
    if let Some(settings) = alternates {
        moved.extend(keys_of_arrivals(arrivals, settings));
        let limit = arrivals.chunks().met().iter().map(|(_, rows)| *rows as usize).sum::<usize>() / WORTHWHILE;
        let Some(found) = bound_to(moved, &shares, limit) else { return Ok(None) };
        asked.by_chunk = found;
    }
    Ok(Some(Affected { tally, asked }))
}

/// The blocking keys of all rows that arrived.
fn keys_of_arrivals(arrivals: &Arrivals, settings: &AlternatesSettings) -> Vec<u32> {
    let seed = arrivals.decider().seed();
    let of_block = |at: usize| {
        let block = arrivals.block(at);
        let mut keys = Vec::new();
        for row in 0..block.len() {
            keys.extend(blocking_keys(&Contribution::read(&block.row(row)), settings, seed));
        }
        keys
    };
    (0..arrivals.blocks()).into_par_iter().flat_map_iter(of_block).collect()
}

/// The rows that share keys with those that moved, directly or through others, by the prints of their chunks; `None` if
/// there are more than `limit`.
fn bound_to(mut moved: Keys, shares: &[(u64, Vec<u8>)], limit: usize) -> Option<HashMap<u64, Vec<u32>>> {
    loop {
        let (mut found, mut rows, before) = (HashMap::<u64, Vec<u32>>::new(), 0, moved.len());
        for (print, keys) in shares {
            for keys in keys_of_rows(keys) {
                let mut keys = keys.iter().map(|key| u32::from_le_bytes(*key));
                if !keys.clone().any(|key| moved.contains(&key)) {
                    continue;
                }
                moved.extend(keys.clone());
                found.entry(*print).or_default().extend(keys.next());
                rows += 1;
            }
        }
        if rows > limit {
            return None;
        }
        if moved.len() == before {
            return Some(found);
        }
    }
}
