//! The rows that have to be read for joining, because they share a URL with others or may lack a page. If blocks are on
//! disk, these rows are read once, in the order of arrival, and divided by partition; otherwise a block would be read
//! back for each of them.

use std::collections::HashMap;
use std::io;
use std::sync::atomic::{AtomicU64, Ordering};

use foldhash::fast::FixedState;
use rayon::prelude::*;

use super::expected::Expected;
use crate::arrival::{Arrivals, KeyedRow, RowId};
use crate::bytes::part as bytes_at;
use crate::disk::spill::{PARTITIONS, SpillFile};

/// How many bytes of a partition are gathered before they are written to disk.
const PIECE: usize = 64 << 10;
/// How many blocks are read at a time.
const BLOCKS_AT_A_TIME: usize = 8;
/// What precedes the bytes of a row: its id, its fingerprint and its length.
const HEAD: usize = 4 + 8 + 4;

/// The rows of all partitions, on disk.
#[derive(Debug)]
pub(super) struct SharedRows {
    parts: Vec<PartOfRows>,
    spill: SpillFile,
}

#[derive(Debug, Default)]
struct PartOfRows {
    /// Where its pieces are on disk, and their lengths.
    pieces: Vec<(u64, usize)>,
    rest: Vec<u8>,
}

/// The rows of one partition: the fingerprint and the bytes of each.
pub(super) type RowsOfPart = HashMap<RowId, (u64, Vec<u8>), FixedState>;

impl SharedRows {
    /// Reads the rows that have to be read; `None` if all blocks are in memory.
    pub(super) fn read(arrivals: &Arrivals, expected: Option<&Expected>) -> io::Result<Option<Self>> {
        if !arrivals.is_on_disk() {
            return Ok(None);
        }
        let wanted: Vec<AtomicU64> = (0..arrivals.len().div_ceil(64)).map(|_| AtomicU64::new(0)).collect();
        (0..PARTITIONS).into_par_iter().try_for_each(|part| {
            let mut rows = arrivals.partitions().part(part)?;
            rows.sort_unstable_by_key(|row| (row.key, row.row_id));
            let asks = |group: &[KeyedRow]| {
                let sources = || group.iter().map(|row| arrivals.source_of(row.row_id));
                group.len() > 1 || expected.is_some_and(|expected| expected.asks(sources()))
            };
            for row in rows.chunk_by(|one, other| one.key == other.key).filter(|group| asks(group)).flatten() {
                wanted[row.row_id.0 as usize / 64].fetch_or(1 << (row.row_id.0 % 64), Ordering::Relaxed);
            }
            io::Result::Ok(())
        })?;
        let mut shared = Self {
            parts: (0..PARTITIONS).map(|_| PartOfRows::default()).collect(),
            spill: SpillFile::new(arrivals.folder()),
        };
        let is_wanted = |row: u32| wanted[row as usize / 64].load(Ordering::Relaxed) >> (row % 64) & 1 == 1;
        let of_block = |at: usize| {
            let (first, end) = (arrivals.first_of(at).0, arrivals.first_of(at + 1).0);
            let mut found = Vec::new();
            if (first..end).any(is_wanted) {
                let block = arrivals.block(at);
                for row in (first..end).filter(|row| is_wanted(*row)) {
                    let (bytes, summary) = block.entry((row - first) as usize);
                    let mut record = Vec::with_capacity(HEAD + bytes.len());
                    record.extend_from_slice(&row.to_le_bytes());
                    record.extend_from_slice(&summary.row_print.to_le_bytes());
                    record.extend_from_slice(&(bytes.len() as u32).to_le_bytes());
                    record.extend_from_slice(&bytes);
                    found.push(((block.key(row as usize - first as usize) >> 120) as usize, record));
                }
            }
            found
        };
        let blocks: Vec<usize> = (0..arrivals.blocks()).collect();
        for some in blocks.chunks(BLOCKS_AT_A_TIME) {
            let found: Vec<Vec<(usize, Vec<u8>)>> = some.par_iter().map(|at| of_block(*at)).collect();
            for (part, record) in found.into_iter().flatten() {
                shared.push(part, &record)?;
            }
        }
        Ok(Some(shared))
    }

    fn push(&mut self, part: usize, record: &[u8]) -> io::Result<()> {
        let PartOfRows { pieces, rest } = &mut self.parts[part];
        rest.extend_from_slice(record);
        if rest.len() >= PIECE {
            pieces.push((self.spill.put(rest)?, rest.len()));
            rest.clear();
        }
        Ok(())
    }

    /// The rows of one partition.
    pub(super) fn of_part(&self, part: usize) -> io::Result<RowsOfPart> {
        let PartOfRows { pieces, rest } = &self.parts[part];
        let mut rows = RowsOfPart::default();
        let mut take = |mut bytes: &[u8]| {
            while let Some((head, after)) = bytes.split_first_chunk::<HEAD>() {
                let row_id = RowId(u32::from_le_bytes(bytes_at(head, 0)));
                let print = u64::from_le_bytes(bytes_at(head, 4));
                let (row, after) = after.split_at(u32::from_le_bytes(bytes_at(head, 12)) as usize);
                rows.insert(row_id, (print, row.to_vec()));
                bytes = after;
            }
        };
        pieces.iter().try_for_each(|(at, length)| self.spill.get(*at, *length).map(|bytes| take(&bytes)))?;
        take(rest);
        Ok(rows)
    }
}
