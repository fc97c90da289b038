//! Reading one block of records: in full, or only as far as needed to recognise each of them.

use std::borrow::Cow;
use std::sync::Arc;

use atlas_core::contribution::Contribution;
use atlas_core::fingerprint;
use atlas_core::report::Problem;
use atlas_store::arrival::{AskedRows, Block, ChunkExtent, Decider, RetainedText, RowReader};
use serde_json::{Map, Value};

use crate::reading::chunker::{Buffers, Endless, InputBlock};
use crate::reading::csv_split::{CsvSplitter, Separators};
use crate::reading::record::{
    Found, Header, Record, RecordProblem, RecordReader, RecordSettings, RecordSums, UrlPlace,
};
use crate::reading::surrogates::without_lone_surrogates;

/// The layout of a sequence of records.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RecordLayout {
    /// Separated values under a header (RFC 4180).
    Separated(Separators),
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
    /// By its URL, or its first columns: the rows of a query have no numbers that mean anything.
    Row,
}

/// How rows are recognised unread.
#[derive(Debug, Clone, Copy)]
pub(super) struct Raw {
    pub(super) reading: u64,
    pub(super) url: UrlPlace,
}

/// Reads the rows of one table.
#[derive(Debug)]
pub(super) struct TableReader {
    pub(super) header: Header,
    pub(super) settings: RecordSettings,
    pub(super) layout: RecordLayout,
    pub(super) shown: String,
    pub(super) unit: RecordUnit,
    /// How rows are recognised unread, if they can be.
    pub(super) raw: Option<Raw>,
}

impl TableReader {
    fn problem(&self, number: u64, record: Option<&Record<'_, '_>>, trouble: RecordProblem) -> Problem {
        let RecordProblem { message, passed_over } = trouble;
        let (line, message) = match self.unit {
            RecordUnit::Line => (Some(number), message),
            RecordUnit::Item => (None, format!("item {number}: {message}")),
            RecordUnit::Row => {
                let named = record.map(|record| self.records().named(record)).unwrap_or_default();
                (None, format!("{named}{message}"))
            }
        };
        Problem { file: self.shown.clone(), line, message, passed_over }
    }

    fn records(&self) -> RecordReader<'_> {
        RecordReader { settings: &self.settings, header: &self.header }
    }

    /// The URL of a row as its template makes it; empty if it lacks a part.
    fn url<'r>(&'r self, fields: &[Cow<'r, str>]) -> Cow<'r, str> {
        self.records().url(&Record::Columns(fields)).map_or(Cow::Borrowed(""), |url| Cow::Owned(url.into_owned()))
    }
}

impl RowReader for TableReader {
    fn read(&self, raw: &str, line: u64, take: &mut dyn FnMut(&Contribution<'_>), problem: &mut dyn FnMut(Problem)) {
        let RecordLayout::Separated(separators) = self.layout else { return };
        let mut fields = Vec::new();
        if CsvSplitter::new(raw, separators).next(&mut fields).is_none() {
            return;
        }
        let record = Record::Columns(&fields);
        let (records, mut contribution) = (self.records(), Contribution::default());
        let mut told = |found: Found| {
            if let Found::Problem(trouble) = found {
                problem(self.problem(line, Some(&record), trouble));
            }
        };
        if records.read(&record, &mut contribution, &mut told) {
            take(&contribution);
        }
    }

    fn read_again(
        self: Arc<Self>,
        decider: &Decider,
        text: RetainedText,
        asked: Option<&AskedRows>,
    ) -> (Block, Vec<Problem>) {
        let RetainedText { text: bytes, first_line, chunks, .. } = text;
        let (raw, cut) = (self.raw, InputBlock { bytes, first_line, chunks, endless: None });
        let reading = BlockReading { asked, ..BlockReading::new(&self, decider, cut, raw) };
        let read = reading.run(false, false, &Buffers::default());
        (read.block, read.problems)
    }
}

/// Some records.
struct Records<'r> {
    bytes: &'r [u8],
    /// The line of the first record.
    line: u64,
    separators: Separators,
    /// How they are recognised unread, if they need not be read.
    unread: Option<Raw>,
}

/// A block that was read.
pub(super) struct ReadBlock {
    pub(super) block: Block,
    pub(super) problems: Vec<Problem>,
    pub(super) sums: RecordSums,
}

/// One block being read.
pub(super) struct BlockReading<'t> {
    reader: &'t Arc<TableReader>,
    decider: &'t Decider,
    raw: Option<Raw>,
    /// If the block is read again: the rows of unchanged chunks to read.
    asked: Option<&'t AskedRows>,
    cut: InputBlock,
    pub(super) block: Block,
    pub(super) problems: Vec<Problem>,
    pub(super) sums: RecordSums,
}

impl<'t> BlockReading<'t> {
    pub(super) fn new(reader: &'t Arc<TableReader>, decider: &'t Decider, cut: InputBlock, raw: Option<Raw>) -> Self {
        let (block, problems, sums) = (Block::new(decider), Vec::new(), RecordSums::default());
        Self { reader, decider, raw, asked: None, cut, block, problems, sums }
    }

    /// Reads the block; with `unread`, only what is needed to recognise its rows.
    ///
    /// With `retains`, the text of a block that has rows which were skipped or not read stays with it.
    pub(super) fn run(mut self, unread: bool, retains: bool, buffers: &Buffers) -> ReadBlock {
        match self.cut.endless {
            Some(Endless::InQuotes) => {
                let message = "the record that begins here does not end within 16 MiB; is there an unclosed quote?";
                self.problem(self.cut.first_line, message.to_owned());
            }
            Some(Endless::TooLarge) => {
                let message = "the record that begins here is larger than 16 MiB; it is skipped";
                self.problem(self.cut.first_line, message.to_owned());
            }
            None => {
                let text = std::mem::take(&mut self.cut.bytes);
                self.take_apart(&text, unread);
                if retains && unread && self.raw.is_some() {
                    let (first_line, chunks) = (self.cut.first_line, std::mem::take(&mut self.cut.chunks));
                    let problems = std::mem::take(&mut self.problems);
                    self.block.retain(RetainedText { text, first_line, chunks, reader: self.reader.clone(), problems });
                } else {
                    buffers.give_back(text);
                }
            }
        }
        ReadBlock { block: self.block, problems: self.problems, sums: self.sums }
    }

    fn take_apart(&mut self, bytes: &[u8], unread: bool) {
        let RecordLayout::Separated(separators) = self.reader.layout else {
            self.block = Block::with_room(self.decider, bytes.len());
            return self.json_lines(bytes);
        };
        let raw = self.raw.filter(|_| unread);
        self.block = match raw {
            Some(_) => Block::unread(self.decider, self.cut.first_line, self.reader.clone()),
            None => Block::with_room(self.decider, bytes.len()),
        };
        let (mut begun, mut line) = (0, self.cut.first_line);
        for ChunkExtent { bytes: length, lines } in self.cut.chunks.clone() {
            let chunk = &bytes[begun..begun + length];
            self.chunk(&Records { bytes: chunk, line, separators, unread: raw });
            (begun, line) = (begun + length, line + lines);
        }
    }

    /// Reads a chunk. If it is known, only what every build has to read.
    fn chunk(&mut self, all: &Records<'_>) {
        let Some(raw) = self.raw.filter(|_| self.decider.wants_chunks()) else {
            return self.records(all, &mut |_, _| ());
        };
        let print = self.decider.chunk_print(all.bytes, raw.reading);
        if let Some(known) = self.decider.knows(print).filter(|_| all.unread.is_some() || self.asked.is_some()) {
            let asked = self.asked.filter(|asked| asked.any_of(print));
            let read = asked.map_or(0, |asked| self.some(all, print, asked, raw));
            self.block.meet(print, known.rows() - read);
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
        let &Records { bytes, line, separators, unread } = records;
        let Ok(text) = std::str::from_utf8(bytes) else {
            self.rubbish(records);
            return ended(&mut self.block, None);
        };
        match unread {
            Some(raw) => self.unread(text, line, separators, raw, ended),
            None => self.separated(text, line, separators, ended),
        }
    }

    /// Reads the rows of a chunk that are asked for; returns how many there are.
    fn some(&mut self, all: &Records<'_>, print: u64, asked: &AskedRows, raw: Raw) -> u32 {
        let Some((text, known)) = std::str::from_utf8(all.bytes).ok().zip(self.decider.knows(print)) else { return 0 };
        let reader = self.reader.clone();
        let mut splitter = CsvSplitter::new(text, all.separators);
        let (mut fields, mut read) = (Vec::with_capacity(reader.header.columns.len()), 0);
        while splitter.next(&mut fields).is_some() {
            let at = splitter.last();
            if fields.len() != reader.header.columns.len() || known.rest().any(|span| span.contains(&at.start)) {
                continue;
            }
            let url = match raw.url {
                UrlPlace::Column(column) => fields[column].clone(),
                UrlPlace::Template => reader.url(&fields),
            };
            let holds = |url: &str| asked.holds(print, self.decider, url);
            let is_asked = match reader.settings.site.plain(&url) {
                Some(plain) => holds(plain),
                None => reader.records().address(url, &mut |_| ()).is_ok_and(|url| holds(&url)),
            };
            let (records, mut contribution) = (reader.records(), Contribution::default());
            if is_asked && records.read(&Record::Columns(&fields), &mut contribution, &mut |_| ()) {
                self.block.push_asked(&contribution, fingerprint::raw(text[at].as_bytes(), raw.reading));
                read += 1;
            }
        }
        read
    }

    /// Takes rows unread.
    fn unread(
        &mut self,
        text: &str,
        first_line: u64,
        separators: Separators,
        raw: Raw,
        ended: &mut dyn FnMut(&mut Block, Option<usize>),
    ) {
        let wanted = self.reader.header.columns.len();
        let mut splitter = CsvSplitter::new(text, separators);
        let mut fields = Vec::new();
        loop {
            let next = match raw.url {
                UrlPlace::Column(column) => splitter.next_column(column),
                UrlPlace::Template => {
                    splitter.next(&mut fields).map(|nth| (nth, self.reader.url(&fields), fields.len()))
                }
            };
            let Some((nth, url, found)) = next else { return };
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
        let reader = self.reader.clone();
        let print = fingerprint::raw(came.as_bytes(), raw.reading);
        if let Some(plain) = reader.settings.site.plain(url) {
            return self.block.push_unread(plain, print, came, line);
        }
        let (sums, problems) = (&mut self.sums, &mut self.problems);
        match reader.records().address(Cow::Borrowed(url), &mut |found| _ = sums.add(line, found)) {
            Ok(address) => self.block.push_unread(&address, print, came, line),
            // It is read in full to report what is wrong with it.
            Err(_) => reader.read(came, line, &mut |_| (), &mut |one| problems.push(one)),
        }
    }

    fn separated(
        &mut self,
        text: &str,
        first_line: u64,
        separators: Separators,
        ended: &mut dyn FnMut(&mut Block, Option<usize>),
    ) {
        let mut splitter = CsvSplitter::new(text, separators);
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
        let &Records { bytes, line: first_line, separators, unread } = records;
        let mut reader = separators.csv().has_headers(false).flexible(true).from_reader(bytes);
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
                            let url = match raw.url {
                                UrlPlace::Column(column) => fields[column].clone(),
                                UrlPlace::Template => self.reader.url(&fields),
                            };
                            self.row_as_it_came(&url, came.trim_end_matches(['\r', '\n']), line, raw);
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
            match parse_object(line) {
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
        let Self { reader, block, problems, sums, .. } = self;
        let mut is_told = false;
        let mut told = |found: Found| match found {
            Found::Problem(trouble) => {
                problems.push(reader.problem(line, Some(record), trouble));
                is_told = true;
            }
            sum => is_told |= sums.add(line, sum),
        };
        if records.read(record, contribution, &mut told) {
            // Every build has to report what is wrong with a row.
            block.push_raw(contribution, if is_told { 0 } else { raw });
        }
    }

    fn problem(&mut self, line: u64, message: String) {
        let problem = self.reader.problem(line, None, RecordProblem::row(message));
        self.problems.push(problem);
    }
}

/// Parses an object. Half of a surrogate pair, which is no character, becomes �, so that it costs no row (RFC 8259,
/// section 8.2).
fn parse_object(line: &[u8]) -> serde_json::Result<Map<String, Value>> {
    serde_json::from_slice(line).or_else(|error| match without_lone_surrogates(line) {
        Some(mended) => serde_json::from_slice(&mended),
        None => Err(error),
    })
}
