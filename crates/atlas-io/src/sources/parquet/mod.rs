//! Tables in Parquet files, as warehouses export them.
//!
//! Only the columns that are used are read. Rows become lines of separated values, so that everything that holds for the
//! rows of a table holds for these: unchanged ones are recognised unread, and a bad value costs one cell. A file without a
//! column that others have has empty cells there.
//!
//! | file | contents |
//! |---|---|
//! | `cells` | the values of a column as text |
//! | `columns` | which columns are read, and whether their types serve |
//! | `file` | one file, its metadata and its parts |
//! | `lanes` | parts that are decoded side by side |

mod cells;
mod columns;
mod file;
mod lanes;

use std::io;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use atlas_core::report::Problem;
use atlas_store::source::Gathering;
use atlas_store::stop::Stop;
use rayon::prelude::*;

use self::cells::ColumnCells;
use self::file::{ParquetFile, ParquetPlace};
use self::lanes::{FilePart, Lanes};
use crate::reading::csv_split::Separators;
use crate::reading::input::{FoundInput, Input};
use crate::reading::record::RecordSettings;
use crate::reading::rows::{RecordLayout, RecordUnit, RowInput, RowsError};

/// A table in Parquet files.
pub(super) struct ParquetTable<'t> {
    /// Its files.
    pub(super) files: &'t [FoundInput],
    /// What they are called together.
    pub(super) shown: &'t str,
    /// How its rows are read.
    pub(super) settings: &'t RecordSettings,
    /// The time limit for fetching.
    pub(super) wait: Duration,
}

/// Reads all rows of a table.
pub(super) fn gather(table: &ParquetTable<'_>, gathering: &mut Gathering<'_>) -> Result<(), RowsError> {
    let &ParquetTable { files, shown, settings, wait } = table;
    let stop = gathering.stop();
    let open = |found: &FoundInput| {
        let place = place_of(found, wait, stop).map_err(|error| format!("{}: {error}", found.shown))?;
        ParquetFile::open(found, place, settings)
    };
    let opened: Vec<Result<ParquetFile, String>> = files.par_iter().map(open).collect();
    let (mut whole, mut failures) = (Vec::new(), Vec::new());
    for one in opened {
        match one {
            Ok(file) => whole.push(file),
            Err(why) => failures.push(why),
        }
    }
    if whole.is_empty() {
        return Err(RowsError::Header(failures.into_iter().next().unwrap_or_default()));
    }
    let rows =
        RowInput { settings, layout: RecordLayout::Separated(Separators::OF_ROWS), shown, unit: RecordUnit::Row };
    let (names, all) = all_columns(&whole, settings);
    rows.remark_on_passed_over(&all, gathering);
    // What is missing is reported with all columns that there are.
    rows.header_of(all)?;
    // Every line ends with an empty cell.
    let columns = names.iter().cloned().chain([String::new()]).collect();
    let parts = whole.into_iter().flat_map(|file| {
        (0..file.groups()).flat_map(move |group| {
            let file = file.clone();
            let parts = file.parts_of_group(group, settings).collect::<Vec<_>>();
            parts.into_iter().map(move |rows| FilePart { file: file.clone(), group, rows })
        })
    });
    let mut lanes = Lanes::new(settings, &names, parts);
    let read = rows.gather_made(
        columns,
        &mut |buffers| Ok(if stop.is_asked() { Vec::new() } else { lanes.next(buffers) }),
        gathering,
    );
    for (file, message) in std::mem::take(&mut lanes.problems) {
        gathering.problem(Problem { file, line: None, message, passed_over: true });
    }
    failures.append(&mut lanes.failures);
    failures.dedup();
    failures.into_iter().for_each(|why| gathering.fail_in_part(why));
    read
}

/// The columns that are read, of all files and of their paths; and all columns, for remarks on those that are not.
fn all_columns(files: &[ParquetFile], settings: &RecordSettings) -> (Vec<String>, Vec<String>) {
    let (mut used, mut all) = (Vec::new(), Vec::new());
    for file in files {
        let own = file.schema().fields().iter().map(|column| column.name());
        for name in own.chain(file.parts.iter().map(|(name, _)| name)) {
            if !all.contains(name) {
                all.push(name.clone());
                used.extend(columns::is_used(settings, name).then(|| name.clone()));
            }
        }
    }
    (used, all)
}

/// Where a file is. What cannot be read from its middle is stored in an unnamed file first.
fn place_of(found: &FoundInput, wait: Duration, stop: &Stop) -> io::Result<ParquetPlace> {
    if let Input::File(path) = &found.input {
        return Ok(ParquetPlace::Path(path.clone()));
    }
    #[cfg(feature = "object-stores")]
    if let Input::Object(object) = &found.input {
        return Ok(ParquetPlace::Object(object.clone(), stop.clone()));
    }
    let mut file = tempfile::tempfile()?;
    io::copy(&mut found.input.open(wait, stop)?, &mut file)?;
    Ok(ParquetPlace::Spooled(Arc::new(file)))
}

/// The columns of a file, and its first rows as text.
pub(crate) fn first_rows(path: &Path, most: usize) -> Option<(Vec<String>, Vec<Vec<String>>)> {
    let place = ParquetPlace::Path(path.to_owned());
    let batch =
        file::guarded("", || file::first_batch(&place, most).map_err(|error| file::in_words(&error))).ok()??;
    let (schema, columns) = (batch.schema(), batch.columns());
    let shown: Vec<(String, ColumnCells)> = schema
        .fields()
        .iter()
        .zip(columns)
        .filter(|(column, _)| cells::is_shown(column.data_type()))
        .filter_map(|(column, values)| Some((column.name().clone(), ColumnCells::of(values)?)))
        .collect();
    let cell = |row: usize, cells: &ColumnCells| {
        let mut text = Vec::new();
        cells.push(row, &mut text);
        String::from_utf8_lossy(&text).into_owned()
    };
    let rows = (0..batch.num_rows()).map(|row| shown.iter().map(|(_, cells)| cell(row, cells)).collect()).collect();
    Some((shown.into_iter().map(|(name, _)| name).collect(), rows))
}
