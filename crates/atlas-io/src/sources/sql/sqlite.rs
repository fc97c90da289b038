//! Queries on SQLite files.

use std::io;
use std::path::Path;
use std::time::Instant;

use atlas_store::stop::Stop;
use rusqlite::OpenFlags;
use rusqlite::types::ValueRef;
use serde_json::{Map, Value};

use crate::reading::json_array::JsonArrayLines;

use super::query::{SqlSource, push};

/// How many virtual machine steps SQLite runs between two checks of the clock.
const STEPS: i32 = 10_000;

impl SqlSource {
    pub(super) fn sqlite(&self, path: &Path, lines: &mut JsonArrayLines, stop: &Stop) -> io::Result<()> {
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        if !path.is_file() {
            return Err(io::Error::other(format!(
                "there is no file {}; correct “connection” in the configuration",
                path.display()
            )));
        }
        let started = Instant::now();
        let wait = self.wait;
        let words = |error: rusqlite::Error| match error {
            error if started.elapsed() > wait => {
                let _ = error;
                self.out_of_time()
            }
            error => io::Error::other(format!("the query failed: {error}")),
        };
        let mut connection = rusqlite::Connection::open_with_flags(path, flags).map_err(words)?;
        let asked = stop.clone();
        connection
            .progress_handler(STEPS, Some(move || started.elapsed() > wait || asked.is_asked()))
            .map_err(words)?;
        let mut statement = connection.prepare(self.bare()).map_err(words)?;
        if !statement.readonly() {
            return Err(io::Error::other("the query would write; a source only reads"));
        }
        let names: Vec<String> = statement.column_names().map(str::to_owned).collect();
        let mut rows = statement.query([]).map_err(words)?;
        while let Some(row) = rows.next().map_err(words)? {
            let mut object = Map::new();
            for (at, name) in names.iter().enumerate() {
                let value = match row.get_ref(at).map_err(words)? {
                    ValueRef::Null => Value::Null,
                    ValueRef::Integer(number) => number.into(),
                    ValueRef::Real(number) => number.into(),
                    ValueRef::Text(bytes) | ValueRef::Blob(bytes) => String::from_utf8_lossy(bytes).into(),
                };
                object.insert(name.clone(), value);
            }
            push(&object, lines)?;
        }
        Ok(())
    }
}
