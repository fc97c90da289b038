//! Queries on SQLite files.

use std::path::Path;
use std::time::Instant;

use atlas_core::number::grouped;
use atlas_store::stop::Stop;
use rusqlite::limits::Limit;
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};

use super::failure::QueryFailure;
use super::query::Query;
use super::rows::RowWriter;
use super::session::DatabaseSession;

/// How many virtual machine steps SQLite runs between two checks of the clock.
const STEPS: i32 = 10_000;

/// The most bytes of one row that SQLite loads. Longer rows end the query: it could only skip them once they are in memory.
const MOST_BYTES: i32 = 64 << 20;

/// An open file, in a transaction.
pub(super) struct SqliteSession(Connection);

impl SqliteSession {
    pub(super) fn open(path: &Path) -> Result<Self, QueryFailure> {
        if !path.is_file() {
            // The source's name says which file; the path may come from the environment.
            return Err(QueryFailure::lasting(
                "there is no such file; correct “connection” in the configuration".to_owned(),
            ));
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(path, flags).map_err(failed)?;
        connection.set_limit(Limit::SQLITE_LIMIT_LENGTH, MOST_BYTES).map_err(failed)?;
        // A deferred transaction begins with the first query and sees the file as it is then.
        connection.execute_batch("begin deferred").map_err(failed)?;
        Ok(Self(connection))
    }
}

impl DatabaseSession for SqliteSession {
    fn read(&mut self, query: &Query<'_>, rows: &mut RowWriter<'_>, stop: &Stop) -> Result<(), QueryFailure> {
        let (started, wait, asked) = (Instant::now(), query.wait, stop.clone());
        self.0.progress_handler(STEPS, Some(move || started.elapsed() > wait || asked.is_asked())).map_err(failed)?;
        let words = |error: rusqlite::Error| match error.sqlite_error_code() {
            Some(rusqlite::ErrorCode::OperationInterrupted) if started.elapsed() > wait => {
                QueryFailure::out_of_time(wait)
            }
            Some(rusqlite::ErrorCode::TooBig) => QueryFailure::lasting(format!(
                "a row has more than {} bytes; ask only for columns that are fields",
                grouped(MOST_BYTES as u64)
            )),
            _ => failed(error),
        };
        let mut statement = self.0.prepare(query.bare()).map_err(words)?;
        if !statement.readonly() {
            return Err(QueryFailure::lasting("the query would write; a source only reads"));
        }
        if statement.parameter_count() > 0 {
            let name = statement.parameter_name(1).unwrap_or("?").to_owned();
            return Err(QueryFailure::lasting(format!(
                "the query has the parameter {name}, for which there is no value; only :since has one"
            )));
        }
        let columns = statement.column_count();
        rows.set_columns(statement.column_names().map(str::to_owned));
        let mut found = statement.query([]).map_err(words)?;
        let mut numbers = vec![String::new(); columns];
        while let Some(row) = found.next().map_err(words)? {
            for (at, number) in numbers.iter_mut().enumerate() {
                number.clear();
                match row.get_ref(at).map_err(words)? {
                    ValueRef::Integer(value) => number.push_str(&value.to_string()),
                    ValueRef::Real(value) => number.push_str(&format!("{value:?}")),
                    _ => {}
                }
            }
            let values = numbers.iter().enumerate().map(|(at, number)| match row.get_ref(at) {
                Ok(ValueRef::Text(bytes) | ValueRef::Blob(bytes)) => Some(bytes),
                _ => Some(number.as_bytes()),
            });
            rows.push(values).map_err(QueryFailure::reading)?;
        }
        Ok(())
    }

    fn close(self: Box<Self>) {
        // Nothing was written, so nothing depends on how the transaction ends.
        let _ = self.0.execute_batch("rollback");
    }

    fn cancel(self: Box<Self>) {
        self.close();
    }
}

fn failed(error: rusqlite::Error) -> QueryFailure {
    let may_pass = matches!(
        error.sqlite_error_code(),
        Some(rusqlite::ErrorCode::DatabaseBusy | rusqlite::ErrorCode::DatabaseLocked)
    );
    QueryFailure { may_pass, ..QueryFailure::lasting(format!("the query failed: {error}")) }
}
