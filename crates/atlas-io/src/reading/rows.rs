//! Reading rows by the million: blocks of whole records are read ahead, parsed in parallel, and passed on in order.

use std::io::{self, Read};
use std::sync::Arc;

use atlas_core::fingerprint;
use atlas_store::source::Gathering;
use rayon::prelude::*;
use serde_json::{Map, Value};

use crate::reading::chunker::{BLOCK, Buffers, Chunker, InputBlock};
use crate::reading::field::Field;
use crate::reading::record::{Header, RecordSettings, RecordSums};
use crate::reading::record_blocks::{BlockReading, Raw, ReadBlock, TableReader};
pub(crate) use crate::reading::record_blocks::{RecordLayout, RecordUnit};

/// How many blocks are read ahead of those that wait to be passed on.
const AHEAD: usize = 16;

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
        let separators = match self.layout {
            RecordLayout::Separated(separators) => Some(separators),
            RecordLayout::JsonLines => None,
        };
        let buffers = Buffers::default();
        let mut cuts = Chunker::new(reader, separators, &buffers);
        let mut batch = next_batch(&mut cuts)?;
        let Some(first) = batch.first_mut() else { return Ok(()) };
        let header = self.header(first)?;
        let names = match self.layout {
            RecordLayout::Separated(_) => header.columns.clone(),
            RecordLayout::JsonLines => names_of_the_first(&first.bytes),
        };
        self.remark_on_passed_over(&names, gathering);
        self.blocks(header, batch, &mut || next_batch(&mut cuts), &buffers, gathering)
    }

    /// The same for records that are made in blocks, some at a time, under a header of these columns. While blocks are
    /// read, the next are made.
    #[cfg(feature = "parquet")]
    pub(crate) fn gather_made(
        &self,
        columns: Vec<String>,
        make: &mut (dyn FnMut(&Buffers) -> Result<Vec<InputBlock>, RowsError> + Send),
        gathering: &mut Gathering<'_>,
    ) -> Result<(), RowsError> {
        let buffers = Buffers::default();
        let header = self.header_of(columns)?;
        let batch = make(&buffers)?;
        self.blocks(header, batch, &mut || make(&buffers), &buffers, gathering)
    }

    /// Names columns that are not read although they look like fields.
    pub(crate) fn remark_on_passed_over(&self, names: &[String], gathering: &mut Gathering<'_>) {
        let word = match (self.layout, self.unit) {
            (RecordLayout::Separated(_), _) | (_, RecordUnit::Row) => "column",
            (RecordLayout::JsonLines, RecordUnit::Line | RecordUnit::Item) => "key",
        };
        for (column, field) in self.settings.mapping.passed_over(names) {
            let field = field.name();
            gathering.remark(format!(
                "{word} “{column}” is not read; if it is the field “{field}”, add: fields = {{ {field} = \"{column}\" }}"
            ));
        }
    }

    /// Reads blocks in parallel, beginning with `batch`, and passes on their contributions in order.
    fn blocks(
        &self,
        header: Header,
        mut batch: Vec<InputBlock>,
        next: &mut (dyn FnMut() -> Result<Vec<InputBlock>, RowsError> + Send),
        buffers: &Buffers,
        gathering: &mut Gathering<'_>,
    ) -> Result<(), RowsError> {
        let raw = self.raw(&header);
        let reader = Arc::new(TableReader {
            raw,
            header,
            settings: self.settings.clone(),
            layout: self.layout,
            shown: self.shown.to_owned(),
            unit: self.unit,
        });
        let maps = reader.header.maps(self.settings);
        match self.layout {
            RecordLayout::Separated(_) => gathering.maps(maps),
            RecordLayout::JsonLines => gathering.maps_what_is_given(maps),
        }
        let decider = gathering.decider().clone();
        let (unread, retains) = (!gathering.reads_all(), gathering.retains());
        let stop = gathering.stop();
        let mut sums = RecordSums::default();
        let mut hand_over = |read: Vec<ReadBlock>| {
            for ReadBlock { block, problems, sums: more } in read {
                gathering.push(block);
                problems.into_iter().for_each(|problem| gathering.problem(problem));
                sums.join(more);
            }
        };
        let mut ready = Vec::new();
        while !batch.is_empty() {
            // The run fails then, whatever was read.
            if stop.is_asked() {
                return Ok(());
            }
            // While these blocks are parsed, those before them are passed on and the next are read.
            let (read, made) = rayon::join(
                || {
                    let read = |cut| BlockReading::new(&reader, &decider, cut, raw).run(unread, retains, buffers);
                    batch.into_par_iter().map(read).collect::<Vec<_>>()
                },
                || {
                    hand_over(std::mem::take(&mut ready));
                    next()
                },
            );
            ready = read;
            batch = match made {
                Ok(batch) => batch,
                Err(error) => {
                    hand_over(ready);
                    return Err(error);
                }
            };
        }
        hand_over(ready);
        sums.remarks().into_iter().for_each(|remark| gathering.remark(remark));
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
        let RecordLayout::Separated(separators) = self.layout else {
            return Ok(Header::of_objects(&self.settings.mapping));
        };
        let mut reader = separators.csv().from_reader(&first.bytes[..]);
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
        self.header_of(columns)
    }

    /// The header with these columns.
    pub(crate) fn header_of(&self, columns: Vec<String>) -> Result<Header, RowsError> {
        let named: Vec<&String> = columns.iter().filter(|column| !column.is_empty()).collect();
        let short = |column: &&String| format!("“{}”", column.chars().take(LONGEST_NAME).collect::<String>());
        let mut listed = named.iter().take(MOST_NAMES).map(short).collect::<Vec<_>>().join(", ");
        if named.len() > MOST_NAMES {
            listed += &format!(" and {} more", named.len() - MOST_NAMES);
        }
        Header::of_columns(&self.settings.mapping, columns).map_err(|(field, name): (Field, String)| {
            let field = field.name();
            RowsError::Header(format!(
                "{}: it has no column “{name}” for the field “{field}”; its columns are {listed}. Name the right one: fields = {{ {field} = \"…\" }}",
                self.shown
            ))
        })
    }

    /// How rows are recognised unread: a fingerprint of how they are read, and the column of the URL. Only for tables
    /// whose rows are independent of each other and have their URL in one column or template.
    fn raw(&self, header: &Header) -> Option<Raw> {
        let RecordLayout::Separated(separators) = self.layout else { return None };
        let columns = header.columns.join("\n");
        let text = format!("{READING} {separators:?} {} {columns}", self.settings.written());
        Some(Raw { reading: fingerprint::settings(&text), url: header.url_place()? })
    }
}

/// The names in the first of several objects, one per line. Not every object has to have all of them, but most inputs
/// are written by one program, so the first shows what it calls things.
fn names_of_the_first(lines: &[u8]) -> Vec<String> {
    let first = lines.split(|byte| *byte == b'\n').find(|line| !line.trim_ascii().is_empty());
    let object = first.and_then(|line| serde_json::from_slice::<Map<String, Value>>(line).ok());
    object.map_or_else(Vec::new, |object| object.into_iter().map(|(name, _)| name).collect())
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

/// How many columns an error lists, and how many characters of each.
const MOST_NAMES: usize = 30;
const LONGEST_NAME: usize = 60;

/// Increased whenever the same row would be read differently.
const READING: u32 = 2;
