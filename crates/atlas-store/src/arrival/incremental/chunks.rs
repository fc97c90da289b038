//! Chunks: consecutive rows of a table, divided where the rows themselves decide (content-defined chunking). As long as
//! no byte of a chunk changes, its rows are skipped, except those that every build has to read.

use std::io;
use std::ops::Range;
use std::path::Path;

use atlas_core::fingerprint;

use crate::arrival::RowId;
use crate::arrival::block::{Block, Chunk};
use crate::arrival::decider::Decider;
use crate::disk::spill::SpillFile;
use crate::error::StoreError;
use crate::model::{Members, RememberedChunk, tag};

/// A flag in the offset of a record: the record became a row.
const CAME: u32 = 1 << 31;
/// The size of a [`tag`] in bytes.
const TAG: usize = 8;
/// How many bytes of notes are kept in memory before they are written to disk.
const HELD: usize = 4 << 20;

impl Decider {
    /// The print of a chunk; `reading` is a fingerprint of how its rows are read.
    pub fn chunk_print(&self, bytes: &[u8], reading: u64) -> u64 {
        fingerprint::raw(bytes, reading ^ self.seed())
    }
}

impl Block {
    /// Begins a chunk of this many bytes.
    pub fn begin_chunk(&mut self, print: u64, length: usize) {
        let (first, length) = (self.len() as u32, u32::try_from(length).unwrap_or(CAME));
        // If it is too long for offsets, every build reads all of it.
        let whole = length >= CAME;
        self.chunks.push(Chunk { print, length, first, rows: 0, records: Vec::new(), whole });
    }

    /// Records that the record which begins at this byte of the current chunk has been read.
    pub fn end_record(&mut self, start: usize) {
        let rows = self.len() as u32;
        if let Some(chunk) = self.chunks.last_mut() {
            let came = rows > chunk.first + chunk.rows;
            chunk.rows = rows - chunk.first;
            chunk.records.push(start as u32 | if came { CAME } else { 0 });
        }
    }

    /// Records that the rows of the current chunk have been read, without reuse where each begins.
    pub fn end_unbroken(&mut self) {
        let rows = self.len() as u32;
        if let Some(chunk) = self.chunks.last_mut() {
            chunk.rows = rows - chunk.first;
            chunk.whole = true;
        }
    }

    /// Records an unchanged chunk, of which this many rows are skipped.
    pub fn meet(&mut self, print: u64, rows: u32) {
        self.met.push((print, rows));
    }
}

/// The chunks of all sources.
#[derive(Debug)]
pub(crate) struct Chunks {
    /// The prints of unchanged chunks, and the numbers of rows that were skipped.
    met: Vec<(u64, u32)>,
    heads: Vec<Head>,
    notes: Vec<u8>,
    spill: SpillFile,
    spilled: u64,
    /// Rows that the next build has to read, as bits by row id.
    doubtful: Vec<u64>,
}

/// A chunk that was divided into rows.
#[derive(Debug, Clone, Copy)]
struct Head {
    print: u64,
    length: u32,
    first: RowId,
    rows: u32,
    records: u32,
    whole: bool,
    /// Where its notes begin: 4 bytes for each record, 8 bytes for each row.
    at: u64,
}

impl Chunks {
    pub(in crate::arrival) fn new(folder: &Path) -> Self {
        Self {
            met: Vec::new(),
            heads: Vec::new(),
            notes: Vec::new(),
            spill: SpillFile::new(folder),
            spilled: 0,
            doubtful: Vec::new(),
        }
    }

    /// Notes the chunks of a block whose first row has this id.
    pub(in crate::arrival) fn note(&mut self, block: &mut Block, first: RowId) -> io::Result<()> {
        self.met.append(&mut block.met);
        for chunk in std::mem::take(&mut block.chunks) {
            let Chunk { print, length, rows, ref records, whole, .. } = chunk;
            let at = self.spilled + self.notes.len() as u64;
            records.iter().for_each(|record| self.notes.extend_from_slice(&record.to_le_bytes()));
            let row_id = |row: u32| RowId(first.0 + row);
            for row in chunk.first..chunk.first + rows {
                let (key, doubtful) = block.in_brief(row as usize);
                self.notes.extend_from_slice(&tag(key).to_le_bytes());
                if doubtful {
                    self.doubt(row_id(row));
                }
            }
            let records = records.len() as u32;
            self.heads.push(Head { print, length, first: row_id(chunk.first), rows, records, whole, at });
        }
        if self.notes.len() > HELD {
            self.spill.put(&self.notes)?;
            self.spilled += self.notes.len() as u64;
            self.notes.clear();
        }
        Ok(())
    }

    /// Marks a row that the next build has to read.
    pub(crate) fn doubt(&mut self, row_id: RowId) {
        let at = row_id.0 as usize;
        self.doubtful.resize(self.doubtful.len().max(at / 64 + 1), 0);
        self.doubtful[at / 64] |= 1 << (at % 64);
    }

    fn is_doubtful(&self, row_id: RowId) -> bool {
        let at = row_id.0 as usize;
        self.doubtful.get(at / 64).is_some_and(|bits| bits >> (at % 64) & 1 == 1)
    }

    /// The prints of all chunks.
    pub(crate) fn prints(&self) -> impl Iterator<Item = u64> {
        self.met.iter().map(|(print, _)| *print).chain(self.heads.iter().map(|head| head.print))
    }

    /// The prints of unchanged chunks, and the number of rows of each that were skipped.
    pub(crate) fn met(&self) -> &[(u64, u32)] {
        &self.met
    }

    /// The chunks that were divided into rows: the print of each, and its rows with whether the next build can skip them.
    pub(crate) fn divided<'c>(
        &'c self,
        stands: &'c (dyn Fn(RowId) -> bool + Sync),
    ) -> impl Iterator<Item = (u64, impl Iterator<Item = (RowId, bool)> + 'c)> {
        self.heads.iter().map(move |head| {
            let rows = (head.first.0..head.first.0 + head.rows).map(RowId);
            (head.print, rows.map(move |row_id| (row_id, self.is_quiet(head, row_id, stands))))
        })
    }

    /// Whether the next build can skip a row of a chunk that was divided into rows.
    fn is_quiet(&self, head: &Head, row_id: RowId, stands: impl Fn(RowId) -> bool) -> bool {
        !head.whole && !self.is_doubtful(row_id) && stands(row_id)
    }

    fn notes(&self, at: u64, length: usize) -> io::Result<Vec<u8>> {
        match at.checked_sub(self.spilled) {
            Some(at) => Ok(self.notes[at as usize..at as usize + length].to_vec()),
            None => self.spill.get(at, length),
        }
    }

    /// Passes on each chunk that was divided into rows, as it is to be remembered; `is_entry` tells whether a row alone
    /// represents an entry.
    pub(crate) fn each(
        &self,
        folder: &Path,
        stands: impl Fn(RowId) -> bool,
        mut take: impl FnMut(u64, RememberedChunk, Members) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        for head in &self.heads {
            let notes = self.notes(head.at, head.records as usize * 4 + head.rows as usize * TAG);
            let notes = notes.map_err(StoreError::io("cannot read temporary data in", folder))?;
            let (records, tags) = notes.split_at(head.records as usize * 4);
            let (members, rest) = self.members(head, records.as_chunks().0, tags.as_chunks().0, &stands);
            let remembered = RememberedChunk {
                rows: (members.quiet.len() / TAG) as u32,
                rest,
                members: 0,
                members_print: members.print(),
            };
            take(head.print, remembered, members)?;
        }
        Ok(())
    }

    /// The members of a chunk, and the ranges in it that every build reads.
    fn members(
        &self,
        head: &Head,
        records: &[[u8; 4]],
        tags: &[[u8; TAG]],
        stands: impl Fn(RowId) -> bool,
    ) -> (Members, Vec<Range<u32>>) {
        let (mut members, mut rest) = (Members::default(), Vec::<Range<u32>>::new());
        if head.whole {
            members.rest = tags.as_flattened().to_vec();
            rest.push(0..head.length);
            return (members, rest);
        }
        members.quiet.reserve(tags.len() * TAG);
        let mut rows = (head.first.0..).map(RowId).zip(tags);
        for (nth, record) in records.iter().enumerate() {
            let start = u32::from_le_bytes(*record);
            let row = if start & CAME != 0 { rows.next() } else { None };
            if let Some((row_id, tag)) = row
                && self.is_quiet(head, row_id, &stands)
            {
                members.quiet.extend_from_slice(tag);
                continue;
            }
            members.rest.extend(row.into_iter().flat_map(|(_, tag)| tag));
            let end = records.get(nth + 1).map_or(head.length, |next| u32::from_le_bytes(*next) & !CAME);
            match rest.last_mut() {
                Some(last) if last.end == start & !CAME => last.end = end,
                _ => rest.push(start & !CAME..end),
            }
        }
        (members, rest)
    }
}
