//! Reading rows by the million: blocks of whole records are read ahead, parsed in parallel, and passed on in order.

use std::borrow::Cow;
use std::io::{self, Read};
use std::sync::Arc;

use atlas_core::contribution::Contribution;
use atlas_core::fingerprint;
use atlas_core::report::Problem;
use atlas_store::arrival::{Block, Decider, RowReader};
use atlas_store::source::Gathering;
use rayon::prelude::*;
use serde_json::{Map, Value};

use crate::reading::chunker::{BLOCK, Buffers, Chunker, Extent, InputBlock};
use crate::reading::csv_split::CsvSplitter;
use crate::reading::field::Field;
use crate::reading::record::{Header, Record, RecordProblem, RecordReader, RecordSettings};

/// How many blocks are read ahead of those that wait to be passed on.
const AHEAD: usize = 16;

/// The layout of a sequence of records.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RecordLayout {
    /// Separated values under a header (RFC 4180), with this separator.
    Separated(u8),
    /// One JSON object per line.
    JsonLines,
}

/// How a record is identified in messages.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RecordUnit {
    /// By its line.
    Line,
    /// By its number among the items of an array, which may share lines.
    Item,
    /// By its number among the rows of a query.
    Row,
}

/// Why records cannot be read to their end.
#[derive(Debug)]
pub(crate) enum RowsError {
    /// The reader failed.
    Read(io::Error),
    /// The header is not usable, and why.
    Header(String),
}

/// What to read, and how.
pub(crate) struct RowInput<'s> {
    pub(crate) settings: &'s RecordSettings,
    pub(crate) layout: RecordLayout,
    /// The name of the input in messages.
    pub(crate) shown: &'s str,
    pub(crate) unit: RecordUnit,
}

impl RowInput<'_> {
    /// Reads all records and passes on their contributions.
    pub(crate) fn gather(&self, reader: impl Read + Send, gathering: &mut Gathering<'_>) -> Result<(), RowsError> {
        let delimiter = match self.layout {
            RecordLayout::Separated(delimiter) => Some(delimiter),
            RecordLayout::JsonLines => None,
        };
        let buffers = Buffers::default();
        let mut cuts = Chunker::new(reader, delimiter, &buffers);
        let mut batch = next_batch(&mut cuts)?;
        let Some(first) = batch.first_mut() else { return Ok(()) };
        let header = self.header(first)?;
        let names = match self.layout {
            RecordLayout::Separated(_) => header.columns.clone(),
            RecordLayout::JsonLines => names_of_the_first(&first.bytes),
        };
        let reader = Arc::new(TableReader {
            header,
            settings: self.settings.clone(),
            layout: self.layout,
            shown: self.shown.to_owned(),
            unit: self.unit,
        });
        let word = match (self.layout, self.unit) {
            (RecordLayout::Separated(_), _) | (_, RecordUnit::Row) => "column",
            (RecordLayout::JsonLines, RecordUnit::Line | RecordUnit::Item) => "key",
        };
        for (column, field) in self.settings.mapping.passed_over(&names) {
            let field = field.name();
            gathering.remark(format!(
                "{word} “{column}” is not read; if it is the field “{field}”, add: fields = {{ {field} = \"{column}\" }}"
            ));
        }
        let maps = reader.header.maps(self.settings);
        match self.layout {
            RecordLayout::Separated(_) => gathering.maps(maps),
            RecordLayout::JsonLines => gathering.maps_what_is_given(maps),
        }
        let (decider, raw) = (gathering.decider().clone(), self.raw(&reader.header));
        let unread = !gathering.reads_all();
        let stop = gathering.stop();
        let mut hand_over = |read: Vec<(Block, Vec<Problem>)>| {
            for (block, problems) in read {
                gathering.push(block);
                problems.into_iter().for_each(|problem| gathering.problem(problem));
            }
        };
        let mut ready = Vec::new();
        while !batch.is_empty() {
            // The run fails then, whatever was read.
            if stop.is_asked() {
                return Ok(());
            }
            // While these blocks are parsed, those before them are passed on and the next are read.
            let (read, next) = rayon::join(
                || {
                    let read = |cut| BlockReading::new(&reader, &decider, cut, raw).run(unread, &buffers);
                    batch.into_par_iter().map(read).collect::<Vec<_>>()
                },
                || {
                    hand_over(std::mem::take(&mut ready));
                    next_batch(&mut cuts)
                },
            );
            ready = read;
            batch = match next {
                Ok(batch) => batch,
                Err(error) => {
                    hand_over(ready);
                    return Err(error);
                }
            };
        }
        hand_over(ready);
        Ok(())
    }

    /// Reads the header and removes it from the first block.
    fn header(&self, first: &mut InputBlock) -> Result<Header, RowsError> {
        let broken = |why: String| RowsError::Header(format!("{}: {why}", self.shown));
        if first.bytes.starts_with(b"\xef\xbb\xbf") {
            first.take_off(3, 0);
        }
        if first.bytes.starts_with(b"\xff\xfe") || first.bytes.starts_with(b"\xfe\xff") {
            return Err(broken("it is in UTF-16; save it as UTF-8".to_owned()));
        }
        let RecordLayout::Separated(delimiter) = self.layout else {
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
        first.take_off(end, lines);
        let listed = columns.iter().map(|column| format!("“{column}”")).collect::<Vec<_>>().join(", ");
        Header::of_columns(&self.settings.mapping, columns).map_err(|(field, name): (Field, String)| {
            let field = field.name();
            broken(format!(
                "it has no column “{name}” for the field “{field}”; its columns are {listed}. Name the right one: fields = {{ {field} = \"…\" }}"
            ))
        })
    }

    /// How rows are recognised unread: a fingerprint of how they are read, and the column of the URL. Only for tables
    /// whose rows are independent of each other and have their URL in one column.
    fn raw(&self, header: &Header) -> Option<Raw> {
        let RecordLayout::Separated(delimiter) = self.layout else { return None };
        let columns = header.columns.join("\n");
        let text = format!("{READING} {delimiter} {} {columns}", self.settings.written());
        Some(Raw { reading: fingerprint::settings(&text), column: header.url_column()? })
    }
}

/// The names in the first of several objects, one per line. Not every object has to have all of them, but most inputs
/// are written by one program, so the first shows what it calls things.
fn names_of_the_first(lines: &[u8]) -> Vec<String> {
    let first = lines.split(|byte| *byte == b'\n').find(|line| !line.trim_ascii().is_empty());
    let object = first.and_then(|line| serde_json::from_slice::<Map<String, Value>>(line).ok());
    object.map_or_else(Vec::new, |object| object.into_iter().map(|(name, _)| name).collect())
}

/// Increased whenever the same row would be read differently.
const READING: u32 = 1;

/// How rows are recognised unread.
#[derive(Debug, Clone, Copy)]
struct Raw {
    reading: u64,
    column: usize,
}

/// Reads the rows of one table.
#[derive(Debug)]
struct TableReader {
    header: Header,
    settings: RecordSettings,
    layout: RecordLayout,
    shown: String,
    unit: RecordUnit,
}

impl TableReader {
    fn problem(&self, number: u64, trouble: RecordProblem) -> Problem {
        let RecordProblem { message, passed_over } = trouble;
        let (line, message) = match self.unit {
            RecordUnit::Line => (Some(number), message),
            RecordUnit::Item => (None, format!("item {number}: {message}")),
            RecordUnit::Row => (None, format!("row {number}: {message}")),
        };
        Problem { file: self.shown.clone(), line, message, passed_over }
    }

    fn records(&self) -> RecordReader<'_> {
        RecordReader { settings: &self.settings, header: &self.header }
    }
}

impl RowReader for TableReader {
    fn read(&self, raw: &str, line: u64, take: &mut dyn FnMut(&Contribution<'_>), problem: &mut dyn FnMut(Problem)) {
        let RecordLayout::Separated(delimiter) = self.layout else { return };
        let mut fields = Vec::new();
        if CsvSplitter::new(raw, delimiter).next(&mut fields).is_none() {
            return;
        }
        let record = Record::Columns(&fields);
        let (records, mut contribution) = (self.records(), Contribution::default());
        if records.read(&record, &mut contribution, &mut |trouble| problem(self.problem(line, trouble))) {
            take(&contribution);
        }
    }
}

fn next_batch<R: Read>(cuts: &mut Chunker<'_, R>) -> Result<Vec<InputBlock>, RowsError> {
    let mut batch: Vec<InputBlock> = Vec::with_capacity(AHEAD);
    // Records may be far larger than a block, so bytes are what counts.
    while batch.len() < AHEAD && batch.iter().map(|cut| cut.bytes.len()).sum::<usize>() < AHEAD * BLOCK {
        let Some(cut) = cuts.next() else { break };
        batch.push(cut.map_err(RowsError::Read)?);
    }
    Ok(batch)
}

/// Some records.
struct Records<'r> {
    bytes: &'r [u8],
    /// The line of the first record.
    line: u64,
    delimiter: u8,
    /// How they are recognised unread, if they need not be read.
    unread: Option<Raw>,
}

/// One block being read.
struct BlockReading<'t> {
    reader: &'t Arc<TableReader>,
    decider: &'t Decider,
    raw: Option<Raw>,
    cut: InputBlock,
    block: Block,
    problems: Vec<Problem>,
}

impl<'t> BlockReading<'t> {
    fn new(reader: &'t Arc<TableReader>, decider: &'t Decider, cut: InputBlock, raw: Option<Raw>) -> Self {
        Self { reader, decider, raw, cut, block: Block::new(decider), problems: Vec::new() }
    }

    /// Reads the block; with `unread`, only what is needed to recognise its rows.
    fn run(mut self, unread: bool, buffers: &Buffers) -> (Block, Vec<Problem>) {
        if self.cut.endless {
            let message = "the record that begins here does not end within 16 MiB; is there an unclosed quote?";
            self.problem(self.cut.first_line, message.to_owned());
            return (self.block, self.problems);
        }
        let bytes = std::mem::take(&mut self.cut.bytes);
        self.take_apart(&bytes, unread);
        buffers.give_back(bytes);
        (self.block, self.problems)
    }

    fn take_apart(&mut self, bytes: &[u8], unread: bool) {
        let RecordLayout::Separated(delimiter) = self.reader.layout else {
            self.block = Block::with_room(self.decider, bytes.len());
            return self.json_lines(bytes);
        };
        let raw = self.raw.filter(|_| unread);
        self.block = match raw {
            Some(_) => Block::unread(self.decider, self.cut.first_line, self.reader.clone()),
            None => Block::with_room(self.decider, bytes.len()),
        };
        let (mut begun, mut line) = (0, self.cut.first_line);
        for Extent { bytes: length, lines } in std::mem::take(&mut self.cut.chunks) {
            let chunk = &bytes[begun..begun + length];
            self.chunk(&Records { bytes: chunk, line, delimiter, unread: raw });
            (begun, line) = (begun + length, line + lines);
        }
    }

    /// Reads a chunk. If it is known, only what every build has to read.
    fn chunk(&mut self, all: &Records<'_>) {
        let Some(raw) = self.raw.filter(|_| self.decider.wants_chunks()) else {
            return self.records(all, &mut |_, _| ());
        };
        let print = self.decider.chunk_print(all.bytes, raw.reading);
        if let Some(known) = self.decider.knows(print).filter(|_| all.unread.is_some()) {
            self.block.meet(print, known.rows());
            let (mut line, mut before) = (all.line, 0);
            for span in known.rest() {
                let before = all.bytes.get(std::mem::replace(&mut before, span.start)..span.start);
                let Some((before, bytes)) = before.zip(all.bytes.get(span)) else { continue };
                line += memchr::memchr_iter(b'\n', before).count() as u64;
                self.records(&Records { bytes, line, ..*all }, &mut |_, _| ());
            }
            return;
        }
        self.block.begin_chunk(print, all.bytes.len());
        self.records(all, &mut |block, start| match start {
            Some(start) => block.end_record(start),
            None => block.end_unbroken(),
        });
    }

    /// Reads records. `ended` is told where each record began, after it was read, or that this is unknown.
    fn records(&mut self, records: &Records<'_>, ended: &mut dyn FnMut(&mut Block, Option<usize>)) {
        let &Records { bytes, line, delimiter, unread } = records;
        let Ok(text) = std::str::from_utf8(bytes) else {
            self.rubbish(records);
            return ended(&mut self.block, None);
        };
        match unread {
            Some(raw) => self.unread(text, line, delimiter, raw, ended),
            None => self.separated(text, line, delimiter, ended),
        }
    }

    /// Takes rows unread.
    fn unread(
        &mut self,
        text: &str,
        first_line: u64,
        delimiter: u8,
        raw: Raw,
        ended: &mut dyn FnMut(&mut Block, Option<usize>),
    ) {
        let wanted = self.reader.header.columns.len();
        let mut splitter = CsvSplitter::new(text, delimiter);
        while let Some((nth, url, found)) = splitter.next_column(raw.column) {
            let (line, at) = (first_line + nth, splitter.last());
            if found == wanted {
                self.row_as_it_came(&url, &text[at.clone()], line, raw);
            } else {
                self.wrong_columns(line, found);
            }
            ended(&mut self.block, Some(at.start));
        }
    }

    fn row_as_it_came(&mut self, url: &str, came: &str, line: u64, raw: Raw) {
        let site = &self.reader.settings.site;
        let print = fingerprint::raw(came.as_bytes(), raw.reading);
        match site.plain(url) {
            Some(plain) => self.block.push_unread(plain, print, came, line),
            None => match site.address(url) {
                Ok(address) => self.block.push_unread(address.as_str(), print, came, line),
                // It is read in full to report what is wrong with it.
                Err(_) => self.reader.clone().read(came, line, &mut |_| (), &mut |one| self.problems.push(one)),
            },
        }
    }

    fn separated(
        &mut self,
        text: &str,
        first_line: u64,
        delimiter: u8,
        ended: &mut dyn FnMut(&mut Block, Option<usize>),
    ) {
        let mut splitter = CsvSplitter::new(text, delimiter);
        let mut fields = Vec::with_capacity(self.reader.header.columns.len());
        let (records, mut contribution) = (self.reader.records(), Contribution::default());
        while let Some(line) = splitter.next(&mut fields) {
            let at = splitter.last();
            let print = self.raw.map_or(0, |raw| fingerprint::raw(text[at.clone()].as_bytes(), raw.reading));
            self.columns(&records, first_line + line, &fields, print, &mut contribution);
            ended(&mut self.block, Some(at.start));
        }
    }

    /// Reads records that are not all UTF-8, so that only those which are not are skipped.
    fn rubbish(&mut self, records: &Records<'_>) {
        let &Records { bytes, line: first_line, delimiter, unread } = records;
        let mut reader =
            csv::ReaderBuilder::new().delimiter(delimiter).has_headers(false).flexible(true).from_reader(bytes);
        let mut record = csv::StringRecord::new();
        loop {
            let line = first_line + reader.position().line() - 1;
            match reader.read_record(&mut record) {
                Ok(false) => return,
                Ok(true) => {
                    let line = record.position().map_or(line, |position| first_line + position.line() - 1);
                    let fields: Vec<Cow<'_, str>> = record.iter().map(Cow::Borrowed).collect();
                    let begun = record.position().map_or(0, |position| position.byte() as usize);
                    let came = bytes.get(begun..reader.position().byte() as usize).unwrap_or_default();
                    match (unread, std::str::from_utf8(came)) {
                        (Some(raw), Ok(came)) if fields.len() == self.reader.header.columns.len() => {
                            self.row_as_it_came(&fields[raw.column], came.trim_end_matches(['\r', '\n']), line, raw);
                        }
                        _ => self.columns(&self.reader.records(), line, &fields, 0, &mut Contribution::default()),
                    }
                }
                Err(error) if matches!(error.kind(), csv::ErrorKind::Utf8 { .. }) => {
                    self.problem(line, "not in UTF-8; the row is skipped. Save the table as UTF-8".to_owned());
                }
                Err(error) => return self.problem(line, error.to_string()),
            }
        }
    }

    fn columns<'r>(
        &mut self,
        records: &'r RecordReader<'r>,
        line: u64,
        fields: &[Cow<'r, str>],
        raw: u64,
        contribution: &mut Contribution<'r>,
    ) {
        if fields.len() == self.reader.header.columns.len() {
            return self.row(records, line, &Record::Columns(fields), raw, contribution);
        }
        self.wrong_columns(line, fields.len());
    }

    fn wrong_columns(&mut self, line: u64, found: usize) {
        let wanted = self.reader.header.columns.len();
        self.problem(line, format!("{found} columns, but the header has {wanted}; the row is skipped"));
    }

    fn json_lines(&mut self, bytes: &[u8]) {
        for (nth, line) in bytes.split(|byte| *byte == b'\n').enumerate() {
            let number = self.cut.first_line + nth as u64;
            if line.trim_ascii().is_empty() {
                continue;
            }
            match serde_json::from_slice::<Map<String, Value>>(line) {
                Ok(object) => {
                    let (records, record) = (self.reader.records(), Record::Object(&object));
                    self.row(&records, number, &record, 0, &mut Contribution::default());
                }
                Err(error) => {
                    let message =
                        format!("not a JSON object ({error}); one object per line is expected. The row is skipped");
                    self.problem(number, message);
                }
            }
        }
    }

    fn row<'r>(
        &mut self,
        records: &'r RecordReader<'r>,
        line: u64,
        record: &Record<'_, 'r>,
        raw: u64,
        contribution: &mut Contribution<'r>,
    ) {
        let Self { reader, block, problems, .. } = self;
        let before = problems.len();
        if records.read(record, contribution, &mut |trouble| problems.push(reader.problem(line, trouble))) {
            // Every build has to report what is wrong with a row.
            block.push_raw(contribution, if problems.len() == before { raw } else { 0 });
        }
    }

    fn problem(&mut self, line: u64, message: String) {
        let problem = self.reader.problem(line, RecordProblem::row(message));
        self.problems.push(problem);
    }
}
