//! The source `table`: CSV and JSON Lines.
//!
//! Columns that bear a field's name need no mapping; others are mapped in the configuration, by name or by a template. A
//! row that cannot be read is reported with its line and the rest goes on.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fs::File;
use std::path::PathBuf;

use atlas_core::address::{Address, LONGEST, Site};
use atlas_core::contribution::Said;
use atlas_core::entry::{Changefreq, Priority};
use atlas_core::fingerprint;
use atlas_core::lastmod::Lastmod;
use atlas_core::video::Video;
use atlas_store::arrival::Block;
use atlas_store::error::StoreError;
use atlas_store::source::{Gathering, Problem, Source};
use jiff::tz::TimeZone;
use rayon::prelude::*;
use serde_json::{Map, Value};

use crate::cutter::{Cut, Cutter};
use crate::template::{Template, fill};

/// How many blocks are read ahead of those that wait to be handed on.
const AHEAD: usize = 4;

/// A field that a row may have. The names are those of the configuration.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Field {
    /// Required: a URL, or a path of the site.
    Url,
    /// Date of the last change.
    Modified,
    /// Date of publication.
    Published,
    /// Title.
    Title,
    /// Summary.
    Description,
    /// Language tag.
    Language,
    /// Addresses of pictures: a list.
    Images,
    /// Videos: a JSON array of objects with the names of the video extension.
    Videos,
    /// yes or no.
    Keep,
    /// A hint.
    Changefreq,
    /// A hint.
    Priority,
}

impl Field {
    /// All fields.
    pub const ALL: [Self; 11] = [
        Self::Url,
        Self::Modified,
        Self::Published,
        Self::Title,
        Self::Description,
        Self::Language,
        Self::Images,
        Self::Videos,
        Self::Keep,
        Self::Changefreq,
        Self::Priority,
    ];

    /// Its name in the configuration.
    pub fn name(self) -> &'static str {
        match self {
            Self::Url => "url",
            Self::Modified => "modified",
            Self::Published => "published",
            Self::Title => "title",
            Self::Description => "description",
            Self::Language => "language",
            Self::Images => "images",
            Self::Videos => "videos",
            Self::Keep => "keep",
            Self::Changefreq => "changefreq",
            Self::Priority => "priority",
        }
    }
}

/// How a table is laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Layout {
    /// Comma- (or otherwise) separated values with a header (RFC 4180).
    Csv(u8),
    /// One JSON object a line.
    JsonLines,
}

/// A table.
#[derive(Debug, Clone)]
pub struct Table {
    file: PathBuf,
    shown: String,
    layout: Layout,
    site: Site,
    section: Option<String>,
    mapping: BTreeMap<Field, Template>,
    dates: Option<String>,
    separator: String,
    timezone: TimeZone,
}

/// What the configuration says of a table.
#[derive(Debug, Clone)]
pub struct TableSettings {
    /// The file.
    pub file: PathBuf,
    /// The file as the user wrote it.
    pub shown: String,
    /// The site.
    pub site: Site,
    /// The section of its entries.
    pub section: Option<String>,
    /// Fields by column or template.
    pub fields: Vec<(Field, String)>,
    /// A `strptime` format for dates, where they are not ISO.
    pub dates: Option<String>,
    /// What separates the items of a list in a cell.
    pub separator: String,
    /// The zone of dates that state none.
    pub timezone: TimeZone,
}

impl Table {
    /// Takes the settings; fails on a template that cannot be read.
    pub fn new(settings: TableSettings) -> Result<Self, String> {
        let TableSettings { file, shown, site, section, fields, dates, separator, timezone } = settings;
        let extension = file.extension().map(|extension| extension.to_string_lossy().to_ascii_lowercase());
        let layout = match extension.as_deref() {
            Some("jsonl" | "ndjson" | "json") => Layout::JsonLines,
            Some("tsv") => Layout::Csv(b'\t'),
            _ => Layout::Csv(b','),
        };
        let mapped = fields.iter().map(|(field, text)| Ok((*field, Template::parse(text)?)));
        let mapping = mapped.collect::<Result<_, String>>()?;
        Ok(Self { file, shown, layout, site, section, mapping, dates, separator, timezone })
    }

    fn failed(&self, why: String) -> StoreError {
        StoreError::Source { name: self.name(), why }
    }
}

impl Source for Table {
    fn name(&self) -> String {
        format!("table {}", self.shown)
    }

    fn settings(&self) -> u64 {
        // A table is read anew each time: nothing learnt of it is kept.
        fingerprint::settings("")
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let file = File::open(&self.file).map_err(|error| {
            self.failed(format!("cannot read {}: {error}; correct “file” in the configuration", self.shown))
        })?;
        let delimiter = match self.layout {
            Layout::Csv(delimiter) => Some(delimiter),
            Layout::JsonLines => None,
        };
        let mut cuts = Cutter::new(file, delimiter);
        let mut batch = self.next_batch(&mut cuts)?;
        let Some(first) = batch.first_mut() else { return Ok(()) };
        let header = self.header(first)?;
        let seed = gathering.seed();
        while !batch.is_empty() {
            // The next blocks are read from the disk while these are taken apart.
            let (read, next) = rayon::join(
                || batch.par_iter().map(|cut| Reading::new(self, seed, cut).run(&header)).collect::<Vec<_>>(),
                || self.next_batch(&mut cuts),
            );
            for (block, problems) in read {
                gathering.push(block);
                problems.into_iter().for_each(|problem| gathering.problem(problem));
            }
            batch = next?;
        }
        Ok(())
    }
}

/// Where each field is found in a record.
#[derive(Debug, Default)]
struct Header {
    columns: Vec<String>,
    /// For fields that are one column: its place. By the field's number.
    places: [Option<usize>; Field::ALL.len()],
    /// For fields that are templates, or columns of JSON objects. By the field's number.
    templates: [Option<Template>; Field::ALL.len()],
}

impl Table {
    fn next_batch(&self, cuts: &mut Cutter<File>) -> Result<Vec<Cut>, StoreError> {
        let cannot_read = |error| self.failed(format!("cannot read {}: {error}", self.shown));
        cuts.take(AHEAD).collect::<Result<_, _>>().map_err(cannot_read)
    }

    /// Reads the header and takes it off the first block.
    fn header(&self, first: &mut Cut) -> Result<Header, StoreError> {
        if first.bytes.starts_with(b"\xef\xbb\xbf") {
            first.bytes.drain(..3);
        }
        if first.bytes.starts_with(b"\xff\xfe") || first.bytes.starts_with(b"\xfe\xff") {
            return Err(self.failed(format!("{} is in UTF-16; save it as UTF-8", self.shown)));
        }
        let Layout::Csv(delimiter) = self.layout else {
            let mut header = Header::default();
            for (field, template) in &self.mapping {
                header.templates[*field as usize] = Some(template.clone());
            }
            return Ok(header);
        };
        let mut reader = csv::ReaderBuilder::new().delimiter(delimiter).from_reader(&first.bytes[..]);
        let columns = reader.headers().map_err(|error| self.failed(format!("{} line 1: {error}", self.shown)))?.clone();
        let columns: Vec<String> = columns.iter().map(|name| name.trim().to_owned()).collect();
        let end = reader.position().byte() as usize;
        let lines = memchr::memchr_iter(b'\n', &first.bytes[..end]).count() as u64;
        first.bytes.drain(..end);
        let place = |name: &str| {
            let exact = columns.iter().position(|column| column == name);
            exact.or_else(|| columns.iter().position(|column| column.eq_ignore_ascii_case(name)))
        };
        let mut header = Header::default();
        for field in Field::ALL {
            match self.mapping.get(&field) {
                Some(Template::Column(name)) => {
                    let at = place(name).ok_or_else(|| self.no_column(field, name, &columns))?;
                    header.places[field as usize] = Some(at);
                }
                Some(template) => {
                    if let Some(missing) = template.columns().find(|name| place(name).is_none()) {
                        return Err(self.no_column(field, missing, &columns));
                    }
                    header.templates[field as usize] = Some(template.clone());
                }
                None => {
                    if let Some(at) = place(field.name()) {
                        header.places[field as usize] = Some(at);
                    }
                }
            }
        }
        if header.places[Field::Url as usize].is_none() && header.templates[Field::Url as usize].is_none() {
            return Err(self.no_column(Field::Url, "url", &columns));
        }
        first.first_line += lines;
        header.columns = columns;
        Ok(header)
    }

    fn no_column(&self, field: Field, name: &str, columns: &[String]) -> StoreError {
        self.failed(format!(
            "{} has no column “{name}” for the field “{}”; its columns are {}. Say which it is: fields = {{ {} = \"…\" }}",
            self.shown,
            field.name(),
            columns.iter().map(|column| format!("“{column}”")).collect::<Vec<_>>().join(", "),
            field.name(),
        ))
    }
}

/// One record, whatever the layout.
enum Record<'r> {
    Csv { record: &'r csv::StringRecord, header: &'r Header },
    Json { object: &'r Map<String, Value>, header: &'r Header },
}

impl Record<'_> {
    fn text(&self, field: Field) -> Option<Cow<'_, str>> {
        let header = match self {
            Self::Csv { header, .. } | Self::Json { header, .. } => *header,
        };
        if let Some(Template::Pieces(pieces)) = &header.templates[field as usize] {
            let filled = match self {
                Self::Csv { record, header } => {
                    let at = |name: &str| header.columns.iter().position(|column| column.eq_ignore_ascii_case(name));
                    fill(pieces, |name| record.get(at(name)?))
                }
                Self::Json { object, .. } => fill(pieces, |name| object.get(name)?.as_str()),
            };
            return filled.map(Cow::Owned);
        }
        let text = match self {
            Self::Csv { record, header } => Cow::Borrowed(record.get(header.places[field as usize]?)?),
            Self::Json { .. } => scalar(self.json(field)?)?,
        };
        Some(text).filter(|text| !text.trim().is_empty())
    }

    fn json(&self, field: Field) -> Option<&Value> {
        let Self::Json { object, header } = self else { return None };
        let name = match &header.templates[field as usize] {
            Some(Template::Column(name)) => name.as_str(),
            _ => field.name(),
        };
        object.get(name).filter(|value| !value.is_null())
    }

    fn list(&self, field: Field, separator: &str) -> Vec<Cow<'_, str>> {
        if let Some(Value::Array(items)) = self.json(field) {
            return items.iter().filter_map(scalar).filter(|item| !item.trim().is_empty()).collect();
        }
        let split = |text: &str| {
            let items = text.split(separator).map(str::trim).filter(|item| !item.is_empty());
            items.map(|item| Cow::Owned(item.to_owned())).collect()
        };
        self.text(field).map_or_else(Vec::new, |text| split(&text))
    }
}

fn scalar(value: &Value) -> Option<Cow<'_, str>> {
    match value {
        Value::String(text) => Some(Cow::Borrowed(text)),
        Value::Number(number) => Some(Cow::Owned(number.to_string())),
        Value::Bool(word) => Some(Cow::Borrowed(if *word { "yes" } else { "no" })),
        _ => None,
    }
}

/// One block being read.
struct Reading<'t> {
    table: &'t Table,
    cut: &'t Cut,
    block: Block,
    problems: Vec<Problem>,
}

impl<'t> Reading<'t> {
    fn new(table: &'t Table, seed: u64, cut: &'t Cut) -> Self {
        Self { table, cut, block: Block::with_room(seed, cut.bytes.len()), problems: Vec::new() }
    }

    fn run(mut self, header: &Header) -> (Block, Vec<Problem>) {
        let cut = self.cut;
        if cut.endless {
            let message = "a record begins here that does not end within 16 MiB; is a quote left open?";
            self.problem(cut.first_line, message.to_owned());
        } else {
            match self.table.layout {
                Layout::Csv(delimiter) => self.csv(header, delimiter),
                Layout::JsonLines => self.json_lines(header),
            }
        }
        (self.block, self.problems)
    }

    fn csv(&mut self, header: &Header, delimiter: u8) {
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
                Ok(true) if record.len() != header.columns.len() => {
                    let line = record.position().map_or(line, |position| cut.first_line + position.line() - 1);
                    let (found, wanted) = (record.len(), header.columns.len());
                    self.problem(
                        line,
                        format!("{found} columns where the header has {wanted}; the row is passed over"),
                    );
                }
                Ok(true) => {
                    let line = record.position().map_or(line, |position| cut.first_line + position.line() - 1);
                    self.row(line, &Record::Csv { record: &record, header });
                }
                Err(error) if matches!(error.kind(), csv::ErrorKind::Utf8 { .. }) => {
                    self.problem(line, "not in UTF-8; the row is passed over. Save the table as UTF-8".to_owned());
                }
                Err(error) => return self.problem(line, error.to_string()),
            }
        }
    }

    fn json_lines(&mut self, header: &Header) {
        let cut = self.cut;
        for (nth, line) in cut.bytes.split(|byte| *byte == b'\n').enumerate() {
            let number = cut.first_line + nth as u64;
            if line.trim_ascii().is_empty() {
                continue;
            }
            match serde_json::from_slice::<Map<String, Value>>(line) {
                Ok(object) => self.row(number, &Record::Json { object: &object, header }),
                Err(error) => {
                    let message =
                        format!("no JSON object ({error}); one object a line is expected. The row is passed over");
                    self.problem(number, message);
                }
            }
        }
    }

    fn problem(&mut self, line: u64, message: String) {
        self.problems.push(Problem { file: self.table.shown.clone(), line: Some(line), message });
    }

    fn row(&mut self, line: u64, record: &Record<'_>) {
        let Some(url) = record.text(Field::Url) else {
            return self.problem(line, "no url in it; the row is passed over".to_owned());
        };
        let address = match self.table.site.address(&url) {
            Ok(address) => address,
            Err(why) => return self.problem(line, format!("{why}; the row is passed over")),
        };
        let said = Said {
            url: Cow::Borrowed(address.as_str()),
            modified: self.date(line, record, Field::Modified),
            published: self.date(line, record, Field::Published),
            title: record.text(Field::Title),
            description: record.text(Field::Description),
            language: record.text(Field::Language),
            images: self.images(line, record),
            videos: self.videos(line, record, &address),
            keep: self.keep(line, record),
            changefreq: self.word(
                line,
                record,
                Field::Changefreq,
                "one of always, hourly, daily, weekly, monthly, yearly, never",
                |text| text.parse::<Changefreq>().ok(),
            ),
            priority: self.word(line, record, Field::Priority, "a number from 0.0 to 1.0", |text| {
                Priority::new(text.trim().parse().ok()?)
            }),
            section: self.table.section.as_deref().map(Cow::Borrowed),
            ..Said::default()
        };
        self.block.push(&said);
    }

    /// Reads a field that need not be there; one that cannot be read is reported, and the entry goes on without it.
    fn word<T>(
        &mut self,
        line: u64,
        record: &Record<'_>,
        field: Field,
        expected: &str,
        read: impl Fn(&str) -> Option<T>,
    ) -> Option<T> {
        let text = record.text(field)?;
        let value = read(&text);
        if value.is_none() {
            let message = format!("{} “{text}” is not {expected}; the entry is listed without it", field.name());
            self.problem(line, message);
        }
        value
    }

    fn date(&mut self, line: u64, record: &Record<'_>, field: Field) -> Option<Lastmod> {
        let table = self.table;
        match &table.dates {
            None => self.word(
                line,
                record,
                field,
                "a date such as 2026-11-23 or 2026-11-23T09:30:00Z (other forms: dates = \"%d/%m/%Y\")",
                |text| Lastmod::read(text, &table.timezone),
            ),
            Some(format) => self.word(line, record, field, &format!("a date in the form {format}"), |text| {
                Lastmod::read_as(format, text, &table.timezone)
            }),
        }
    }

    fn keep(&mut self, line: u64, record: &Record<'_>) -> Option<bool> {
        self.word(line, record, Field::Keep, "yes or no", |text| match text.trim().to_ascii_lowercase().as_str() {
            "yes" | "true" | "1" => Some(true),
            "no" | "false" | "0" => Some(false),
            _ => None,
        })
    }

    fn images<'r>(&mut self, line: u64, record: &'r Record<'_>) -> Vec<Cow<'r, str>> {
        let mut images: Vec<Cow<'r, str>> = Vec::new();
        for item in record.list(Field::Images, &self.table.separator) {
            match self.table.site.address(&item) {
                Ok(address) if address.as_str().len() > LONGEST => {
                    self.problem(
                        line,
                        "images: a URL of 2,048 characters or more; the entry is listed without it".to_owned(),
                    );
                }
                Ok(address) => images.push(Cow::Owned(address.as_str().to_owned())),
                Err(why) => self.problem(line, format!("images: {why}; the entry is listed without it")),
            }
        }
        images
    }

    fn videos(&mut self, line: u64, record: &Record<'_>, page: &Address) -> Vec<Video> {
        let read = match record.json(Field::Videos) {
            Some(Value::String(text)) => serde_json::from_str(text),
            Some(value) => serde_json::from_value(value.clone()),
            None => match record.text(Field::Videos) {
                Some(text) => serde_json::from_str(&text),
                None => return Vec::new(),
            },
        };
        let videos: Vec<Video> = read.unwrap_or_else(|error| {
            self.problem(
                line,
                format!("videos: {error}; a JSON array of objects is expected. The entry is listed without them"),
            );
            Vec::new()
        });
        let place = |text: Option<String>| {
            let address = page.join(&text?).ok()?;
            Some(address.as_str().to_owned()).filter(|address| address.len() <= LONGEST)
        };
        let date = |text: Option<String>| Lastmod::read(&text?, &self.table.timezone).map(|date| date.to_string());
        let complete = |video: Video| Video {
            thumbnail_loc: place(video.thumbnail_loc),
            content_loc: place(video.content_loc),
            player_loc: place(video.player_loc),
            expiration_date: date(video.expiration_date),
            publication_date: date(video.publication_date),
            ..video
        };
        videos.into_iter().map(complete).collect()
    }
}
