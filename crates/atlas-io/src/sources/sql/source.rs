//! The source `sql`.

use std::borrow::Cow;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use atlas_core::fingerprint;
use atlas_core::report::Problem;
use atlas_store::error::StoreError;
use atlas_store::source::{Gathering, Source};
use jiff::{SignedDuration, Timestamp};

use crate::reading::csv_split::Separators;
use crate::reading::pipe::gather_piped;
use crate::reading::record::RecordSettings;
use crate::reading::rows::{RecordLayout, RecordUnit, RowInput, RowsError};
use crate::sources::failed;

use super::connection::Database;
use super::query::Query;
use super::rows::RowWriter;
use super::shared::SharedConnection;
use super::since::filled_in;

/// A query of the user's whose rows are entries.
#[derive(Debug, Clone)]
pub struct SqlSource {
    /// Where.
    pub database: Database,
    /// The connection, shared by all sources that name the same.
    pub connection: Arc<SharedConnection>,
    /// Its name: see [`shown`](super::shown).
    pub shown: String,
    /// The query.
    pub query: String,
    /// If the query names the instant since when changes are wanted: how often it is read in full all the same.
    pub full_every: Option<SignedDuration>,
    /// How its rows are read.
    pub records: RecordSettings,
    /// Its time limit.
    pub wait: Duration,
    /// How often a connection that broke before the first row is made anew.
    pub retries: u32,
}

impl Source for SqlSource {
    fn name(&self) -> String {
        format!("sql {}", self.shown)
    }

    fn settings(&self) -> u64 {
        match self.full_every {
            None => fingerprint::settings(""),
            // What it does not name was named by another query, or read in another way.
            Some(_) => fingerprint::settings(&format!("{} {}", self.query, self.records.written())),
        }
    }

    fn knows_rows(&self) -> bool {
        true
    }

    fn yields_once(&self) -> bool {
        true
    }

    fn full_every(&self) -> Option<SignedDuration> {
        self.full_every
    }

    fn reads(&self) -> Option<Vec<PathBuf>> {
        self.database.files()
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let rows = RowInput {
            settings: &self.records,
            layout: RecordLayout::Separated(Separators::OF_ROWS),
            shown: &self.shown,
            unit: RecordUnit::Row,
        };
        let text = match self.full_every {
            None => Cow::Borrowed(&*self.query),
            Some(_) => {
                let since = gathering.since().unwrap_or(Timestamp::UNIX_EPOCH);
                Cow::Owned(filled_in(&self.query, &self.database, since))
            }
        };
        let query = Query {
            text: &text,
            wait: self.wait,
            // It contains no quotes, because zone names are the same everywhere.
            zone: self.records.timezone.iana_name().unwrap_or("UTC").replace('\'', ""),
        };
        let (mut remarks, mut problems) = (Vec::new(), Vec::new());
        let stop = gathering.stop();
        let gathered = gather_piped(&rows, gathering, |pipe| {
            let mut writer = RowWriter::new(pipe);
            remarks = self.connection.read((&self.database, self.retries), &query, &mut writer, stop)?;
            remarks.extend(writer.finish()?);
            problems = writer.problems;
            Ok(())
        });
        remarks.into_iter().for_each(|remark| gathering.remark(remark));
        for message in problems {
            gathering.problem(Problem { file: self.shown.clone(), line: None, message, passed_over: true });
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

    fn release(&self) {
        self.connection.close();
    }
}
