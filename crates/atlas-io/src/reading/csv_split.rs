//! Splitting a block of separated values into records (RFC 4180), exactly as the csv crate does.
//!
//! Most records have no quotes: they are split at the delimiters and borrow from the block. The others are read by
//! csv-core.

use std::borrow::Cow;
use std::ops::Range;

use csv_core::ReadRecordResult;
use memchr::{memchr, memchr_iter, memchr2_iter};

/// The bytes that separate values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Separators {
    /// Between two values.
    pub(crate) delimiter: u8,
    /// Around a value that contains one of these, or a line end. Doubled, it stands for itself.
    pub(crate) quote: u8,
}

impl Separators {
    /// Those of tables: quotes, and this delimiter.
    pub(crate) fn of_table(delimiter: u8) -> Self {
        Self { delimiter, quote: b'"' }
    }

    /// Those of the rows of databases: two control characters that values hardly ever contain, so that few have to be
    /// quoted.
    pub(crate) const OF_ROWS: Self = Self { delimiter: 0x1f, quote: 0x01 };

    /// A reader of records with these separators.
    pub(crate) fn csv(self) -> csv::ReaderBuilder {
        let mut builder = csv::ReaderBuilder::new();
        builder.delimiter(self.delimiter).quote(self.quote);
        builder
    }
}

/// The records of a block, one after the other.
pub(crate) struct CsvSplitter<'t> {
    text: &'t str,
    separators: Separators,
    at: usize,
    /// The line of the next record, counted from 0.
    line: u64,
    /// The positions of the next quote and the next carriage return, found once rather than for each record.
    quote: usize,
    cr: usize,
    /// The position of the last record.
    last: Range<usize>,
    /// Reads records with quotes; made when the first one comes.
    careful: Option<Box<Careful>>,
}

/// Reads records with quotes.
struct Careful {
    core: csv_core::Reader,
    unquoted: Vec<u8>,
    ends: Vec<usize>,
}

impl Careful {
    fn new(separators: Separators) -> Box<Self> {
        let Separators { delimiter, quote } = separators;
        let core = csv_core::ReaderBuilder::new().delimiter(delimiter).quote(quote).build();
        Box::new(Self { core, unquoted: vec![0; 4096], ends: vec![0; 64] })
    }
}

impl<'t> CsvSplitter<'t> {
    /// For a block of whole records.
    pub(crate) fn new(text: &'t str, separators: Separators) -> Self {
        Self {
            text,
            separators,
            at: 0,
            line: 0,
            quote: find(text, separators.quote, 0),
            cr: find(text, b'\r', 0),
            last: 0..0,
            careful: None,
        }
    }

    /// Reads the next record into `fields` and returns its line, counted from 0; `None` at the end.
    pub(crate) fn next(&mut self, fields: &mut Vec<Cow<'t, str>>) -> Option<u64> {
        loop {
            fields.clear();
            // Delimiters and the end are found in one pass, as if it had no quotes.
            let rest = &self.text[self.at..];
            let (mut start, mut length) = (0, rest.len());
            for at in memchr2_iter(self.separators.delimiter, b'\n', rest.as_bytes()) {
                if rest.as_bytes()[at] == b'\n' {
                    length = at;
                    break;
                }
                fields.push(Cow::Borrowed(&rest[start..at]));
                start = at + 1;
            }
            match self.take(length) {
                Plain::End => return None,
                Plain::Quoted => {
                    fields.clear();
                    return self.quoted(fields);
                }
                Plain::Empty => {}
                Plain::Record(line, record) => {
                    fields.push(Cow::Borrowed(&record[start..]));
                    return Some(line);
                }
            }
        }
    }

    /// Reads only one column of the next record. Returns its line, that column, and the number of columns.
    pub(crate) fn next_column(&mut self, column: usize) -> Option<(u64, Cow<'t, str>, usize)> {
        let (line, record) = loop {
            let rest = &self.text.as_bytes()[self.at..];
            match self.take(memchr(b'\n', rest).unwrap_or(rest.len())) {
                Plain::End => return None,
                Plain::Quoted => {
                    let mut fields = Vec::new();
                    let line = self.quoted(&mut fields)?;
                    let count = fields.len();
                    let wanted = if column < count { fields.swap_remove(column) } else { Cow::Borrowed("") };
                    return Some((line, wanted, count));
                }
                Plain::Empty => {}
                Plain::Record(line, record) => break (line, record),
            }
        };
        let (mut count, mut start, mut wanted) = (0, 0, "");
        for end in memchr_iter(self.separators.delimiter, record.as_bytes()).chain([record.len()]) {
            if count == column {
                wanted = &record[start..end];
            }
            (count, start) = (count + 1, end + 1);
        }
        Some((line, Cow::Borrowed(wanted), count))
    }

    /// The position of the last record in the block, without its line end.
    pub(crate) fn last(&self) -> Range<usize> {
        self.last.clone()
    }

    /// Takes the next line, of this length, if it has no quotes and ends as usual.
    fn take(&mut self, length: usize) -> Plain<'t> {
        let (end, next) = (self.at + length, (self.at + length + 1).min(self.text.len()));
        if self.at > self.quote {
            self.quote = find(self.text, self.separators.quote, self.at);
        }
        if self.at > self.cr {
            self.cr = find(self.text, b'\r', self.at);
        }
        let closed = self.cr + 1 == end && next > end;
        if self.quote < end || (self.cr < end && !closed) {
            return Plain::Quoted;
        }
        if self.at == self.text.len() {
            return Plain::End;
        }
        self.last = self.at..if closed { end - 1 } else { end };
        let record = &self.text[self.last.clone()];
        let line = self.line;
        (self.at, self.line) = (next, self.line + 1);
        if record.is_empty() { Plain::Empty } else { Plain::Record(line, record) }
    }

    /// Reads a record with quotes or other line ends.
    fn quoted(&mut self, fields: &mut Vec<Cow<'t, str>>) -> Option<u64> {
        let separators = self.separators;
        let Careful { core, unquoted, ends } = &mut **self.careful.get_or_insert_with(|| Careful::new(separators));
        core.reset();
        let (mut bytes, mut found, begun) = (0, 0, self.at);
        loop {
            let rest = &self.text.as_bytes()[self.at..];
            let (result, read, written, ended) = core.read_record(rest, &mut unquoted[bytes..], &mut ends[found..]);
            (self.at, bytes, found) = (self.at + read, bytes + written, found + ended);
            match result {
                // The end of the block ends its last record.
                ReadRecordResult::InputEmpty => {}
                ReadRecordResult::OutputFull => unquoted.resize(unquoted.len() * 2, 0),
                ReadRecordResult::OutputEndsFull => ends.resize(ends.len() * 2, 0),
                ReadRecordResult::Record => break,
                ReadRecordResult::End => return None,
            }
        }
        // Empty lines before a record do not belong to it.
        let taken = &self.text[begun..self.at];
        let record = taken.trim_start_matches(['\r', '\n']);
        let start = self.at - record.len();
        self.last = start..start + record.trim_end_matches(['\r', '\n']).len();
        let line = self.line + memchr_iter(b'\n', &self.text.as_bytes()[begun..start]).count() as u64;
        // A record that ends with both may leave the second behind.
        if taken.ends_with('\r') && self.text.as_bytes().get(self.at) == Some(&b'\n') {
            self.at += 1;
        }
        self.line += memchr_iter(b'\n', &self.text.as_bytes()[begun..self.at]).count() as u64;
        let mut start = 0;
        for end in &ends[..found] {
            fields.push(Cow::Owned(String::from_utf8_lossy(&unquoted[start..*end]).into_owned()));
            start = *end;
        }
        Some(line)
    }
}

/// What comes next in a block.
enum Plain<'t> {
    /// Nothing.
    End,
    /// A record with quotes.
    Quoted,
    /// An empty line, which is no record.
    Empty,
    /// A record without quotes, and its line.
    Record(u64, &'t str),
}

/// The position of a byte from an offset on, or the end of the text.
fn find(text: &str, byte: u8, from: usize) -> usize {
    memchr(byte, &text.as_bytes()[from..]).map_or(text.len(), |at| from + at)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn split(text: &str) -> Vec<(u64, Vec<String>)> {
        let mut splitter = CsvSplitter::new(text, Separators::of_table(b','));
        let mut fields = Vec::new();
        std::iter::from_fn(|| {
            let line = splitter.next(&mut fields)?;
            Some((line, fields.iter().map(|field| field.to_string()).collect()))
        })
        .collect()
    }

    fn by_the_crate(text: &str) -> Vec<Vec<String>> {
        let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(text.as_bytes());
        reader.records().map(|record| record.unwrap().iter().map(str::to_owned).collect()).collect()
    }

    #[rstest]
    #[case("a,b\n1,2\n", &[0, 1])]
    #[case("a,b\r\n\r\n1,\"x\ny\"\r\n3,4", &[0, 2, 4])]
    #[case("\n\n\"a\",b\nc", &[2, 3])]
    #[case("a\rb\rc", &[0, 0, 0])]
    #[case("", &[])]
    fn lines_are_numbered(#[case] text: &str, #[case] wanted: &[u64]) {
        let lines: Vec<u64> = split(text).into_iter().map(|(line, _)| line).collect();
        assert_eq!(lines, wanted);
    }

    proptest! {
        #[test]
        fn records_match_the_csv_crate(text in "([a-c]{0,3}|[,\n\"]|\r\n|\r|\"\"|é|\"x,y\"){0,40}") {
            let records: Vec<Vec<String>> = split(&text).into_iter().map(|(_, fields)| fields).collect();
            prop_assert_eq!(&records, &by_the_crate(&text));
            let (mut splitter, mut columns) = (CsvSplitter::new(&text, Separators::of_table(b',')), Vec::new());
            while let Some((_, column, count)) = splitter.next_column(1) {
                let again = split(&text[splitter.last()]);
                prop_assert_eq!(again.len(), 1, "a record can be read again alone");
                columns.push((column.into_owned(), count));
            }
            let wanted = records.iter().map(|record| (record.get(1).cloned().unwrap_or_default(), record.len()));
            prop_assert_eq!(columns, wanted.collect::<Vec<_>>());
        }
    }
}
