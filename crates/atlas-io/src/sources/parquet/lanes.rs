//! Lanes: parts of Parquet files that are decoded side by side, and passed on in an order that depends only on the files.

use arrow_array::RecordBatch;
use parquet::arrow::arrow_reader::ParquetRecordBatchReader;
use rayon::prelude::*;

use super::cells::ColumnCells;
use super::file::{ParquetFile, guarded, in_words};
use crate::reading::chunker::{BLOCK, Buffers, InputBlock};
use crate::reading::csv_split::Separators;
use crate::reading::record::RecordSettings;
use crate::reading::row_text::{end_line, push_cell, too_large};

/// How many parts are decoded side by side. It does not depend on the machine, because the order of rows depends on it.
const LANES: usize = 4;
/// How many blocks a lane makes in one round.
const BLOCKS: usize = 2;

/// A part of a file.
pub(super) struct FilePart {
    pub(super) file: ParquetFile,
    pub(super) group: usize,
    pub(super) rows: std::ops::Range<usize>,
}

/// A part being decoded.
struct Lane {
    shown: String,
    parts: Vec<(String, String)>,
    reader: ParquetRecordBatchReader,
    /// How many rows are still to come.
    left: usize,
}

/// What a lane made in one round.
#[derive(Default)]
struct LaneRound {
    blocks: Vec<InputBlock>,
    /// Rows that are not passed on.
    problems: Vec<(String, String)>,
    /// Why the rest of its part cannot be read.
    failure: Option<String>,
    is_done: bool,
}

/// Parts of files on their way to the reader of rows.
pub(super) struct Lanes<'s, P> {
    settings: &'s RecordSettings,
    columns: &'s [String],
    parts: P,
    lanes: Vec<Option<Lane>>,
    /// Rows that were not passed on: the file, and why.
    pub(super) problems: Vec<(String, String)>,
    /// Parts that could not be read to their end, and why.
    pub(super) failures: Vec<String>,
}

impl<'s, P: Iterator<Item = FilePart>> Lanes<'s, P> {
    pub(super) fn new(settings: &'s RecordSettings, columns: &'s [String], parts: P) -> Self {
        let lanes = (0..LANES).map(|_| None).collect();
        Self { settings, columns, parts, lanes, problems: Vec::new(), failures: Vec::new() }
    }

    /// The next blocks of every lane; none at the end.
    pub(super) fn next(&mut self, buffers: &Buffers) -> Vec<InputBlock> {
        loop {
            for lane in self.lanes.iter_mut().filter(|lane| lane.is_none()) {
                let Some(part) = self.parts.next() else { break };
                match Lane::begin(part, self.settings) {
                    Ok(begun) => *lane = Some(begun),
                    Err(failure) => self.failures.push(failure),
                }
            }
            if self.lanes.iter().all(Option::is_none) {
                return Vec::new();
            }
            let columns = self.columns;
            let made: Vec<Option<LaneRound>> =
                self.lanes.par_iter_mut().map(|lane| lane.as_mut().map(|lane| lane.round(columns, buffers))).collect();
            let mut blocks = Vec::new();
            for (lane, made) in self.lanes.iter_mut().zip(made) {
                let Some(made) = made else { continue };
                blocks.extend(made.blocks);
                self.problems.extend(made.problems);
                if made.is_done || made.failure.is_some() {
                    *lane = None;
                }
                self.failures.extend(made.failure);
            }
            // A round may consist of rows that are all too large.
            if !blocks.is_empty() {
                return blocks;
            }
        }
    }
}

impl Lane {
    fn begin(part: FilePart, settings: &RecordSettings) -> Result<Self, String> {
        let FilePart { file, group, rows } = part;
        let left = rows.len();
        let reader = guarded(&file.shown, || file.read(group, rows, settings).map_err(|error| in_words(&error)))?;
        Ok(Self { shown: file.shown, parts: file.parts, reader, left })
    }

    /// Decodes some rows.
    fn round(&mut self, columns: &[String], buffers: &Buffers) -> LaneRound {
        let mut made = LaneRound::default();
        let mut text = buffers.take();
        while made.blocks.len() < BLOCKS {
            let Self { shown, reader, .. } = self;
            let batch = guarded(shown, || {
                reader
                    .next()
                    .transpose()
                    .map_err(|error| in_words(&parquet::errors::ParquetError::ArrowError(error.to_string())))
            });
            match batch {
                Ok(Some(batch)) => {
                    self.left = self.left.saturating_sub(batch.num_rows());
                    let written = guarded(&self.shown, || {
                        self.write(&batch, columns, &mut text, buffers, &mut made);
                        Ok(())
                    });
                    made.failure = written.err();
                }
                Ok(None) => {
                    made.is_done = true;
                    if self.left > 0 {
                        made.failure = Some(format!(
                            "{}: it ends {} rows before the number that it declares. Export it again",
                            self.shown, self.left
                        ));
                    }
                }
                Err(failure) => made.failure = Some(failure),
            }
            if made.is_done || made.failure.is_some() {
                break;
            }
        }
        finish(text, &mut made);
        made
    }

    /// Writes rows as lines.
    fn write(
        &self,
        batch: &RecordBatch,
        columns: &[String],
        text: &mut Vec<u8>,
        buffers: &Buffers,
        made: &mut LaneRound,
    ) {
        /// Where the cells of a column come from.
        enum CellSource<'p> {
            Values(ColumnCells),
            Path(&'p str),
        }
        let schema = batch.schema();
        let place = |name: &String| {
            let own = schema.fields().iter().position(|column| column.name() == name);
            match own.and_then(|at| ColumnCells::of(batch.column(at))) {
                Some(cells) => CellSource::Values(cells),
                None => {
                    let part = self.parts.iter().find(|(part, _)| part == name);
                    CellSource::Path(part.map_or("", |(_, value)| value))
                }
            }
        };
        let places: Vec<CellSource<'_>> = columns.iter().map(place).collect();
        let mut cell = Vec::new();
        for row in 0..batch.num_rows() {
            let begin = text.len();
            for place in &places {
                match place {
                    CellSource::Path(value) => push_cell(value.as_bytes(), text),
                    CellSource::Values(cells) => {
                        cell.clear();
                        cells.push(row, &mut cell);
                        push_cell(&cell, text);
                    }
                }
            }
            // A line is never empty, even if its only cell is.
            push_cell(b"", text);
            end_line(text);
            if let Some(problem) = too_large(&text[begin..]) {
                text.truncate(begin);
                made.problems.push((self.shown.clone(), problem));
            }
            if text.len() >= BLOCK {
                finish(std::mem::replace(text, buffers.take()), made);
            }
        }
    }
}

/// Makes a block of these rows.
fn finish(text: Vec<u8>, made: &mut LaneRound) {
    if !text.is_empty() {
        made.blocks.push(InputBlock::of_rows(text, Separators::OF_ROWS));
    }
}
