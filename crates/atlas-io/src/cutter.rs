//! Cutting a large table into blocks at the ends of records, so that blocks can be read in parallel.
//!
//! A line end within quotes does not end a record. Quotes open only at the start of a field, just as the csv crate reads
//! them, so a stray quote inside a field does no harm.

use std::io::{self, Read};
use std::sync::{Mutex, PoisonError};

use memchr::{memchr_iter, memrchr};

/// How much is read at a time.
pub(crate) const BLOCK: usize = 1 << 19;
/// The largest record. A quote that is never closed makes the rest of the file one record: it is found out here.
const LARGEST_RECORD: usize = 16 << 20;

/// Some whole records.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Cut {
    pub(crate) bytes: Vec<u8>,
    /// The line on which they begin, counted from 1.
    pub(crate) first_line: u64,
    /// They are no records: no end was found within [`LARGEST_RECORD`].
    pub(crate) endless: bool,
}

/// Room for blocks, used again and again: memory that is asked for anew has to be cleared by the system first.
#[derive(Debug, Default)]
pub(crate) struct Buffers(Mutex<Vec<Vec<u8>>>);

impl Buffers {
    fn take(&self) -> Vec<u8> {
        let mut buffer = self.0.lock().unwrap_or_else(PoisonError::into_inner).pop().unwrap_or_default();
        buffer.clear();
        buffer
    }

    /// Gives the room of a block back. That of a record without an end is not kept.
    pub(crate) fn give_back(&self, buffer: Vec<u8>) {
        if buffer.capacity() <= BLOCK * 4 {
            self.0.lock().unwrap_or_else(PoisonError::into_inner).push(buffer);
        }
    }
}

/// Cuts what it reads.
pub(crate) struct Cutter<'b, R> {
    buffers: &'b Buffers,
    reader: R,
    /// The delimiter before which and after which quotes count; `None` where they never do.
    delimiter: Option<u8>,
    rest: Vec<u8>,
    line: u64,
    done: bool,
}

impl<'b, R: Read> Cutter<'b, R> {
    pub(crate) fn new(reader: R, delimiter: Option<u8>, buffers: &'b Buffers) -> Self {
        Self { buffers, reader, delimiter, rest: Vec::new(), line: 1, done: false }
    }

    fn fill(&mut self) -> io::Result<()> {
        self.rest.reserve(BLOCK + BLOCK / 64);
        let mut chunk = (&mut self.reader).take(BLOCK as u64);
        self.done = chunk.read_to_end(&mut self.rest)? == 0;
        Ok(())
    }

    /// Where the last whole record ends; 0 where there is none.
    fn end(&self) -> usize {
        let Some(delimiter) = self.delimiter else {
            return memrchr(b'\n', &self.rest).map_or(0, |at| at + 1);
        };
        let bytes = &self.rest[..];
        // Runs outside and inside quotes, in turn: only in the first kind does a line end count.
        let (mut last_end, mut at) = (0, 0);
        while at < bytes.len() {
            let opens = memchr_iter(b'"', &bytes[at..]).map(|found| at + found).find(|&quote| {
                quote == 0 || matches!(bytes[quote - 1], b'\n' | b'\r') || bytes[quote - 1] == delimiter
            });
            let outside = &bytes[at..opens.unwrap_or(bytes.len())];
            if let Some(newline) = memrchr(b'\n', outside) {
                last_end = at + newline + 1;
            }
            let Some(open) = opens else { break };
            // A doubled quote closes and opens again at once, which comes to the same.
            let mut quotes = memchr_iter(b'"', &bytes[open + 1..]).map(|found| open + 1 + found);
            let close = loop {
                let Some(quote) = quotes.next() else { return last_end };
                if bytes.get(quote + 1) == Some(&b'"') {
                    quotes.next();
                    continue;
                }
                break quote;
            };
            at = close + 1;
        }
        last_end
    }
}

impl<R: Read> Iterator for Cutter<'_, R> {
    type Item = io::Result<Cut>;

    fn next(&mut self) -> Option<io::Result<Cut>> {
        while !self.done {
            if let Err(error) = self.fill() {
                self.done = true;
                self.rest.clear();
                return Some(Err(error));
            }
            let end = self.end();
            if end > 0 && !self.done {
                return Some(Ok(self.cut(end, false)));
            }
            if self.rest.len() > LARGEST_RECORD {
                // Give up on this line alone: the next may be a record again.
                let end = memchr::memchr(b'\n', &self.rest).map_or(self.rest.len(), |at| at + 1);
                return Some(Ok(self.cut(end, true)));
            }
        }
        let end = self.rest.len();
        (end > 0).then(|| Ok(self.cut(end, false)))
    }
}

impl<R> Cutter<'_, R> {
    fn cut(&mut self, end: usize, endless: bool) -> Cut {
        let mut rest = self.buffers.take();
        rest.extend_from_slice(&self.rest[end..]);
        let mut bytes = std::mem::replace(&mut self.rest, rest);
        bytes.truncate(end);
        let first_line = self.line;
        self.line += memchr_iter(b'\n', &bytes).count() as u64;
        Cut { bytes, first_line, endless }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cut(bytes: &[u8]) -> Vec<Cut> {
        Cutter::new(bytes, Some(b','), &Buffers::default()).map(Result::unwrap).collect()
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
        let bad: Vec<&Cut> = cuts.iter().filter(|cut| cut.endless).collect();
        assert_eq!(bad.len(), 1);
        assert_eq!((bad[0].first_line, &bad[0].bytes[..]), (2, &b"1,\"open\n"[..]));
        assert_eq!(cuts.iter().map(|cut| cut.bytes.len()).sum::<usize>(), table.len());
    }

    #[test]
    fn the_last_line_needs_no_end() {
        let cuts: Vec<(Vec<u8>, u64)> = cut(b"a\nb").into_iter().map(|cut| (cut.bytes, cut.first_line)).collect();
        assert_eq!(cuts, [(b"a\n".to_vec(), 1), (b"b".to_vec(), 2)]);
        assert_eq!(cut(b""), []);
    }
}
