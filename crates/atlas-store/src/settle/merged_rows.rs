//! The rows that joining merges, partition by partition, until they are added to the arrivals in the order of their
//! first rows.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, VecDeque};
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use atlas_core::fingerprint::Prints;

use crate::arrival::{Block, BlockStore, Decider, RowId};

/// How many bytes of rows are read back at a time of each partition.
const PIECE: usize = 64 << 10;

/// What is known of a merged row.
#[derive(Debug, Clone)]
pub(super) struct Merged {
    /// The first of its rows.
    pub(super) first: RowId,
    /// The position where the ledger remembers its entry, if it does.
    pub(super) prior: Option<u32>,
    /// The number of its set of sources.
    pub(super) set: u32,
    /// The fingerprints that it would have if nothing about its sources had changed, if anything has.
    pub(super) as_before: Option<Box<Prints>>,
}

/// Merged rows, in memory or on disk.
#[derive(Debug)]
pub(super) struct MergedRows {
    decider: Decider,
    blocks: Mutex<BlockStore>,
}

/// The merged rows of one partition, in the order of their first rows.
#[derive(Debug, Default)]
pub(super) struct MergedPart {
    rows: VecDeque<Merged>,
    /// The numbers of its blocks.
    blocks: VecDeque<usize>,
    /// The block that is read, and the index of its next row.
    read: Option<(Arc<Block>, usize)>,
}

impl MergedRows {
    /// None so far. What does not fit into this many bytes of memory is written to `folder`.
    pub(super) fn new(decider: &Decider, folder: &Path, memory: usize) -> Self {
        Self { decider: decider.clone(), blocks: Mutex::new(BlockStore::new(decider.clone(), folder, memory)) }
    }

    /// Takes the rows of a partition and what is known of each.
    pub(super) fn take(&self, rows: &Block, mut merged: Vec<Merged>) -> io::Result<MergedPart> {
        let mut order: Vec<usize> = (0..merged.len()).collect();
        order.sort_unstable_by_key(|at| merged[*at].first);
        let mut part = MergedPart::default();
        let (mut piece, mut bytes) = (Block::new(&self.decider), 0);
        for at in order {
            let row = rows.row(at);
            bytes += row.len();
            piece.push_copy(&row, rows.summary(at));
            if bytes >= PIECE {
                part.blocks.push_back(self.put(std::mem::replace(&mut piece, Block::new(&self.decider)))?);
                bytes = 0;
            }
        }
        if !piece.is_empty() {
            part.blocks.push_back(self.put(piece)?);
        }
        merged.sort_unstable_by_key(|merged| merged.first);
        part.rows = merged.into();
        Ok(part)
    }

    fn put(&self, piece: Block) -> io::Result<usize> {
        let mut blocks = self.blocks.lock().unwrap_or_else(PoisonError::into_inner);
        let number = blocks.len();
        blocks.push(piece)?;
        Ok(number)
    }

    /// Passes on the rows of all partitions, in the order of their first rows: the block that holds a row, its index
    /// there, and what is known of it.
    pub(super) fn in_order(
        self,
        mut parts: Vec<MergedPart>,
        mut take: impl FnMut(&Block, usize, &Merged),
    ) -> io::Result<()> {
        let blocks = self.blocks.into_inner().unwrap_or_else(PoisonError::into_inner);
        let nexts = parts.iter().enumerate().filter_map(|(at, part)| Some(Reverse((part.rows.front()?.first, at))));
        let mut nexts: BinaryHeap<Reverse<(RowId, usize)>> = nexts.collect();
        while let Some(Reverse((_, at))) = nexts.pop() {
            let part = &mut parts[at];
            let Some(merged) = part.rows.pop_front() else { continue };
            let (block, row) = match part.read.take().filter(|(block, row)| *row < block.len()) {
                Some(read) => read,
                None => {
                    let number = part.blocks.pop_front().ok_or_else(|| io::Error::other("a merged row is missing"))?;
                    (blocks.get(number)?, 0)
                }
            };
            take(&block, row, &merged);
            part.read = Some((block, row + 1));
            nexts.extend(part.rows.front().map(|next| Reverse((next.first, at))));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use atlas_core::contribution::{Contribution, url_of};
    use rstest::rstest;

    use super::*;
    use crate::arrival::plain_decider;

    #[rstest]
    #[case::in_memory(1 << 30)]
    #[case::on_disk(0)]
    fn rows_come_back_in_the_order_of_their_first_rows(#[case] memory: usize) {
        let folder = tempfile::tempdir().unwrap();
        let decider = plain_decider();
        let rows = MergedRows::new(&decider, folder.path(), memory);
        let url = |first: u32| format!("https://www.marrowvale.example/{first}/{}", "halt-".repeat(2_000));
        let part = |nth: u32| {
            let mut block = Block::new(&decider);
            let firsts = (0..40).map(|at| (at * 7 + nth) % 40 * 3 + nth);
            let merged = firsts.map(|first| {
                block.push(&Contribution { url: url(first).into(), ..Contribution::default() });
                Merged { first: RowId(first), prior: Some(first + 1), set: nth, as_before: None }
            });
            let merged = merged.collect();
            rows.take(&block, merged).unwrap()
        };
        let parts = (0..3).map(part).collect();
        let mut next = 0;
        let take = |block: &Block, row: usize, merged: &Merged| {
            assert_eq!((merged.first, merged.prior, merged.set), (RowId(next), Some(next + 1), next % 3));
            assert_eq!(url_of(&block.row(row)), url(next));
            next += 1;
        };
        rows.in_order(parts, take).unwrap();
        assert_eq!(next, 120);
    }
}
