//! Resolving a `[[source]]` of the kind `sql`.

use std::sync::Arc;
use std::time::Duration;

use atlas_io::sources::sql::{self, Database, SqlSource};
use atlas_store::source::Source;

use super::Sources;
use crate::config::context::{expand, expand_with};
use crate::config::tables::{At, SourceTable};
use crate::exit::Failure;

/// The default time limit of a query.
const WAIT: Duration = Duration::from_secs(300);
/// How often a connection is made anew by default.
const RETRIES: u64 = 3;

impl Sources<'_> {
    pub(super) fn sql(&self, table: &At<SourceTable>) -> Result<Box<dyn Source>, Failure> {
        let source = table.as_ref();
        let origin = self.context.origin;
        let typed = self.needed("connection", source.connection.as_ref(), table)?;
        if sql::has_plain_password(typed.as_ref()) {
            let message = "“connection”: it contains a password that anyone can read; put it in the environment and write ${NAME} in its place";
            return Err(origin.error(typed, message));
        }
        let connection = expand_with(origin, typed, sql::encode_variable)?;
        let database = Database::parse(&connection, self.context.folder)
            .map_err(|why| origin.error(typed, format!("“connection”: {why}")))?;
        let mut connections = self.connections.borrow_mut();
        let shared = Arc::clone(connections.entry(connection.expose().to_owned()).or_default());
        Ok(Box::new(SqlSource {
            database,
            connection: shared,
            shown: sql::shown(typed.as_ref()),
            query: self.query(table)?,
            records: self.records(source)?,
            wait: self.wait(source, WAIT)?,
            retries: self.retries(source)?,
        }))
    }

    /// The query, from the configuration or from a file of its own.
    fn query(&self, table: &At<SourceTable>) -> Result<String, Failure> {
        let (source, origin) = (table.as_ref(), self.context.origin);
        let (query, key) = match (&source.query, &source.query_file) {
            (Some(query), None) => (query.as_ref().clone(), "query"),
            (None, Some(file)) => {
                let typed = expand(origin, file)?;
                let query = std::fs::read_to_string(self.context.folder.join(typed.expose())).map_err(|error| {
                    let message = format!("“query_file”: cannot read {typed}: {error}");
                    origin.error(file, message)
                })?;
                (query.trim_start_matches('\u{feff}').to_owned(), "query_file")
            }
            (Some(_), Some(file)) => {
                return Err(origin.error(file, "“query_file”: this source has “query” as well; keep one of them"));
            }
            (None, None) => return Err(origin.error(table, "this source needs “query” or “query_file”")),
        };
        if query.trim().is_empty() {
            return Err(origin.error(table, format!("“{key}” is empty; expected a select whose columns are fields")));
        }
        Ok(query)
    }

    fn retries(&self, source: &SourceTable) -> Result<u32, Failure> {
        let none = source.retries.as_ref().is_some_and(|typed| *typed.as_ref() == 0);
        let retries = if none { 0 } else { self.number("retries", source.retries.as_ref(), RETRIES, 100)? };
        Ok(u32::try_from(retries).unwrap_or(u32::MAX))
    }
}
