//! Resolving a `[[source]]` of the kind `sql`.

use std::sync::Arc;
use std::time::Duration;

use atlas_io::sources::sql::{self, Database, SqlSource};
use atlas_store::source::Source;
use jiff::SignedDuration;

use super::Sources;
use crate::config::context::{expand, expand_with, period};
use crate::config::tables::{At, SourceTable};
use crate::exit::Failure;

/// The default time limit of a query.
const WAIT: Duration = Duration::from_secs(300);
/// How often a query for changes alone is read in full by default.
const FULL_EVERY: SignedDuration = SignedDuration::from_hours(24);
/// The form of such a time, for the user.
const FULL_EVERY_FORM: &str = "such as \"1 day\" or \"6h\"";
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
        let query = self.query(table)?;
        let full_every = self.full_every(source, &query, &database)?;
        let mut connections = self.connections.borrow_mut();
        let shared = Arc::clone(connections.entry(connection.expose().to_owned()).or_default());
        Ok(Box::new(SqlSource {
            database,
            connection: shared,
            shown: sql::shown(typed.as_ref()),
            query,
            full_every,
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

    /// If the query names the instant since when changes are wanted: how often it is read in full all the same.
    fn full_every(
        &self,
        source: &SourceTable,
        query: &str,
        database: &Database,
    ) -> Result<Option<SignedDuration>, Failure> {
        let (typed, origin) = (source.full_every.as_ref(), self.context.origin);
        match (typed, sql::names_since(query, database)) {
            (None, false) => Ok(None),
            (None, true) => Ok(Some(FULL_EVERY)),
            (Some(typed), false) => {
                let message = "“full_every”: the query reads everything each time, because it does not use :since; take this line out, or add a condition such as updated_at >= :since";
                Err(origin.error(typed, message))
            }
            (Some(typed), true) => period("full_every", origin, typed, FULL_EVERY_FORM).map(Some),
        }
    }

    fn retries(&self, source: &SourceTable) -> Result<u32, Failure> {
        let none = source.retries.as_ref().is_some_and(|typed| *typed.as_ref() == 0);
        let retries = if none { 0 } else { self.number("retries", source.retries.as_ref(), RETRIES, 100)? };
        Ok(u32::try_from(retries).unwrap_or(u32::MAX))
    }
}
