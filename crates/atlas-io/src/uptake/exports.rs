//! RowReading the rows of an export.

use std::borrow::Cow;
use std::cell::Cell;
use std::io::{self, BufRead, BufReader, Read};

use atlas_core::lastmod::Lastmod;
use atlas_core::uptake::export::{Columns, ColumnsError, ExportColumn, MOST_SAMPLE, Subject, read_number};
use atlas_store::stop::Stop;
use atlas_store::uptake::ExportRow;
use csv::{ByteRecord, ReaderBuilder};
use jiff::tz::TimeZone;
use serde_json::{Map, Value};
use thiserror::Error;

use super::file::UptakeFile;
use super::form::UptakeForm;
use crate::reading::metered::Metered;

/// The longest row.
const LONGEST_ROW: u64 = 1 << 20;
/// How often the stop token is checked, in rows.
const GLANCE: u64 = 4_096;

/// How an export is read, where its columns do not tell.
#[derive(Debug, Clone)]
pub struct ExportSettings {
    /// The names of columns.
    pub columns: Vec<(ExportColumn, String)>,
    /// The format of dates, such as `%d/%m/%Y`.
    pub dates: Option<String>,
    /// The zone of dates that have none.
    pub timezone: TimeZone,
    /// What it is of, if that is said.
    pub subject: Option<Subject>,
}

/// What came of reading an export.
#[derive(Debug)]
pub struct ExportReading {
    /// Which columns were used.
    pub columns: Columns,
    /// What it is of.
    pub subject: Subject,
    /// All rows but the header.
    pub rows: u64,
    /// Rows that could not be read, or whose URL is none.
    pub broken: u64,
    /// Why it could not be read to its end.
    pub trouble: Option<String>,
}

/// Why an export cannot be used.
#[derive(Debug, Error)]
pub enum ExportError {
    /// It cannot be read.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// Its columns cannot be told.
    #[error(transparent)]
    Columns(#[from] ColumnsError),
    /// Its dates can be read in two orders, or in none.
    #[error("row {row}: {why}")]
    Dates {
        /// The row, counted from 1 with the header.
        row: u64,
        /// What is wrong, and how to mend it.
        why: String,
    },
}

/// The cells of one row.
type Cells<'r> = Vec<Cow<'r, str>>;

/// Reads an export. `take` is called with what the export is of and each row; it returns whether the row is one of the
/// site.
///
/// # Errors
///
/// Returns an error if it cannot be read at all, has no column of URLs, or has dates that can be read in two orders.
pub fn read_export(
    file: &UptakeFile,
    form: &UptakeForm,
    settings: &ExportSettings,
    stop: &Stop,
    take: &mut dyn FnMut(Subject, &ExportRow<'_>) -> bool,
) -> Result<ExportReading, ExportError> {
    let columns = Columns::find(&sample(file, form)?, &settings.columns)?;
    let subject = match settings.subject {
        Some(subject) if columns.subject != Subject::SitemapFiles => subject,
        _ => columns.subject,
    };
    let mut reading = RowReading { settings, places: Places::of(&columns), rows: 0, broken: 0 };
    let mut is_header = columns.has_header;
    let ended = each(file, form, &mut |cells| {
        if std::mem::take(&mut is_header) {
            return Ok(());
        }
        reading.rows += 1;
        if reading.rows.is_multiple_of(GLANCE) && stop.is_asked() {
            return Err(io::Error::from(io::ErrorKind::Interrupted).into());
        }
        let Some(cells) = cells else {
            reading.broken += 1;
            return Ok(());
        };
        let at = reading.rows + u64::from(columns.has_header);
        match reading.row(cells, at)? {
            Some(row) if take(subject, &row) => {}
            _ => reading.broken += 1,
        }
        Ok(())
    });
    let trouble = match ended {
        Ok(()) => None,
        Err(ExportError::Io(error)) if reading.rows > 0 => Some(error.to_string()),
        Err(error) => return Err(error),
    };
    let RowReading { rows, broken, .. } = reading;
    Ok(ExportReading { columns, subject, rows, broken, trouble })
}

/// The first rows.
fn sample(file: &UptakeFile, form: &UptakeForm) -> Result<Vec<Vec<String>>, ExportError> {
    let mut rows: Vec<Vec<String>> = Vec::new();
    let read = each(file, form, &mut |cells| {
        rows.extend(cells.map(|cells| cells.iter().map(|cell| cell.to_string()).collect()));
        match rows.len() {
            0..MOST_SAMPLE => Ok(()),
            _ => Err(io::Error::from(io::ErrorKind::WriteZero).into()),
        }
    });
    match read {
        // Enough.
        Err(ExportError::Io(error)) if error.kind() == io::ErrorKind::WriteZero || !rows.is_empty() => Ok(rows),
        Err(error) => Err(error),
        Ok(()) => Ok(rows),
    }
}

/// Passes on the cells of each row, the header included; `None` for a row that cannot be read.
fn each(
    file: &UptakeFile,
    form: &UptakeForm,
    take: &mut dyn FnMut(Option<&Cells<'_>>) -> Result<(), ExportError>,
) -> Result<(), ExportError> {
    let reader = BufReader::with_capacity(1 << 18, file.reader()?);
    match form {
        UptakeForm::Table(Some(delimiter)) => separated(reader, *delimiter, take),
        UptakeForm::Table(None) | UptakeForm::Log(_) => lines(reader, &mut |line| {
            let cell = Cow::Borrowed(line.trim().trim_start_matches('\u{feff}').trim_matches('"'));
            if cell.is_empty() { Ok(()) } else { take(Some(&vec![cell])) }
        }),
        UptakeForm::JsonLines => {
            let mut names: Vec<String> = Vec::new();
            lines(reader, &mut |line| {
                if line.trim().is_empty() {
                    return Ok(());
                }
                let Ok(object) = serde_json::from_str::<Map<String, Value>>(line) else { return take(None) };
                if names.is_empty() {
                    names = object.keys().cloned().collect();
                    take(Some(&names.iter().map(|name| Cow::Owned(name.clone())).collect()))?;
                }
                take(Some(&names.iter().map(|name| cell_of(object.get(name))).collect()))
            })
        }
    }
}

fn cell_of(value: Option<&Value>) -> Cow<'_, str> {
    match value {
        None | Some(Value::Null) => Cow::Borrowed(""),
        Some(Value::String(text)) => Cow::Borrowed(text),
        Some(other) => Cow::Owned(other.to_string()),
    }
}

fn separated(
    reader: impl Read,
    delimiter: u8,
    take: &mut dyn FnMut(Option<&Cells<'_>>) -> Result<(), ExportError>,
) -> Result<(), ExportError> {
    let read = Cell::new(0);
    let reader = Metered { reader, read: &read };
    let mut reader = ReaderBuilder::new().has_headers(false).flexible(true).delimiter(delimiter).from_reader(reader);
    let mut record = ByteRecord::new();
    loop {
        read.set(0);
        match reader.read_byte_record(&mut record) {
            Ok(false) => return Ok(()),
            Ok(true) => {
                let cells: Cells<'_> = record.iter().map(String::from_utf8_lossy).collect();
                take(Some(&cells))?;
            }
            Err(error) => match error.into_kind() {
                csv::ErrorKind::Io(error) => return Err(error.into()),
                _ => take(None)?,
            },
        }
    }
}

fn lines(mut reader: impl BufRead, take: &mut dyn FnMut(&str) -> Result<(), ExportError>) -> Result<(), ExportError> {
    let mut line = Vec::new();
    loop {
        line.clear();
        let read = (&mut reader).take(LONGEST_ROW).read_until(b'\n', &mut line)?;
        if read == 0 {
            return Ok(());
        }
        take(&String::from_utf8_lossy(&line))?;
    }
}

/// Where the columns are.
struct Places {
    url: usize,
    reason: Option<usize>,
    sitemap: Option<usize>,
    date: Option<usize>,
    shown: Option<usize>,
    clicked: Option<usize>,
    position: Option<usize>,
    found: Option<usize>,
    in_index: Option<usize>,
}

impl Places {
    fn of(columns: &Columns) -> Self {
        Self {
            url: columns.place(ExportColumn::Url).unwrap_or(0),
            reason: columns.place(ExportColumn::Reason),
            sitemap: columns.place(ExportColumn::Sitemap),
            date: columns.place(ExportColumn::Date),
            shown: columns.place(ExportColumn::Shown),
            clicked: columns.place(ExportColumn::Clicked),
            position: columns.place(ExportColumn::Position),
            found: columns.place(ExportColumn::Found),
            in_index: columns.place(ExportColumn::InIndex),
        }
    }
}

/// An export being read.
struct RowReading<'s> {
    settings: &'s ExportSettings,
    places: Places,
    rows: u64,
    broken: u64,
}

impl RowReading<'_> {
    /// A row from its cells; `None` if it has no URL.
    fn row<'c>(&self, cells: &'c Cells<'_>, at: u64) -> Result<Option<ExportRow<'c>>, ExportError> {
        let cell = |place: Option<usize>| cells.get(place?).map(|cell| cell.trim()).filter(|cell| !cell.is_empty());
        let number = |place: Option<usize>| cell(place).and_then(read_number);
        let places = &self.places;
        let Some(url) = cell(Some(places.url)) else { return Ok(None) };
        let date = cell(places.date).map(|date| self.date(date, at)).transpose()?.flatten();
        Ok(Some(ExportRow {
            url,
            reason: cell(places.reason),
            sitemap: cell(places.sitemap),
            date,
            shown: number(places.shown),
            clicked: number(places.clicked),
            position: number(places.position),
            found: number(places.found),
            in_index: number(places.in_index),
        }))
    }

    /// A date, in seconds since 1970; `None` for a dash or a word.
    fn date(&self, text: &str, row: u64) -> Result<Option<i64>, ExportError> {
        let zone = &self.settings.timezone;
        if !text.bytes().any(|byte| byte.is_ascii_digit()) {
            return Ok(None);
        }
        let read = match &self.settings.dates {
            Some(format) => Lastmod::read_as(format, text, zone).ok_or_else(|| {
                format!("“{text}” is not a date in the format “{format}”; correct --dates, or “dates” in [[uptake]]")
            }),
            None => match (Lastmod::doubt(text, zone), Lastmod::read(text, zone)) {
                // An hour that clocks show twice is no matter here.
                (Some(why), _) if why.contains("month") => {
                    Err(format!("“{text}” can be read in two ways: {why}; say which it is, such as --dates '%d/%m/%Y'"))
                }
                (_, Some(date)) => Ok(date),
                (_, None) => {
                    Err(format!("“{text}” is not a date; say how dates are written, such as --dates '%d/%m/%Y'"))
                }
            },
        };
        read.map(|date| Some(date.seconds())).map_err(|why| ExportError::Dates { row, why })
    }
}
