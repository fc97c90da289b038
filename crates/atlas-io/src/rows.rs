//! Rows by the million: blocks of whole records are read ahead, taken apart in parallel, and handed on in their order.

use std::borrow::Cow;
use std::io::{self, Read};

use atlas_store::arrival::{Block, Desk};
use atlas_store::source::{Gathering, Problem};
use rayon::prelude::*;
use serde_json::{Map, Value};

use crate::cutter::{Cut, Cutter};
use crate::field::Field;
use crate::record::{Header, Record, RecordReader, RecordSettings};
use crate::split::Splitter;

/// How many blocks are read ahead of those that wait to be handed on.
const AHEAD: usize = 4;

/// How records follow one another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Layout {
    /// Separated values under a header (RFC 4180), by this byte.
    Separated(u8),
    /// One JSON object a line.
    JsonLines,
}

/// Why records cannot be read to their end.
#[derive(Debug)]
pub(crate) enum RowsError {
    /// The reader failed.
    Read(io::Error),
    /// The header is no use, and why.
    Header(String),
}

/// What is to be read, and how.
pub(crate) struct Rows<'s> {
    pub(crate) settings: &'s RecordSettings,
    pub(crate) layout: Layout,
    /// What it is called in messages.
    pub(crate) shown: &'s str,
    /// What a record is called where lines mean nothing to the user, such as `row`.
    pub(crate) unit: Option<&'static str>,
}

impl Rows<'_> {
    /// Reads all records and hands over what they say.
    pub(crate) fn gather(&self, reader: impl Read + Send, gathering: &mut Gathering<'_>) -> Result<(), RowsError> {
        let delimiter = match self.layout {
            Layout::Separated(delimiter) => Some(delimiter),
            Layout::JsonLines => None,
        };
        let mut cuts = Cutter::new(reader, delimiter);
        let mut batch = next_batch(&mut cuts)?;
        let Some(first) = batch.first_mut() else { return Ok(()) };
        let header = self.header(first)?;
        let desk = gathering.desk().clone();
        while !batch.is_empty() {
            // The next blocks are read while these are taken apart.
            let (read, next) = rayon::join(
                || batch.par_iter().map(|cut| Reading::new(self, &desk, cut, &header).run()).collect::<Vec<_>>(),
                || next_batch(&mut cuts),
            );
            for (block, problems) in read {
                gathering.push(block);
                problems.into_iter().for_each(|problem| gathering.problem(problem));
            }
            batch = next?;
        }
        Ok(())
    }

    /// Reads the header and takes it off the first block.
    fn header(&self, first: &mut Cut) -> Result<Header, RowsError> {
        let broken = |why: String| RowsError::Header(format!("{}: {why}", self.shown));
        if first.bytes.starts_with(b"\xef\xbb\xbf") {
            first.bytes.drain(..3);
        }
        if first.bytes.starts_with(b"\xff\xfe") || first.bytes.starts_with(b"\xfe\xff") {
            return Err(broken("it is in UTF-16; save it as UTF-8".to_owned()));
        }
        let Layout::Separated(delimiter) = self.layout else {
            return Ok(Header::of_objects(&self.settings.mapping));
        };
        let mut reader = csv::ReaderBuilder::new().delimiter(delimiter).from_reader(&first.bytes[..]);
        let columns = reader.headers().map_err(|error| {
            broken(match error.kind() {
                csv::ErrorKind::Utf8 { .. } => "its header is not in UTF-8; save the table as UTF-8".to_owned(),
                _ => format!("line 1: {error}"),
            })
        })?;
        let columns = columns.clone();
        let columns: Vec<String> = columns.iter().map(|name| name.trim().to_owned()).collect();
        let end = reader.position().byte() as usize;
        let lines = memchr::memchr_iter(b'\n', &first.bytes[..end]).count() as u64;
        first.bytes.drain(..end);
        first.first_line += lines;
        let listed = columns.iter().map(|column| format!("“{column}”")).collect::<Vec<_>>().join(", ");
        Header::of_columns(&self.settings.mapping, columns).map_err(|(field, name): (Field, String)| {
            let field = field.name();
            broken(format!(
                "it has no column “{name}” for the field “{field}”; its columns are {listed}. Say which it is: fields = {{ {field} = \"…\" }}"
            ))
        })
    }

    fn problem(&self, number: u64, message: String) -> Problem {
        let (line, message) = match self.unit {
            None => (Some(number), message),
            Some(unit) => (None, format!("{unit} {number}: {message}")),
        };
        Problem { file: self.shown.to_owned(), line, message }
    }
}

fn next_batch<R: Read>(cuts: &mut Cutter<R>) -> Result<Vec<Cut>, RowsError> {
    cuts.take(AHEAD).collect::<Result<_, _>>().map_err(RowsError::Read)
}

/// One block being read.
struct Reading<'t> {
    rows: &'t Rows<'t>,
    reader: RecordReader<'t>,
    cut: &'t Cut,
    block: Block,
    problems: Vec<Problem>,
}

impl<'t> Reading<'t> {
    fn new(rows: &'t Rows<'t>, desk: &Desk, cut: &'t Cut, header: &'t Header) -> Self {
        let reader = RecordReader { settings: rows.settings, header };
        Self { rows, reader, cut, block: Block::with_room(desk, cut.bytes.len()), problems: Vec::new() }
    }

    fn run(mut self) -> (Block, Vec<Problem>) {
        if self.cut.endless {
            let message = "a record begins here that does not end within 16 MiB; is a quote left open?";
            self.problem(self.cut.first_line, message.to_owned());
        } else {
            match self.rows.layout {
                Layout::Separated(delimiter) => self.separated(delimiter),
                Layout::JsonLines => self.json_lines(),
            }
        }
        (self.block, self.problems)
    }

    fn separated(&mut self, delimiter: u8) {
        let cut = self.cut;
        let Ok(text) = std::str::from_utf8(&cut.bytes) else { return self.separated_with_rubbish(delimiter) };
        let mut splitter = Splitter::new(text, delimiter);
        let mut fields = Vec::with_capacity(self.reader.header.columns.len());
        while let Some(line) = splitter.next(&mut fields) {
            self.columns(cut.first_line + line, &fields);
        }
    }

    /// Reads a block that is not all UTF-8, so that only the rows which are not are passed over.
    fn separated_with_rubbish(&mut self, delimiter: u8) {
        let cut = self.cut;
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(delimiter)
            .has_headers(false)
            .flexible(true)
            .from_reader(&cut.bytes[..]);
        let mut record = csv::StringRecord::new();
        loop {
            let line = cut.first_line + reader.position().line() - 1;
            match reader.read_record(&mut record) {
                Ok(false) => return,
                Ok(true) => {
                    let line = record.position().map_or(line, |position| cut.first_line + position.line() - 1);
                    let fields: Vec<Cow<'_, str>> = record.iter().map(Cow::Borrowed).collect();
                    self.columns(line, &fields);
                }
                Err(error) if matches!(error.kind(), csv::ErrorKind::Utf8 { .. }) => {
                    self.problem(line, "not in UTF-8; the row is passed over. Save the table as UTF-8".to_owned());
                }
                Err(error) => return self.problem(line, error.to_string()),
            }
        }
    }

    fn columns(&mut self, line: u64, fields: &[Cow<'_, str>]) {
        let (found, wanted) = (fields.len(), self.reader.header.columns.len());
        if found == wanted {
            return self.row(line, &Record::Columns(fields));
        }
        self.problem(line, format!("{found} columns where the header has {wanted}; the row is passed over"));
    }

    fn json_lines(&mut self) {
        let cut = self.cut;
        for (nth, line) in cut.bytes.split(|byte| *byte == b'\n').enumerate() {
            let number = cut.first_line + nth as u64;
            if line.trim_ascii().is_empty() {
                continue;
            }
            match serde_json::from_slice::<Map<String, Value>>(line) {
                Ok(object) => self.row(number, &Record::Object(&object)),
                Err(error) => {
                    let message =
                        format!("no JSON object ({error}); one object a line is expected. The row is passed over");
                    self.problem(number, message);
                }
            }
        }
    }

    fn row(&mut self, line: u64, record: &Record<'_>) {
        let Self { rows, reader, block, problems, .. } = self;
        if let Some(said) = reader.read(record, &mut |message| problems.push(rows.problem(line, message))) {
            block.push(&said);
        }
    }

    fn problem(&mut self, line: u64, message: String) {
        self.problems.push(self.rows.problem(line, message));
    }
}
