//! The source `sql`: a query of the user's on SQLite, PostgreSQL, MySQL or MariaDB, whose columns are the fields.
//!
//! Rows are streamed from one read-only transaction with a time limit. Its time zone is the site's, so that times that
//! the query formats, and values without a zone, mean the same on both sides. No setting outlives the transaction,
//! because a pooler may pass the session on to others. A connection with a password is never shown, not even in errors.

mod connection;
mod query;
mod sqlite;
#[cfg(feature = "sql-servers")]
mod servers;

use std::io;

use atlas_core::fingerprint;
use atlas_store::error::StoreError;
use atlas_store::source::{Gathering, Source};
use atlas_store::stop::Stop;

use crate::reading::json_array::{JsonArrayLines, gather_lines};
use crate::reading::rows::{RecordLayout, RecordUnit, RowInput, RowsError};
use crate::sources::failed;

pub use self::connection::{ConnectionError, Database, has_plain_password, shown};
pub use self::query::SqlSource;

impl Source for SqlSource {
    fn name(&self) -> String {
        format!("sql {}", self.shown)
    }

    fn settings(&self) -> u64 {
        fingerprint::settings("")
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let rows = RowInput {
            settings: &self.records,
            layout: RecordLayout::JsonLines,
            shown: &self.shown,
            unit: RecordUnit::Row,
        };
        let mut remark = None;
        let stop = gathering.stop();
        let gathered = gather_lines(&rows, gathering, |lines| {
            remark = self.read(lines, stop)?;
            Ok(())
        });
        if let Some(remark) = remark {
            gathering.remark(remark);
        }
        gathered.map_err(|error| {
            failed(
                self.name(),
                match error {
                    RowsError::Read(error) => error.to_string(),
                    RowsError::Header(why) => why,
                },
            )
        })
    }
}

impl SqlSource {
    /// Passes on all rows. Returns remarks.
    fn read(&self, lines: &mut JsonArrayLines, stop: &Stop) -> io::Result<Option<String>> {
        match &self.database {
            Database::Sqlite(path) => self.sqlite(path, lines, stop).map(|()| None),
            #[cfg(feature = "sql-servers")]
            Database::Postgres(url) => self.postgres(url.expose(), lines, stop).map(|()| None),
            #[cfg(feature = "sql-servers")]
            Database::MySql(url) => self.mysql(url.expose(), lines, stop),
        }
    }
}
