//! The rows of a query on their way to the reader: separated values under a header, as in a table (RFC 4180).

use std::io;

use atlas_core::number::count;

#[cfg(feature = "sql-servers")]
use crate::reading::csv_split::Separators;
use crate::reading::pipe::PipeWriter;
use crate::reading::row_text::{end_line, push_cell, too_large};

/// Writes the rows of one query.
pub(super) struct RowWriter<'p> {
    pipe: &'p mut PipeWriter,
    columns: Vec<String>,
    is_begun: bool,
    line: Vec<u8>,
    /// Problems with rows that are not passed on.
    pub(super) problems: Vec<String>,
    /// Cells that were not UTF-8: how many, and the column of the first.
    not_text: Option<(u64, String)>,
}

impl<'p> RowWriter<'p> {
    pub(super) fn new(pipe: &'p mut PipeWriter) -> Self {
        let (columns, line, problems) = (Vec::new(), Vec::new(), Vec::new());
        Self { pipe, columns, is_begun: false, line, problems, not_text: None }
    }

    /// Sets the names of the columns, before the first row.
    pub(super) fn set_columns(&mut self, names: impl IntoIterator<Item = String>) {
        self.columns = names.into_iter().collect();
    }

    /// Whether rows have been passed on, so that the query cannot be asked again.
    pub(super) fn is_begun(&self) -> bool {
        self.is_begun
    }

    /// Passes on the header, and nothing before there are columns.
    fn begin(&mut self) -> io::Result<()> {
        if self.is_begun || self.columns.is_empty() {
            return Ok(());
        }
        self.is_begun = true;
        let mut header = Vec::new();
        self.columns.iter().for_each(|name| push_cell(name.as_bytes(), &mut header));
        push_cell(b"", &mut header);
        end_line(&mut header);
        self.pipe.push(&header)
    }

    /// Adds a row in the text format of PostgreSQL's COPY, with our delimiter between values and an empty last value.
    #[cfg(feature = "sql-servers")]
    pub(super) fn push_copied(&mut self, row: &[u8]) -> io::Result<()> {
        let Separators { delimiter, quote } = Separators::OF_ROWS;
        if memchr::memchr2(b'\\', quote, row).is_none() {
            return self.push_line(row);
        }
        let mut line = std::mem::take(&mut self.line);
        line.clear();
        let (mut value, mut bytes) = (Vec::new(), row.strip_suffix(b"\n").unwrap_or(row).iter());
        while let Some(&byte) = bytes.next() {
            match byte {
                b'\\' => value.extend(bytes.next().map(|&letter| unescaped(letter))),
                _ if byte == delimiter => {
                    push_cell(&value, &mut line);
                    value.clear();
                }
                _ => value.push(byte),
            }
        }
        push_cell(&value, &mut line);
        end_line(&mut line);
        let pushed = self.push_line(&line);
        self.line = line;
        pushed
    }

    /// Adds a row as a line that ends with an empty cell, so that a line is never empty.
    fn push_line(&mut self, line: &[u8]) -> io::Result<()> {
        self.begin()?;
        if let Some(problem) = too_large(line) {
            self.problems.push(problem);
            return Ok(());
        }
        self.pipe.push(line)
    }

    /// Adds a row: a value for each column, or `None`, as bytes that should be UTF-8.
    pub(super) fn push<'v>(&mut self, values: impl Iterator<Item = Option<&'v [u8]>>) -> io::Result<()> {
        let mut line = std::mem::take(&mut self.line);
        line.clear();
        for (at, value) in values.enumerate() {
            let value = value.unwrap_or_default();
            match std::str::from_utf8(value) {
                Ok(text) => push_cell(text.as_bytes(), &mut line),
                Err(_) => {
                    let column = || self.columns.get(at).cloned().unwrap_or_default();
                    self.not_text.get_or_insert_with(|| (0, column())).0 += 1;
                    push_cell(String::from_utf8_lossy(value).as_bytes(), &mut line);
                }
            }
        }
        push_cell(b"", &mut line);
        end_line(&mut line);
        let pushed = self.push_line(&line);
        self.line = line;
        pushed
    }

    /// Passes on the header if there was no row. Returns a remark on cells that are not text.
    pub(super) fn finish(&mut self) -> io::Result<Option<String>> {
        self.begin()?;
        Ok(self.not_text.take().map(|(cells, column)| {
            format!(
                "{} not UTF-8, the first in the column “{column}”; the bytes that are not are read as �. Convert them in the query",
                count(cells, "value is", "values are")
            )
        }))
    }
}

/// What a letter after a backslash stands for in the text format of COPY.
#[cfg(feature = "sql-servers")]
fn unescaped(letter: u8) -> u8 {
    match letter {
        b'b' => 0x08,
        b't' => b'\t',
        b'n' => b'\n',
        b'v' => 0x0b,
        b'f' => 0x0c,
        b'r' => b'\r',
        _ => letter,
    }
}
