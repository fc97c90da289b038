//! Queries on MySQL and MariaDB servers, in the text protocol, in which every value comes as the server writes it.

use std::borrow::Cow;
use std::time::Duration;

use atlas_store::stop::Stop;
use sqlx::mysql::MySqlConnectOptions;
use sqlx::{AssertSqlSafe, Column, Connection, Executor, MySqlConnection, Row, TypeInfo};
use tokio::runtime::Runtime;
use tokio_stream::StreamExt;

use crate::http;

use super::failure::QueryFailure;
use super::query::Query;
use super::rows::RowWriter;
use super::server::{GRACE, RoleLimit, at_last, cannot_connect, failed, not_a_connection, within_limit};
use super::session::DatabaseSession;

/// A connection in a transaction, and the runtime that it works on.
pub(super) struct MySqlSession {
    runtime: Runtime,
    options: MySqlConnectOptions,
    client: MySqlClient,
    remark: Option<String>,
}

struct MySqlClient {
    connection: MySqlConnection,
    server: MySqlServer,
}

/// What the session was like before, and what the server can do.
struct MySqlServer {
    process: u64,
    zone: String,
    is_mariadb: bool,
    role: RoleLimit,
    knows_zone: bool,
}

impl MySqlServer {
    /// The statement that limits the time of queries: MariaDB takes seconds, MySQL milliseconds.
    fn limit(&self, limit: Option<Duration>) -> String {
        match (self.is_mariadb, limit.unwrap_or_default()) {
            (true, limit) => format!("set max_statement_time = {}", limit.as_secs_f64()),
            (false, limit) => format!("set max_execution_time = {}", limit.as_millis()),
        }
    }
}

impl MySqlSession {
    pub(super) fn open(url: &str, query: &Query<'_>, stop: &Stop) -> Result<Self, QueryFailure> {
        let options: MySqlConnectOptions = url.parse().map_err(not_a_connection)?;
        let options = options.timezone(None).pipes_as_concat(false).no_engine_substitution(false);
        let runtime = http::runtime().map_err(QueryFailure::reading)?;
        let zone = &query.zone;
        let client = within_limit(&runtime, query.wait, stop, MySqlClient::begin(&options, zone))?;
        let remark = (!client.server.knows_zone).then(|| format!(
            "the server does not know the zone “{zone}”, so the query runs in UTC, and dates that it formats may be off by a day. Fill the server's time zone tables: mysql_tzinfo_to_sql /usr/share/zoneinfo"
        ));
        Ok(Self { runtime, options, client, remark })
    }
}

impl MySqlClient {
    /// Connects and begins a transaction that sees the database as it is now.
    async fn begin(options: &MySqlConnectOptions, zone: &str) -> Result<Self, QueryFailure> {
        let mut connection = MySqlConnection::connect_with(options).await.map_err(cannot_connect)?;
        let before = "select connection_id(), @@session.time_zone, version()";
        let before = sqlx::raw_sql(before).fetch_one(&mut connection).await.map_err(failed)?;
        let word = |at: usize| before.try_get_unchecked::<String, _>(at).map_err(failed);
        let is_mariadb = word(2)?.to_lowercase().contains("mariadb");
        let limit = if is_mariadb { "select @@max_statement_time * 1000" } else { "select @@max_execution_time" };
        let limit = sqlx::raw_sql(limit).fetch_one(&mut connection).await.map_err(failed)?;
        let limit = limit.try_get_unchecked::<String, _>(0).map_err(failed)?;
        let named = if zone == "UTC" { "+00:00" } else { zone };
        let knows_zone = connection.execute(raw(format!("set time_zone = '{named}'"))).await.is_ok();
        if !knows_zone {
            connection.execute(raw("set time_zone = '+00:00'".to_owned())).await.map_err(failed)?;
        }
        let server = MySqlServer {
            process: word(0)?.parse().unwrap_or_default(),
            zone: word(1)?,
            is_mariadb,
            role: RoleLimit::of_millis(limit.parse::<f64>().unwrap_or_default() as i64),
            knows_zone,
        };
        let setup = "set session transaction read only; set transaction isolation level repeatable read, read only; start transaction with consistent snapshot, read only";
        connection.execute(raw(setup.to_owned())).await.map_err(failed)?;
        Ok(Self { connection, server })
    }

    async fn rows(&mut self, query: &Query<'_>, rows: &mut RowWriter<'_>) -> Result<(), QueryFailure> {
        let Self { connection, server } = self;
        let limit = server.limit(Some(server.role.within(query.wait)));
        connection.execute(raw(limit)).await.map_err(failed)?;
        let failed = |error| server.role.ended(query.wait, error);
        let mut found = sqlx::raw_sql(AssertSqlSafe(query.bare())).fetch(connection);
        let mut instants = Vec::new();
        let mut is_first = true;
        while let Some(row) = found.next().await {
            let row = row.map_err(failed)?;
            if std::mem::take(&mut is_first) {
                rows.set_columns(row.columns().iter().map(|column| column.name().to_owned()));
                // A TIMESTAMP is an instant, written in the zone of the session: the site's, as for a DATETIME, or UTC.
                let is_instant = |column: &sqlx::mysql::MySqlColumn| column.type_info().name() == "TIMESTAMP";
                instants = row.columns().iter().map(|column| !server.knows_zone && is_instant(column)).collect();
            }
            let values = (0..instants.len()).map(|at| row.try_get_unchecked::<Option<&[u8]>, _>(at));
            let values = values.collect::<Result<Vec<_>, _>>().map_err(failed)?;
            if !instants.contains(&true) {
                rows.push(values.into_iter()).map_err(QueryFailure::reading)?;
                continue;
            }
            let zoned: Vec<Option<Cow<'_, [u8]>>> = values
                .into_iter()
                .zip(&instants)
                .map(|(value, is_instant)| match (value, is_instant) {
                    (Some(value), true) => Some([value, b"Z"].concat().into()),
                    (value, _) => value.map(Cow::Borrowed),
                })
                .collect();
            rows.push(zoned.iter().map(|value| value.as_deref())).map_err(QueryFailure::reading)?;
        }
        Ok(())
    }
}

fn raw(statement: String) -> sqlx::RawSql {
    sqlx::raw_sql(AssertSqlSafe(statement))
}

impl DatabaseSession for MySqlSession {
    fn read(&mut self, query: &Query<'_>, rows: &mut RowWriter<'_>, stop: &Stop) -> Result<(), QueryFailure> {
        within_limit(&self.runtime, query.wait + GRACE, stop, self.client.rows(query, rows))
    }

    fn remark(&mut self) -> Option<String> {
        self.remark.take()
    }

    /// No setting ends with the transaction, so each is put back.
    fn close(self: Box<Self>) {
        let Self { runtime, client: MySqlClient { mut connection, server }, .. } = *self;
        let back = format!(
            "rollback; set session transaction read write; set time_zone = '{}'; {}",
            server.zone.replace('\'', ""),
            server.limit(server.role.0)
        );
        at_last(&runtime, async {
            connection.execute(raw(back)).await?;
            connection.close().await
        });
    }

    /// Kills the query by a second connection; the first is closed in any case.
    fn cancel(self: Box<Self>) {
        let Self { runtime, options, client: MySqlClient { connection, server }, .. } = *self;
        at_last(&runtime, async {
            let mut second = MySqlConnection::connect_with(&options).await?;
            second.execute(raw(format!("kill query {}", server.process))).await?;
            second.close().await
        });
        drop(connection);
    }
}
