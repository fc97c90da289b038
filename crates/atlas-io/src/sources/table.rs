//! The source `table`: separated values, JSON Lines, a JSON array or Parquet, from files, standard input or a URL,
//! compressed or not.
//!
//! Columns with a field's name need no mapping; others are mapped in the configuration, by name or by a template. A row
//! that cannot be read is reported with its line, and the others are read.

use std::io::{self, BufRead, BufReader, Cursor, Read};
use std::path::PathBuf;
use std::time::Duration;

use atlas_core::fingerprint;
use atlas_store::error::StoreError;
use atlas_store::source::{Gathering, Source};

#[cfg(feature = "parquet")]
use super::parquet::{self, ParquetTable};
use crate::reading::csv_split::Separators;
use crate::reading::files::InputFiles;
use crate::reading::input::{self, FoundInput, Input};
use crate::reading::json_array;
use crate::reading::record::RecordSettings;
use crate::reading::rows::{RecordLayout, RecordUnit, RowInput, RowsError};

/// How many bytes of a table are examined to find its separator.
const PREVIEW: u64 = 64 * 1024;

/// The format of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Values separated by commas or semicolons, whichever the header contains.
    Csv,
    /// Values separated by tabs.
    Tsv,
    /// One JSON object per line.
    JsonLines,
    /// An array of JSON objects.
    Json,
    /// Apache Parquet.
    Parquet,
}

impl Format {
    /// The format that this word in the configuration names.
    pub fn named(word: &str) -> Option<Self> {
        Some(match word {
            "csv" => Self::Csv,
            "tsv" => Self::Tsv,
            "json-lines" => Self::JsonLines,
            "json" => Self::Json,
            "parquet" => Self::Parquet,
            _ => return None,
        })
    }

    /// The format by the file's name, ignoring `.gz` and `.zst`.
    pub fn of_name(name: &str) -> Option<Self> {
        let name = name.to_ascii_lowercase();
        let name = name.split(['?', '#']).next().unwrap_or("");
        let name = [".gz", ".zst"].iter().find_map(|end| name.strip_suffix(end)).unwrap_or(name);
        Some(match name.rsplit_once('.')?.1 {
            "csv" | "txt" => Self::Csv,
            "tsv" | "tab" => Self::Tsv,
            "jsonl" | "ndjson" => Self::JsonLines,
            "json" => Self::Json,
            "parquet" | "pq" => Self::Parquet,
            _ => return None,
        })
    }
}

/// A table.
#[derive(Debug, Clone)]
pub struct TableSource {
    /// Where to read it from.
    pub files: InputFiles,
    /// How it is laid out.
    pub format: Format,
    /// How its records are read.
    pub records: RecordSettings,
    /// The time limit for fetching.
    pub wait: Duration,
}

impl TableSource {
    fn failed(&self, why: impl std::fmt::Display) -> StoreError {
        StoreError::Source { name: self.name(), why: why.to_string().into() }
    }

    /// Reads the rows of Parquet files.
    #[cfg(feature = "parquet")]
    fn parquet(&self, files: &[FoundInput], gathering: &mut Gathering<'_>) -> Result<(), RowsError> {
        let table = ParquetTable { files, shown: self.files.shown(), settings: &self.records, wait: self.wait };
        parquet::gather(&table, gathering)
    }

    #[cfg(not(feature = "parquet"))]
    fn parquet(&self, _: &[FoundInput], _: &mut Gathering<'_>) -> Result<(), RowsError> {
        Err(RowsError::Header(format!("{}: {WITHOUT_PARQUET}", self.files.shown())))
    }

    /// Reads the rows of one file.
    fn rows(&self, found: &FoundInput, gathering: &mut Gathering<'_>) -> Result<(), RowsError> {
        let mut reader = found.input.open(self.wait, gathering.stop()).map_err(RowsError::Read)?;
        let rows = |layout| RowInput { settings: &self.records, layout, shown: &found.shown, unit: RecordUnit::Line };
        match self.format {
            Format::Csv => {
                let mut start = Vec::new();
                (&mut reader).take(PREVIEW).read_to_end(&mut start).map_err(RowsError::Read)?;
                let delimiter = separator(&start);
                rows(RecordLayout::Separated(Separators::of_table(delimiter)))
                    .gather(Cursor::new(start).chain(reader), gathering)
            }
            Format::Tsv => rows(RecordLayout::Separated(Separators::of_table(b'\t'))).gather(reader, gathering),
            Format::JsonLines => rows(RecordLayout::JsonLines).gather(reader, gathering),
            Format::Json => {
                let mut reader = BufReader::new(reader);
                let is_array = starts_array(&mut reader).map_err(RowsError::Read)?;
                if is_array {
                    let rows = RowInput { unit: RecordUnit::Item, ..rows(RecordLayout::JsonLines) };
                    json_array::gather(reader, &rows, gathering)
                } else {
                    // Many programs write one object per line and call it JSON.
                    rows(RecordLayout::JsonLines).gather(reader, gathering)
                }
            }
            Format::Parquet => self.parquet(std::slice::from_ref(found), gathering),
        }
    }
}

/// What is said of Parquet files by a program that reads none.
pub const WITHOUT_PARQUET: &str =
    "this idle-atlas was built without Parquet; use the release archive, or build it with the cargo feature “parquet”";

impl Source for TableSource {
    fn name(&self) -> String {
        format!("table {}", self.files.shown())
    }

    fn settings(&self) -> u64 {
        // A table is read anew each time, so nothing is learnt from it.
        fingerprint::settings("")
    }

    fn knows_rows(&self) -> bool {
        matches!(self.format, Format::Csv | Format::Tsv | Format::Parquet) && self.files.one() != Some(&Input::Standard)
    }

    fn yields_once(&self) -> bool {
        self.files.is_remote()
    }

    fn reads(&self) -> Option<Vec<PathBuf>> {
        self.files.watched().map(|path| vec![path])
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let failed = |found: &str, error: RowsError| match error {
            RowsError::Read(error) => format!("cannot read {found}: {error}{}", input::mend(&error)),
            RowsError::Header(why) => why,
        };
        let files = self.files.find(gathering.stop());
        let files = files.map_err(|error| self.failed(failed(self.files.shown(), RowsError::Read(error))))?;
        if self.format == Format::Parquet {
            return self.parquet(&files, gathering).map_err(|error| self.failed(failed(self.files.shown(), error)));
        }
        let several = files.len() > 1;
        for found in &files {
            match self.rows(found, gathering).map_err(|error| failed(&found.shown, error)) {
                Ok(()) => {}
                // The others are read.
                Err(why) if several => gathering.fail_in_part(why),
                Err(why) => return Err(self.failed(why)),
            }
        }
        Ok(())
    }
}

/// Whether its first token opens an array. White space before that is removed.
fn starts_array(reader: &mut impl BufRead) -> io::Result<bool> {
    loop {
        let bytes = reader.fill_buf()?;
        let space =
            bytes.iter().take_while(|byte| byte.is_ascii_whitespace() || b"\xef\xbb\xbf".contains(byte)).count();
        let (all, first) = (bytes.len(), bytes.get(space).copied());
        reader.consume(space);
        match first {
            Some(byte) => return Ok(byte == b'['),
            None if all == 0 => return Ok(false),
            None => {}
        }
    }
}

/// A comma, unless the header contains none but contains semicolons or tabs.
fn separator(start: &[u8]) -> u8 {
    let header = &start[..memchr::memchr(b'\n', start).unwrap_or(start.len())];
    if header.contains(&b',') {
        return b',';
    }
    [b';', b'\t'].into_iter().find(|byte| header.contains(byte)).unwrap_or(b',')
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("a.csv", Some(Format::Csv))]
    #[case("A.CSV.GZ", Some(Format::Csv))]
    #[case("a.tsv.zst", Some(Format::Tsv))]
    #[case("https://files.example/a.jsonl?x=1", Some(Format::JsonLines))]
    #[case("a.json", Some(Format::Json))]
    #[case("exports/**/*.parquet", Some(Format::Parquet))]
    #[case("-", None)]
    #[case("a.xlsx", None)]
    fn formats_by_name(#[case] name: &str, #[case] wanted: Option<Format>) {
        assert_eq!(Format::of_name(name), wanted);
    }

    #[rstest]
    #[case(b"url,title;x\n", b',')]
    #[case(b"url;title\na,b;c\n", b';')]
    #[case(b"url\ttitle\n", b'\t')]
    #[case(b"url\n", b',')]
    fn separators(#[case] start: &[u8], #[case] wanted: u8) {
        assert_eq!(separator(start), wanted);
    }
}
