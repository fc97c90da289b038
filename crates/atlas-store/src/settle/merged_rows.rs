//! The rows that joining merges, partition by partition, until they are added to the arrivals in the order of their
//! first rows.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, VecDeque};
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use crate::arrival::{Block, BlockStore, Decider, RowId, RowSummary};

/// How many bytes of rows are read back at a time of each partition.
const PIECE: usize = 64 << 10;

/// What is known of a merged row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Merged {
    /// The first of its rows.
    pub(super) first: RowId,
    /// The position where the ledger remembers its entry, if it does.
    pub(super) prior: Option<u32>,
    /// The number of its set of sources.
    pub(super) set: u32,
}

/// Merged rows, in memory or on disk.
#[derive(Debug)]
pub(super) struct MergedRows {
    decider: Decider,
    blocks: Mutex<BlockStore>,
}

/// The numbers of the blocks that hold the merged rows of one partition, in the order of their first rows.
pub(super) type MergedPart = VecDeque<usize>;

/// A row with its place in a block.
struct Next {
    block: Arc<Block>,
    row: usize,
}

impl MergedRows {
    /// None so far. What does not fit into this many bytes of memory is written to `folder`.
    pub(super) fn new(decider: &Decider, folder: &Path, memory: usize) -> Self {
        Self { decider: decider.clone(), blocks: Mutex::new(BlockStore::new(decider.clone(), folder, memory)) }
    }

    /// Takes the rows of a partition and what is known of each.
    pub(super) fn take(&self, rows: &Block, merged: &[Merged]) -> io::Result<MergedPart> {
        let mut order: Vec<usize> = (0..merged.len()).collect();
        order.sort_unstable_by_key(|at| merged[*at].first);
        let mut part = MergedPart::new();
        let (mut piece, mut bytes) = (Block::new(&self.decider), Vec::new());
        let mut size = 0;
        for at in order {
            bytes.clear();
            merged[at].write(&mut bytes);
            bytes.extend_from_slice(&rows.row(at));
            piece.push_copy(&bytes, rows.summary(at));
            size += bytes.len();
            if size >= PIECE {
                part.push_back(self.put(std::mem::replace(&mut piece, Block::new(&self.decider)))?);
                size = 0;
            }
        }
        if !piece.is_empty() {
            part.push_back(self.put(piece)?);
        }
        Ok(part)
    }

    fn put(&self, piece: Block) -> io::Result<usize> {
        let mut blocks = self.blocks.lock().unwrap_or_else(PoisonError::into_inner);
        let number = blocks.len();
        blocks.push(piece)?;
        Ok(number)
    }

    /// Passes on the rows of all partitions, in the order of their first rows: the bytes of each, its summary, and what
    /// else is known of it.
    pub(super) fn in_order(
        self,
        mut parts: Vec<MergedPart>,
        mut take: impl FnMut(&[u8], RowSummary, Merged),
    ) -> io::Result<()> {
        let blocks = self.blocks.into_inner().unwrap_or_else(PoisonError::into_inner);
        let open = |part: &mut MergedPart| match part.pop_front() {
            Some(number) => blocks.get(number).map(|block| Some(Next { block, row: 0 })),
            None => Ok(None),
        };
        let mut nexts: Vec<Option<Next>> = parts.iter_mut().map(open).collect::<io::Result<_>>()?;
        let waiting = nexts.iter().zip(0..).filter_map(|(next, at)| Some(Reverse((next.as_ref()?.merged().first, at))));
        let mut waiting: BinaryHeap<Reverse<(RowId, usize)>> = waiting.collect();
        while let Some(Reverse((_, at))) = waiting.pop() {
            let Some(Next { block, row }) = nexts[at].take() else { continue };
            let next = Next { block, row };
            take(&next.block.row(row)[Merged::BYTES..], next.block.summary(row), next.merged());
            let has_more = row + 1 < next.block.len();
            nexts[at] = if has_more { Some(Next { row: row + 1, ..next }) } else { open(&mut parts[at])? };
            waiting.extend(nexts[at].as_ref().map(|next| Reverse((next.merged().first, at))));
        }
        Ok(())
    }
}

impl Next {
    fn merged(&self) -> Merged {
        Merged::read(&self.block.row(self.row))
    }
}

impl Merged {
    const BYTES: usize = 12;

    /// Appends it to bytes, [`Merged::BYTES`] of them.
    fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.first.0.to_le_bytes());
        out.extend_from_slice(&self.prior.unwrap_or(u32::MAX).to_le_bytes());
        out.extend_from_slice(&self.set.to_le_bytes());
    }

    /// The inverse of [`Merged::write`]; the bytes may go on.
    fn read(bytes: &[u8]) -> Self {
        let number = |at: usize| bytes[at..].first_chunk().copied().map_or(u32::MAX, u32::from_le_bytes);
        Self { first: RowId(number(0)), prior: Some(number(4)).filter(|prior| *prior != u32::MAX), set: number(8) }
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
                Merged { first: RowId(first), prior: Some(first + 1).filter(|prior| prior % 2 == 0), set: nth }
            });
            let merged: Vec<Merged> = merged.collect();
            rows.take(&block, &merged).unwrap()
        };
        let parts = (0..3).map(part).collect();
        let mut next = 0;
        let take = |row: &[u8], _, merged: Merged| {
            let prior = Some(next + 1).filter(|prior| prior % 2 == 0);
            assert_eq!(merged, Merged { first: RowId(next), prior, set: next % 3 });
            assert_eq!(url_of(row), url(next));
            next += 1;
        };
        rows.in_order(parts, take).unwrap();
        assert_eq!(next, 120);
    }
}
