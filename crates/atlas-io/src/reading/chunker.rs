//! The chunker: divides a large table into blocks at the ends of records, so that blocks can be read in parallel.
//!
//! A line end within quotes does not end a record. As in the csv crate, quotes open only at the start of a field, so a
//! stray quote inside a field does no harm.
//!
//! Blocks consist of whole *chunks* of some dozens of records, whose ends depend on the records themselves
//! (content-defined chunking). So a row that is inserted or removed changes only its own chunk.

use std::io::{self, Read};
use std::ops::Range;
use std::sync::{Mutex, PoisonError};

use atlas_core::fingerprint;
use atlas_store::arrival::ChunkExtent;
use memchr::{memchr, memchr_iter, memrchr};

use crate::reading::csv_split::Separators;

/// How many bytes are read at a time.
pub(crate) const BLOCK: usize = 1 << 19;
/// The least size of a chunk, and the size from which on it ends with the next record.
const CHUNK: Range<usize> = 1 << 13..1 << 16;
/// How many bytes before the end of a record decide whether a chunk ends there, and how rarely it does: once in this
/// many records.
const DECIDING: usize = 64;
const ONE_IN: u64 = 32;
/// The largest record. A quote that is never closed would turn the rest of the file into one record, which is noticed
/// here.
pub(crate) const LARGEST_RECORD: usize = 16 << 20;

/// Some whole records.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct InputBlock {
    pub(crate) bytes: Vec<u8>,
    /// The line on which they begin, counted from 1.
    pub(crate) first_line: u64,
    /// Their chunks, in order.
    pub(crate) chunks: Vec<ChunkExtent>,
    /// Why these are not records, if no end was found within [`LARGEST_RECORD`].
    pub(crate) endless: Option<Endless>,
}

/// Why a record has no end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Endless {
    /// A quote opens in it that may never close.
    InQuotes,
    /// It is simply too large. Its rest is skipped.
    TooLarge,
}

/// Buffers for blocks, which are reused because the system has to clear new memory first.
#[derive(Debug, Default)]
pub(crate) struct Buffers(Mutex<Vec<Vec<u8>>>);

impl Buffers {
    /// An empty buffer.
    pub(crate) fn take(&self) -> Vec<u8> {
        let mut buffer = self.0.lock().unwrap_or_else(PoisonError::into_inner).pop().unwrap_or_default();
        buffer.clear();
        buffer
    }

    /// Returns the buffer of a block. That of an endless record is not kept.
    pub(crate) fn give_back(&self, buffer: Vec<u8>) {
        if buffer.capacity() <= BLOCK * 4 {
            self.0.lock().unwrap_or_else(PoisonError::into_inner).push(buffer);
        }
    }
}

/// Divides what it reads.
pub(crate) struct Chunker<'b, R> {
    buffers: &'b Buffers,
    reader: R,
    /// The separators of values; `None` if quotes never count.
    separators: Option<Separators>,
    rest: Vec<u8>,
    line: u64,
    done: bool,
    /// Whether what comes up to the next line end belongs to a record that is too large.
    skips_line: bool,
}

impl<'b, R: Read> Chunker<'b, R> {
    pub(crate) fn new(reader: R, separators: Option<Separators>, buffers: &'b Buffers) -> Self {
        Self { buffers, reader, separators, rest: Vec::new(), line: 1, done: false, skips_line: false }
    }

    fn fill(&mut self) -> io::Result<()> {
        self.rest.reserve(BLOCK + BLOCK / 64);
        let mut chunk = (&mut self.reader).take(BLOCK as u64);
        self.done = chunk.read_to_end(&mut self.rest)? == 0;
        if self.skips_line {
            let end = memchr(b'\n', &self.rest);
            self.rest.drain(..end.unwrap_or(self.rest.len()));
            self.skips_line = end.is_none();
        }
        Ok(())
    }

    /// The end of the last whole record, or 0.
    fn last_end(&self) -> usize {
        let mut last = 0;
        each_outside(&self.rest, self.separators, |part| {
            if let Some(newline) = memrchr(b'\n', &self.rest[part.clone()]) {
                last = part.start + newline + 1;
            }
        });
        last
    }
}

/// Passes on the parts outside quotes, where alone line ends count.
fn each_outside(bytes: &[u8], separators: Option<Separators>, mut take: impl FnMut(Range<usize>)) {
    let Some(Separators { delimiter, quote: mark }) = separators else { return take(0..bytes.len()) };
    let mut at = 0;
    while at < bytes.len() {
        let opens = memchr_iter(mark, &bytes[at..])
            .map(|found| at + found)
            .find(|&quote| quote == 0 || matches!(bytes[quote - 1], b'\n' | b'\r') || bytes[quote - 1] == delimiter);
        take(at..opens.unwrap_or(bytes.len()));
        let Some(open) = opens else { break };
        // A doubled quote closes and opens again at once, which makes no difference.
        let mut quotes = memchr_iter(mark, &bytes[open + 1..]).map(|found| open + 1 + found);
        let close = loop {
            let Some(quote) = quotes.next() else { return };
            if bytes.get(quote + 1) == Some(&mark) {
                quotes.next();
                continue;
            }
            break quote;
        };
        at = close + 1;
    }
}

/// The ends of chunks in these bytes, which begin with a record.
fn chunk_ends(bytes: &[u8], separators: Option<Separators>) -> Vec<usize> {
    // Empty lines make no chunk, however many there are. They belong to the next one.
    let after_empty = |at: usize| at + bytes[at..].iter().take_while(|byte| matches!(byte, b'\n' | b'\r')).count();
    let (mut ends, mut begun) = (Vec::new(), after_empty(0));
    each_outside(bytes, separators, |part| {
        let mut at = part.start.max(begun + CHUNK.start);
        while let Some(newline) = bytes.get(at..part.end).and_then(|rest| memchr(b'\n', rest)) {
            let end = at + newline + 1;
            at = end;
            let decides = fingerprint::raw(&bytes[end - DECIDING..end], 0).is_multiple_of(ONE_IN);
            if decides || end - begun >= CHUNK.end {
                ends.push(end);
                begun = after_empty(end);
                at = begun + CHUNK.start;
            }
        }
    });
    ends
}

impl<R: Read> Iterator for Chunker<'_, R> {
    type Item = io::Result<InputBlock>;

    fn next(&mut self) -> Option<io::Result<InputBlock>> {
        while !self.done {
            if let Err(error) = self.fill() {
                self.done = true;
                self.rest.clear();
                return Some(Err(error));
            }
            let mut ends = chunk_ends(&self.rest, self.separators);
            if self.done {
                ends.push(self.rest.len());
                ends.dedup();
            }
            if !ends.is_empty() && !self.rest.is_empty() {
                return Some(Ok(self.cut(&ends, None)));
            }
            if self.rest.len() > LARGEST_RECORD {
                // Whole records before it are read, but are not a chunk.
                return Some(Ok(match self.last_end() {
                    // Skip only this line. The next may be a record again.
                    0 => match memchr(b'\n', &self.rest) {
                        Some(at) => self.cut(&[at + 1], Some(Endless::InQuotes)),
                        None => {
                            self.skips_line = true;
                            self.cut(&[self.rest.len()], Some(Endless::TooLarge))
                        }
                    },
                    end => self.cut(&[end], None),
                }));
            }
        }
        None
    }
}

impl<R> Chunker<'_, R> {
    /// Takes the chunks that end here.
    fn cut(&mut self, ends: &[usize], endless: Option<Endless>) -> InputBlock {
        let end = ends.last().copied().unwrap_or_default();
        let mut rest = self.buffers.take();
        rest.extend_from_slice(&self.rest[end..]);
        let mut bytes = std::mem::replace(&mut self.rest, rest);
        bytes.truncate(end);
        let first_line = self.line;
        let chunks = extents(&bytes, ends);
        self.line += chunks.iter().map(|chunk| chunk.lines).sum::<u64>();
        InputBlock { bytes, first_line, chunks, endless }
    }
}

/// The chunks that end here.
fn extents(bytes: &[u8], ends: &[usize]) -> Vec<ChunkExtent> {
    let mut begun = 0;
    let extent = |&end: &usize| {
        let lines = memchr_iter(b'\n', &bytes[begun..end]).count() as u64;
        ChunkExtent { bytes: end - std::mem::replace(&mut begun, end), lines }
    };
    ends.iter().map(extent).collect()
}

impl InputBlock {
    /// Separated values that were made here, of whole records.
    #[cfg(feature = "parquet")]
    pub(crate) fn of_rows(bytes: Vec<u8>, separators: Separators) -> Self {
        let mut ends = chunk_ends(&bytes, Some(separators));
        ends.push(bytes.len());
        ends.dedup();
        let chunks = extents(&bytes, &ends);
        Self { bytes, first_line: 1, chunks, endless: None }
    }

    /// Removes this many bytes, with this many line ends, from its front.
    pub(crate) fn take_off(&mut self, mut bytes: usize, mut lines: u64) {
        self.bytes.drain(..bytes);
        self.first_line += lines;
        for chunk in &mut self.chunks {
            let (off, ended) = (chunk.bytes.min(bytes), chunk.lines.min(lines));
            (chunk.bytes, chunk.lines) = (chunk.bytes - off, chunk.lines - ended);
            (bytes, lines) = (bytes - off, lines - ended);
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn cut(bytes: &[u8]) -> Vec<InputBlock> {
        Chunker::new(bytes, Some(Separators::of_table(b',')), &Buffers::default()).map(Result::unwrap).collect()
    }

    fn records(bytes: &[u8]) -> Vec<csv::StringRecord> {
        let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(bytes);
        reader.records().map(Result::unwrap).collect()
    }

    #[test]
    fn blocks_hold_whole_records() {
        let mut table = String::new();
        for row in 0..120_000 {
            match row % 5 {
                0 => table.push_str(&format!("{row},plain,\"two\nlines \"\"{row}\"\"\n\"\r\n")),
                1 => table.push_str(&format!("{row},5\" gauge,x\n")),
                2 => table.push_str(&format!("{row},\"a,b\" tail\",x\n")),
                3 => table.push_str("\"\",\"\"\"\",\n"),
                _ => table.push_str(&format!("{row},quite plain,and long enough to make several blocks of it\n")),
            }
        }
        let cuts = cut(table.as_bytes());
        assert!(cuts.len() > 1);
        assert!(cuts.iter().all(|cut| cut.chunks.iter().map(|chunk| chunk.bytes).sum::<usize>() == cut.bytes.len()));
        let together: Vec<_> = cuts.iter().flat_map(|cut| records(&cut.bytes)).collect();
        assert_eq!(together, records(table.as_bytes()));
        let lines = cuts[0].bytes.iter().filter(|byte| **byte == b'\n').count() as u64;
        assert_eq!(cuts[1].first_line, lines + 1);
    }

    #[test]
    fn a_quote_that_never_closes_costs_one_line() {
        let mut table = b"a,b\n1,\"open\n".to_vec();
        table.extend(std::iter::repeat_n(b"2,fine\n", 4_000_000).flatten());
        let cuts = cut(&table);
        let bad: Vec<&InputBlock> = cuts.iter().filter(|cut| cut.endless.is_some()).collect();
        assert_eq!(bad.len(), 1);
        assert_eq!((bad[0].first_line, &bad[0].bytes[..]), (2, &b"1,\"open\n"[..]));
        assert_eq!(cuts.iter().map(|cut| cut.bytes.len()).sum::<usize>(), table.len());
    }

    #[test]
    fn a_record_that_is_too_large_costs_only_itself() {
        let table = format!("a,b\n1,{}\n2,fine\n", "x".repeat(40 << 20));
        let cuts = cut(table.as_bytes());
        let bad: Vec<(u64, Option<Endless>)> =
            cuts.iter().filter(|cut| cut.endless.is_some()).map(|cut| (cut.first_line, cut.endless)).collect();
        assert_eq!(bad, [(2, Some(Endless::TooLarge))]);
        let last = cuts.last().unwrap();
        assert_eq!((last.first_line, &last.bytes[..]), (2, &b"\n2,fine\n"[..]));
    }

    #[test]
    fn the_last_line_needs_no_end() {
        let cuts: Vec<(Vec<u8>, u64)> = cut(b"a\nb").into_iter().map(|cut| (cut.bytes, cut.first_line)).collect();
        assert_eq!(cuts, [(b"a\nb".to_vec(), 1)]);
        assert_eq!(cut(b""), []);
    }

    /// The chunks of a table, each as text.
    fn chunks(table: &str) -> Vec<String> {
        let mut chunks = Vec::new();
        for cut in cut(table.as_bytes()) {
            let mut begun = 0;
            for ChunkExtent { bytes, lines } in cut.chunks {
                let chunk = std::str::from_utf8(&cut.bytes[begun..begun + bytes]).unwrap();
                assert_eq!(chunk.matches('\n').count() as u64, lines);
                begun += bytes;
                chunks.push(chunk.to_owned());
            }
        }
        chunks
    }

    #[rstest]
    #[case::plain("plain, and long enough")]
    #[case::with_lines_in_quotes("\"two\nlines \"\"of\"\" it\"")]
    fn an_inserted_row_changes_only_its_own_chunk(#[case] words: &str) {
        let row = |number: u32| format!("{},{words},{}\n", number.wrapping_mul(2_654_435_761), number.wrapping_mul(97));
        let mut rows: Vec<String> = (0..40_000).map(row).collect();
        let before = chunks(&rows.concat());
        assert!(before.len() > 40, "{}", before.len());
        let whole = |chunk: &String| chunk.ends_with('\n') && chunk.len() < CHUNK.end + 100;
        assert!(before.iter().all(whole), "they are short and end with a row");
        rows.insert(9_000, row(1 << 20));
        rows.remove(30_000);
        let after = chunks(&rows.concat());
        let known: std::collections::HashSet<&String> = before.iter().collect();
        let others = after.iter().filter(|chunk| !known.contains(chunk)).count();
        assert!((1..=6).contains(&others), "{others} of {}", after.len());
    }

    #[test]
    fn a_header_may_come_after_more_empty_lines_than_a_chunk_has() {
        let table = ["\n".repeat(150_000).as_str(), "url\n/halts/\n"].concat();
        let mut first = cut(table.as_bytes()).remove(0);
        first.take_off(150_004, 150_001);
        let left = |of: fn(&ChunkExtent) -> u64| first.chunks.iter().map(of).sum::<u64>();
        assert_eq!((&first.bytes[..], first.first_line), (&b"/halts/\n"[..], 150_002));
        assert_eq!((left(|chunk| chunk.bytes as u64), left(|chunk| chunk.lines)), (8, 1));
    }

    #[test]
    fn identical_rows_form_chunks_too() {
        let table = "x,the same at the end of every row, however long the table may be, and then more\n".repeat(9_000);
        assert!(chunks(&table).iter().rev().skip(1).all(|chunk| chunk.len() <= CHUNK.end + 100));
    }
}
