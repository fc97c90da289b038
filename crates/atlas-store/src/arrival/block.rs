//! Blocks of rows, either read and decided about, or unread as they came.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};
use std::fmt;
use std::sync::Arc;

use atlas_core::choose::{Reason, Verdict};
use atlas_core::contribution::Contribution;
use atlas_core::fingerprint::PageFields;
use foldhash::fast::FixedState;

use super::asked::AskedRows;
use super::decider::{Decider, RowFlag, RowSummary, packed};
use crate::bytes::part;
use atlas_core::report::Problem;

/// Rows of one source.
#[derive(Debug, Clone)]
pub struct Block {
    decider: Decider,
    rows: BlockRows,
    /// The chunks that its rows belong to, if any.
    pub(super) chunks: Vec<Chunk>,
    /// Unchanged chunks: their prints, and the numbers of rows that were skipped.
    pub(super) met: Vec<(u64, u32)>,
    /// Rows of unchanged chunks that had to be read all the same.
    pub(super) asked: Vec<u32>,
    /// Its rows by their fingerprints, and how often each came again: the same row is kept once.
    seen: HashMap<u64, u32, FixedState>,
    pub(super) repeats: BTreeMap<u32, u32>,
    /// The packed links of some rows.
    pub(super) links: Vec<(u32, Vec<u8>)>,
    /// The text that it was read from, if any of its rows was skipped or not read.
    pub(super) retained: Option<RetainedText>,
    /// The fields that are set in some row, as far as rows were read.
    given: PageFields,
    /// A buffer, reused for every row.
    scratch: Vec<u8>,
}

/// A chunk that was divided into rows.
#[derive(Debug, Clone)]
pub(super) struct Chunk {
    pub(super) print: u64,
    pub(super) length: u32,
    /// Its first row in the block, and the number of its rows.
    pub(super) first: u32,
    pub(super) rows: u32,
    /// Where its records begin, with a flag if the record became a row.
    pub(super) records: Vec<u32>,
    /// It could not be divided into records, so every build reads all of it.
    pub(super) whole: bool,
}

/// The rows of a block.
#[derive(Debug, Clone)]
enum BlockRows {
    /// Rows that were read, as compact bytes, each with a summary.
    Read { bytes: Vec<u8>, summaries: Vec<RowSummary> },
    /// Rows as they came. Most of them have not changed and will never be read.
    Unread { text: Vec<u8>, unread_rows: Vec<UnreadRow>, reading: Unread },
}

/// What is known of an unread row.
#[derive(Debug, Clone, Copy)]
pub(crate) struct UnreadRow {
    /// [`key`](atlas_core::fingerprint::key) of its URL.
    pub(crate) key: u128,
    /// A fingerprint of the raw row and of how it is read; never 0.
    pub(crate) raw: u64,
    start: u32,
    end: u32,
    /// Its line, counted from the first line of the block.
    line: u32,
}

/// How to read unread rows.
#[derive(Debug, Clone)]
pub(super) struct Unread {
    reader: Arc<dyn RowReader>,
    /// The first line of the block.
    first_line: u64,
}

/// Consecutive rows of a text that form a chunk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ChunkExtent {
    /// How long they are.
    pub bytes: usize,
    /// How many lines they take.
    pub lines: u64,
}

/// The text of a block of rows.
#[derive(Debug, Clone)]
pub struct RetainedText {
    /// The rows.
    pub text: Vec<u8>,
    /// The line on which they begin.
    pub first_line: u64,
    /// Their chunks, in order.
    pub chunks: Vec<ChunkExtent>,
    /// Reads them.
    pub reader: Arc<dyn RowReader>,
    /// What is wrong with the rows that were read so far. It is reported unless all rows are read.
    pub problems: Vec<Problem>,
}

/// Reads raw rows.
pub trait RowReader: fmt::Debug + Send + Sync {
    /// Reads a row and passes its contribution to `take`, unless it cannot be read; passes problems to `problem`.
    fn read(&self, raw: &str, line: u64, take: &mut dyn FnMut(&Contribution<'_>), problem: &mut dyn FnMut(Problem));

    /// Reads a text again for a source with this decider: all rows, or with `asked` only those, the rows of chunks that
    /// have changed, and those that every build reads. Returns them with what is wrong with them.
    fn read_again(
        self: Arc<Self>,
        decider: &Decider,
        text: RetainedText,
        asked: Option<&AskedRows>,
    ) -> (Block, Vec<Problem>);
}

impl Block {
    /// An empty block; `decider` is that of the source.
    pub fn new(decider: &Decider) -> Self {
        Self::with_room(decider, 0)
    }

    /// An empty block with room for about this many bytes of rows.
    pub fn with_room(decider: &Decider, bytes: usize) -> Self {
        Self::of(
            decider,
            BlockRows::Read { bytes: Vec::with_capacity(bytes), summaries: Vec::with_capacity(bytes / 128) },
        )
    }

    /// An empty block for unread rows that start in this line and that `reader` can read.
    pub fn unread(decider: &Decider, first_line: u64, reader: Arc<dyn RowReader>) -> Self {
        let reading = Unread { reader, first_line };
        Self::of(decider, BlockRows::Unread { text: Vec::new(), unread_rows: Vec::new(), reading })
    }

    fn of(decider: &Decider, rows: BlockRows) -> Self {
        Self {
            decider: decider.clone(),
            rows,
            chunks: Vec::new(),
            met: Vec::new(),
            asked: Vec::new(),
            seen: HashMap::default(),
            repeats: BTreeMap::new(),
            links: Vec::new(),
            retained: None,
            given: PageFields::default(),
            scratch: Vec::new(),
        }
    }

    /// Adds an unread row: its URL in normal spelling, its fingerprint, its text and its line.
    pub fn push_unread(&mut self, url: &str, raw: u64, came: &str, line: u64) {
        let key = atlas_core::fingerprint::key(self.decider.seed(), url);
        if self.repeats(key as u64 ^ raw) {
            return;
        }
        let BlockRows::Unread { text, unread_rows, reading } = &mut self.rows else { return };
        let start = text.len() as u32;
        text.extend_from_slice(came.as_bytes());
        let line = line.saturating_sub(reading.first_line) as u32;
        unread_rows.push(UnreadRow { key, raw: raw.max(1), start, end: text.len() as u32, line });
    }

    /// Adds a row.
    pub fn push(&mut self, contribution: &Contribution<'_>) {
        self.push_raw(contribution, 0);
    }

    /// Adds a row that was read from another format; `raw` is its fingerprint in that format, or 0 if the next build
    /// has to read it again.
    pub fn push_raw(&mut self, contribution: &Contribution<'_>, raw: u64) {
        let BlockRows::Read { bytes, .. } = &mut self.rows else { return };
        self.given = self.given.and(PageFields::of(contribution));
        let start = bytes.len();
        contribution.write(bytes);
        let summary = self.decider.summary(contribution, &bytes[start..], raw, start, &mut self.scratch);
        if self.repeats(summary.key[0] ^ summary.row_print) {
            let BlockRows::Read { bytes, .. } = &mut self.rows else { return };
            return bytes.truncate(start);
        }
        let BlockRows::Read { summaries, .. } = &mut self.rows else { return };
        summaries.push(summary);
    }

    /// Whether the row that comes next, with this fingerprint, came before. It is counted then.
    fn repeats(&mut self, print: u64) -> bool {
        let next = self.len() as u32;
        let row = *self.seen.entry(print).or_insert(next);
        if row == next {
            return false;
        }
        *self.repeats.entry(row).or_default() += 1;
        true
    }

    /// Adds a row of an unchanged chunk, which had to be read all the same.
    pub fn push_asked(&mut self, contribution: &Contribution<'_>, raw: u64) {
        self.asked.push(self.len() as u32);
        self.push_raw(contribution, raw);
    }

    /// Adds a row in its compact form.
    pub fn push_bytes(&mut self, row: &[u8]) {
        let BlockRows::Read { bytes, summaries } = &mut self.rows else { return };
        let start = bytes.len();
        bytes.extend_from_slice(row);
        summaries.push(self.decider.summary(&Contribution::read(row), row, 0, start, &mut self.scratch));
    }

    /// Adds a row that was merged from several sources; `sum` is the sum of their fingerprints.
    pub(crate) fn push_merged(&mut self, contribution: &Contribution<'_>, sum: u64, sources: &[u16]) {
        let BlockRows::Read { bytes, summaries } = &mut self.rows else { return };
        let start = bytes.len();
        contribution.write(bytes);
        summaries.push(self.decider.summary_of_merged(contribution, sum, sources, start, &mut self.scratch));
    }

    /// Adds a row from another block.
    pub(crate) fn push_copy(&mut self, row: &[u8], summary: RowSummary) {
        let BlockRows::Read { bytes, summaries } = &mut self.rows else { return };
        summaries.push(RowSummary { start: bytes.len() as u32, ..summary });
        bytes.extend_from_slice(row);
    }

    /// Adds the links of the last row, packed by [`atlas_core::links`].
    pub fn push_links(&mut self, links: Vec<u8>) {
        if !links.is_empty() && !self.is_empty() {
            self.links.push((self.len() as u32 - 1, links));
        }
    }

    /// The fields that are set in some row, as far as rows were read.
    pub(crate) fn given(&self) -> PageFields {
        self.given
    }

    /// Whether some row may belong to a group of translations. Those that were not read may.
    pub(super) fn may_speak(&self) -> bool {
        let is_read = matches!(self.rows, BlockRows::Read { .. });
        !is_read || self.summaries().unwrap_or_default().iter().any(|summary| summary.has(RowFlag::SpeaksOfOthers))
    }

    /// The number of rows that were skipped because they have not changed.
    pub(crate) fn let_go(&self) -> u64 {
        self.met.iter().map(|(_, rows)| u64::from(*rows)).sum()
    }

    /// The number of rows that it received, including those that were skipped or came several times.
    pub(crate) fn came(&self) -> u64 {
        self.len() as u64 + self.let_go() + self.repeats.values().map(|times| u64::from(*times)).sum::<u64>()
    }

    /// The key of a row.
    pub(crate) fn key(&self, row: usize) -> u128 {
        self.in_brief(row).0
    }

    /// The key of a row, and whether the next build will have to read it.
    pub(super) fn in_brief(&self, row: usize) -> (u128, bool) {
        match &self.rows {
            BlockRows::Read { summaries, .. } => {
                (summaries[row].key(), summaries[row].raw == 0 || summaries[row].kept().is_none())
            }
            BlockRows::Unread { unread_rows, .. } => (unread_rows[row].key, false),
        }
    }

    /// The number of rows.
    pub fn len(&self) -> usize {
        match &self.rows {
            BlockRows::Read { summaries, .. } => summaries.len(),
            BlockRows::Unread { unread_rows, .. } => unread_rows.len(),
        }
    }

    /// Whether it has no rows.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The summaries of its rows, if they were read.
    pub(crate) fn summaries(&self) -> Option<&[RowSummary]> {
        match &self.rows {
            BlockRows::Read { summaries, .. } => Some(summaries),
            BlockRows::Unread { .. } => None,
        }
    }

    /// Its unread rows.
    pub(crate) fn unread_rows(&self) -> &[UnreadRow] {
        match &self.rows {
            BlockRows::Read { .. } => &[],
            BlockRows::Unread { unread_rows, .. } => unread_rows,
        }
    }

    /// The compact bytes of a row; empty if it cannot be read.
    pub(crate) fn row(&self, row: usize) -> Cow<'_, [u8]> {
        match &self.rows {
            BlockRows::Read { bytes, summaries } => {
                let end = summaries.get(row + 1).map_or(bytes.len(), |next| next.start as usize);
                Cow::Borrowed(&bytes[summaries[row].start as usize..end])
            }
            BlockRows::Unread { .. } => Cow::Owned(self.read(row, &mut |_| ()).map_or(Vec::new(), |(_, row)| row)),
        }
    }

    /// Reads both ends of the summary of a row, and returns the start of its bytes and a value that depends on the
    /// read. A caller that needs many rows first waits for all of their summaries at once, then for all of their bytes.
    pub(crate) fn glance(&self, row: usize) -> (u32, u64) {
        let BlockRows::Read { summaries, .. } = &self.rows else { return (0, 0) };
        let (summary, next) = (&summaries[row], summaries.get(row + 1).map_or(0, |next| next.start));
        (summary.start, summary.key[0] ^ u64::from(next))
    }

    /// Reads the bytes of the row that starts here, and returns a value that depends on the read.
    pub(crate) fn touch(&self, start: u32) -> u32 {
        let BlockRows::Read { bytes, .. } = &self.rows else { return 0 };
        let at = |place: usize| bytes.get(start as usize + place).map_or(0, |byte| u32::from(*byte));
        at(0) ^ at(63) ^ at(100)
    }

    /// The summary of a row.
    pub(crate) fn summary(&self, row: usize) -> RowSummary {
        match &self.rows {
            BlockRows::Read { summaries, .. } => summaries[row],
            BlockRows::Unread { .. } => {
                self.read(row, &mut |_| ()).map_or(self.decider.blank(), |(summary, _)| summary)
            }
        }
    }

    /// The bytes and the summary of a row. An unread row is read once for both.
    pub(crate) fn entry(&self, row: usize) -> (Cow<'_, [u8]>, RowSummary) {
        match &self.rows {
            BlockRows::Read { .. } => (self.row(row), self.summary(row)),
            BlockRows::Unread { .. } => match self.read(row, &mut |_| ()) {
                Some((summary, row)) => (Cow::Owned(row), summary),
                None => (Cow::Owned(Vec::new()), self.decider.blank()),
            },
        }
    }

    /// Reads an unread row; `None` if that is impossible.
    pub(crate) fn read(&self, row: usize, problem: &mut dyn FnMut(Problem)) -> Option<(RowSummary, Vec<u8>)> {
        let BlockRows::Unread { text, unread_rows, reading } = &self.rows else { return None };
        let UnreadRow { raw, start, end, line, .. } = unread_rows[row];
        let came = std::str::from_utf8(&text[start as usize..end as usize]).unwrap_or_default();
        let (mut found, mut sound) = (None, true);
        let mut take = |contribution: &Contribution<'_>| {
            let mut bytes = Vec::new();
            contribution.write(&mut bytes);
            found = Some((self.decider.summary(contribution, &bytes, raw, 0, &mut Vec::new()), bytes));
        };
        reading.reader.read(came, reading.first_line + u64::from(line), &mut take, &mut |found| {
            sound = false;
            problem(found);
        });
        let (summary, bytes) = found?;
        Some((if sound { summary } else { summary.doubtful() }, bytes))
    }

    /// Forgets the fingerprints of its rows; returns which came again, and how often.
    pub(super) fn forget_seen(&mut self) -> BTreeMap<u32, u32> {
        self.seen = HashMap::default();
        std::mem::take(&mut self.repeats)
    }

    /// Keeps the text that the block was read from, so that rows which were skipped or not read can be read after all.
    pub fn retain(&mut self, text: RetainedText) {
        self.retained = Some(text);
    }

    /// About how much memory it uses, in bytes.
    pub(super) fn size(&self) -> usize {
        match &self.rows {
            BlockRows::Read { bytes, summaries } => bytes.len() + size_of_val(&summaries[..]),
            BlockRows::Unread { text, unread_rows, .. } => text.len() + size_of_val(&unread_rows[..]),
        }
    }

    /// The block as bytes, for writing to disk.
    pub(super) fn pack(&self) -> (Vec<u8>, Option<Unread>) {
        match &self.rows {
            BlockRows::Read { bytes, summaries } => {
                let mut out = Vec::with_capacity(bytes.len() + summaries.len() * packed::BYTES);
                out.extend_from_slice(bytes);
                summaries.iter().for_each(|summary| packed::write(summary, &mut out));
                (out, None)
            }
            BlockRows::Unread { text, unread_rows, reading } => {
                let mut out = Vec::with_capacity(text.len() + unread_rows.len() * UnreadRow::BYTES);
                out.extend_from_slice(text);
                unread_rows.iter().for_each(|row| row.write(&mut out));
                (out, Some(reading.clone()))
            }
        }
    }

    /// The inverse of [`Block::pack`].
    pub(super) fn unpack(decider: &Decider, mut bytes: Vec<u8>, rows: usize, reading: Option<Unread>) -> Self {
        let size = if reading.is_some() { UnreadRow::BYTES } else { packed::BYTES };
        let at = bytes.len() - rows * size;
        let rows = match reading {
            None => {
                let summaries = bytes[at..].as_chunks().0.iter().map(packed::read).collect();
                bytes.truncate(at);
                bytes.shrink_to_fit();
                BlockRows::Read { bytes, summaries }
            }
            Some(reading) => {
                let unread_rows = bytes[at..].as_chunks().0.iter().map(UnreadRow::read).collect();
                bytes.truncate(at);
                bytes.shrink_to_fit();
                BlockRows::Unread { text: bytes, unread_rows, reading }
            }
        };
        Self::of(decider, rows)
    }

    /// A placeholder for a block that could not be read back, so that row numbers stay valid.
    pub(super) fn blank(decider: &Decider, rows: usize) -> Self {
        Self::of(decider, BlockRows::Read { bytes: Vec::new(), summaries: vec![decider.blank(); rows] })
    }
}

impl Decider {
    /// The summary of an empty row.
    fn blank(&self) -> RowSummary {
        RowSummary {
            verdict: Verdict::LeftOut(Reason::Duplicate),
            ..self.summary(&Contribution::default(), b"", 0, 0, &mut Vec::new())
        }
    }
}

impl UnreadRow {
    const BYTES: usize = 36;

    fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.key.to_le_bytes());
        out.extend_from_slice(&self.raw.to_le_bytes());
        out.extend_from_slice(&self.start.to_le_bytes());
        out.extend_from_slice(&self.end.to_le_bytes());
        out.extend_from_slice(&self.line.to_le_bytes());
    }

    fn read(bytes: &[u8; Self::BYTES]) -> Self {
        Self {
            key: u128::from_le_bytes(part(bytes, 0)),
            raw: u64::from_le_bytes(part(bytes, 16)),
            start: u32::from_le_bytes(part(bytes, 24)),
            end: u32::from_le_bytes(part(bytes, 28)),
            line: u32::from_le_bytes(part(bytes, 32)),
        }
    }
}
