//! Samples of tables in files.

use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};
use std::time::Duration;

use atlas_store::stop::Stop;
use serde_json::{Map, Value};
use walkdir::WalkDir;

use super::rows::{MOST_ROWS, RowSample};
use crate::reading::input::Input;
use crate::sources::table::Format;

/// The most bytes that are read of a table.
const MOST_BYTES: u64 = 4 << 20;
/// The most tables that are looked at.
const MOST_TABLES: usize = 50;
/// The time limit for a table that is fetched.
const WAIT: Duration = Duration::from_secs(30);

/// A table in a file.
#[derive(Debug, Clone)]
pub struct TableFile {
    /// Its path below the folder.
    pub name: String,
    /// Its first rows.
    pub sample: RowSample,
}

/// The tables in a folder and the folders directly below it, except in folders that are left out.
pub fn table_files(folder: &Path, but: &[PathBuf]) -> Vec<TableFile> {
    let mut found = Vec::new();
    for path in files_below(folder, but) {
        let name = path.strip_prefix(folder).unwrap_or(&path).to_string_lossy().into_owned();
        // A text file is hardly ever a table.
        let Some(format) = Format::of_name(&name).filter(|_| !name.ends_with(".txt")) else { continue };
        if let Some(sample) = table_sample(&Input::File(path), format).filter(|sample| !sample.rows.is_empty()) {
            found.push(TableFile { name, sample });
        }
        if found.len() == MOST_TABLES {
            break;
        }
    }
    found
}

/// The visible files in a folder and the folders directly below it, by name.
pub(super) fn files_below(folder: &Path, but: &[PathBuf]) -> impl Iterator<Item = PathBuf> {
    let but = but.to_vec();
    let walk = WalkDir::new(folder).max_depth(2).sort_by_file_name().into_iter();
    let walk = walk.filter_entry(move |entry| {
        let is_hidden = entry.depth() > 0 && entry.file_name().to_string_lossy().starts_with('.');
        let is_vendored = ["node_modules", "target", "vendor"].iter().any(|name| entry.file_name() == *name);
        !is_hidden && !is_vendored && !but.iter().any(|one| one == entry.path())
    });
    walk.flatten().filter(|entry| entry.file_type().is_file()).map(walkdir::DirEntry::into_path)
}

/// The first rows of a table in a file or at a URL.
pub fn table_sample(input: &Input, format: Format) -> Option<RowSample> {
    if format == Format::Parquet {
        return parquet_sample(input);
    }
    let reader: Box<dyn Read> = match input {
        Input::File(path) if !File::open(path).ok()?.metadata().ok()?.is_file() => return None,
        input => Box::new(input.open(WAIT, &Stop::default()).ok()?.take(MOST_BYTES)),
    };
    match format {
        Format::Csv => separated(reader, None),
        Format::Tsv => separated(reader, Some(b'\t')),
        Format::JsonLines => {
            let lines = BufReader::new(reader).lines().map_while(Result::ok).take(MOST_ROWS);
            of_objects(lines.filter_map(|line| serde_json::from_str(&line).ok()))
        }
        Format::Json => {
            let mut text = String::new();
            BufReader::new(reader).read_to_string(&mut text).ok()?;
            of_objects(first_objects(&text).into_iter())
        }
        Format::Parquet => None,
    }
}

/// The first rows of a Parquet file. One at a URL would have to be fetched whole.
#[cfg(feature = "parquet")]
fn parquet_sample(input: &Input) -> Option<RowSample> {
    let (columns, rows) = crate::sources::parquet::first_rows(input.file()?, MOST_ROWS)?;
    Some(RowSample { columns, rows })
}

#[cfg(not(feature = "parquet"))]
fn parquet_sample(_: &Input) -> Option<RowSample> {
    None
}

/// The first objects of a JSON array, which may be cut off.
fn first_objects(text: &str) -> Vec<Map<String, Value>> {
    let Some(rest) = text.trim_start().strip_prefix('[') else { return Vec::new() };
    let (mut objects, mut rest) = (Vec::new(), rest);
    while objects.len() < MOST_ROWS {
        let mut stream = serde_json::Deserializer::from_str(rest).into_iter::<Map<String, Value>>();
        let Some(Ok(object)) = stream.next() else { break };
        objects.push(object);
        rest = rest[stream.byte_offset()..].trim_start().trim_start_matches(',');
    }
    objects
}

fn separated(reader: impl Read, delimiter: Option<u8>) -> Option<RowSample> {
    let mut bytes = Vec::new();
    let mut reader = reader;
    reader.read_to_end(&mut bytes).ok()?;
    let text = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(&bytes);
    let header = text.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let count = |wanted: u8| header.iter().filter(|byte| **byte == wanted).count();
    let delimiter = delimiter.unwrap_or_else(|| {
        *[b',', b';', b'\t'].iter().max_by_key(|one| (count(**one), **one == b',')).unwrap_or(&b',')
    });
    let mut reader = csv::ReaderBuilder::new().delimiter(delimiter).flexible(true).from_reader(text);
    let columns: Vec<String> = reader.headers().ok()?.iter().map(str::to_owned).collect();
    let rows = reader.records().map_while(Result::ok).take(MOST_ROWS);
    let rows =
        rows.map(|row| (0..columns.len()).map(|at| row.get(at).unwrap_or_default().to_owned()).collect()).collect();
    Some(RowSample { columns, rows })
}

/// The sample of objects: columns in the order in which they come.
fn of_objects(objects: impl Iterator<Item = Map<String, Value>>) -> Option<RowSample> {
    let objects: Vec<Map<String, Value>> = objects.collect();
    let mut columns: Vec<String> = Vec::new();
    for name in objects.iter().flat_map(Map::keys) {
        if !columns.contains(name) && columns.len() < 500 {
            columns.push(name.clone());
        }
    }
    let cell = |value: Option<&Value>| match value {
        None | Some(Value::Null) => String::new(),
        Some(Value::String(text)) => text.clone(),
        Some(other) => other.to_string(),
    };
    let rows = objects.iter().map(|object| columns.iter().map(|name| cell(object.get(name))).collect()).collect();
    (!columns.is_empty()).then_some(RowSample { columns, rows })
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn tables_are_sampled() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| {
            let path = folder.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        };
        write("photographs.csv", "\u{feff}Slug;Caption\na;\"x;y\"\nb;z\n");
        write("data/films.jsonl", "{\"url\": \"/a/\"}\nbroken\n{\"url\": \"/b/\", \"n\": 1}\n");
        write("data/halts.json", "[{\"slug\": \"a\"}, {\"slug\": \"b\"}, {\"sl");
        write("package.json", "{\"name\": \"site\"}");
        write("public/list.csv", "url\n/x/\n");
        write(".hidden/a.csv", "url\n/x/\n");
        write("empty.csv", "url\n");
        let found = table_files(folder.path(), &[folder.path().join("public")]);
        let names: Vec<(&str, usize)> = found.iter().map(|one| (one.name.as_str(), one.sample.rows.len())).collect();
        assert_eq!(names, [("data/films.jsonl", 2), ("data/halts.json", 2), ("photographs.csv", 2)]);
        assert_eq!(found[2].sample.columns, ["Slug", "Caption"]);
        assert_eq!(found[0].sample.rows[1], ["/b/", "1"]);
    }
}
