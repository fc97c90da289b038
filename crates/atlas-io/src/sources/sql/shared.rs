//! The connection that sources share, so that all of them see the database at one instant; and new tries.

use std::fmt;
use std::io;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use atlas_store::stop::Stop;

use super::connection::Database;
use super::failure::QueryFailure;
#[cfg(feature = "sql-servers")]
use super::mysql::MySqlSession;
#[cfg(feature = "sql-servers")]
use super::postgres::PostgresSession;
use super::query::Query;
use super::rows::RowWriter;
use super::session::DatabaseSession;
use super::sqlite::SqliteSession;

/// The pause before the first new try; it doubles from try to try.
const PAUSE: Duration = Duration::from_secs(1);
/// How often a pause looks at the stop token.
const GLANCE: Duration = Duration::from_millis(50);

/// The connection that several sources share. It is opened by the first that reads, and closed when all have been
/// read.
#[derive(Default)]
pub struct SharedConnection(Mutex<Option<Box<dyn DatabaseSession>>>);

impl fmt::Debug for SharedConnection {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("SharedConnection")
    }
}

impl SharedConnection {
    /// Passes on the rows of a query. If the connection breaks before the first row, it is made anew, unless another
    /// source has read from it: both would see the database at different instants. Returns remarks.
    pub(super) fn read(
        &self,
        (database, retries): (&Database, u32),
        query: &Query<'_>,
        rows: &mut RowWriter<'_>,
        stop: &Stop,
    ) -> io::Result<Vec<String>> {
        let mut held = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let (is_shared, mut tries) = (held.is_some(), 1);
        loop {
            let failure = match try_read(&mut held, database, query, rows, stop) {
                Ok(mut remarks) => {
                    if tries > 1 {
                        remarks.push(format!("the connection could not be used at first, but was at try {tries}"));
                    }
                    return Ok(remarks);
                }
                Err(failure) => failure,
            };
            if let Some(session) = held.take() {
                if failure.is_answered { session.close() } else { session.cancel() }
            }
            if is_shared || rows.is_begun() || !failure.may_pass || tries > retries || stop.is_asked() {
                return Err(failure.into_error(tries));
            }
            pause(PAUSE * (1 << (tries - 1).min(5)), stop);
            tries += 1;
        }
    }

    /// Ends the transaction. The next source that reads begins another.
    pub(super) fn close(&self) {
        if let Some(session) = self.0.lock().unwrap_or_else(PoisonError::into_inner).take() {
            session.close();
        }
    }
}

fn try_read(
    held: &mut Option<Box<dyn DatabaseSession>>,
    database: &Database,
    query: &Query<'_>,
    rows: &mut RowWriter<'_>,
    stop: &Stop,
) -> Result<Vec<String>, QueryFailure> {
    let session = match held {
        Some(session) => session,
        None => held.insert(open(database, query, stop)?),
    };
    session.read(query, rows, stop)?;
    Ok(session.remark().into_iter().collect())
}

#[cfg_attr(not(feature = "sql-servers"), expect(unused_variables, reason = "a file needs no time limit to open"))]
fn open(database: &Database, query: &Query<'_>, stop: &Stop) -> Result<Box<dyn DatabaseSession>, QueryFailure> {
    Ok(match database {
        Database::Sqlite(path) => Box::new(SqliteSession::open(path)?),
        #[cfg(feature = "sql-servers")]
        Database::Postgres(url) => Box::new(PostgresSession::open(url.expose(), query, stop)?),
        #[cfg(feature = "sql-servers")]
        Database::MySql(url) => Box::new(MySqlSession::open(url.expose(), query, stop)?),
    })
}

/// Waits, unless work is asked to stop.
fn pause(length: Duration, stop: &Stop) {
    let begun = std::time::Instant::now();
    while begun.elapsed() < length && !stop.is_asked() {
        std::thread::sleep(GLANCE);
    }
}
