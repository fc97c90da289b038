//! Queries on PostgreSQL servers, by `copy (…) to stdout`.

use atlas_store::stop::Stop;
use sqlx::postgres::{PgConnectOptions, PgTypeInfo, PgTypeKind};
use sqlx::{AssertSqlSafe, Column, Connection, Executor, PgConnection, Row, TypeInfo};
use tokio::runtime::Runtime;
use tokio_stream::StreamExt;

use crate::http;
use crate::reading::csv_split::Separators;

use super::failure::QueryFailure;
use super::query::Query;
use super::rows::RowWriter;
use super::server::{GRACE, RoleLimit, at_last, cannot_connect, failed, not_a_connection, within_limit};
use super::session::DatabaseSession;

/// A connection in a transaction, and the runtime that it works on.
pub(super) struct PostgresSession {
    runtime: Runtime,
    options: PgConnectOptions,
    client: PostgresClient,
}

struct PostgresClient {
    connection: PgConnection,
    /// The server's process, by which its query is cancelled.
    process: i32,
    role: RoleLimit,
}

impl PostgresSession {
    pub(super) fn open(url: &str, query: &Query<'_>, stop: &Stop) -> Result<Self, QueryFailure> {
        let options: PgConnectOptions = url.parse().map_err(not_a_connection)?;
        // A pooler rejects unknown startup parameters.
        let options = options.extra_float_digits(None).statement_cache_capacity(0);
        let runtime = http::runtime().map_err(QueryFailure::reading)?;
        let client = within_limit(&runtime, query.wait, stop, PostgresClient::begin(&options, &query.zone))?;
        Ok(Self { runtime, options, client })
    }
}

impl PostgresClient {
    /// Connects and begins a transaction, whose first query fixes what it sees.
    async fn begin(options: &PgConnectOptions, zone: &str) -> Result<Self, QueryFailure> {
        let mut connection = PgConnection::connect_with(options).await.map_err(cannot_connect)?;
        let setup = format!(
            "begin isolation level repeatable read read only; set local timezone = '{zone}'; set local datestyle = 'ISO'"
        );
        connection.execute(sqlx::raw_sql(AssertSqlSafe(setup))).await.map_err(failed)?;
        let session = "select pg_backend_pid(), setting::bigint from pg_settings where name = 'statement_timeout'";
        let session = sqlx::query(session).persistent(false).fetch_one(&mut connection).await.map_err(failed)?;
        let process = session.try_get(0).map_err(failed)?;
        let limit: i64 = session.try_get(1).map_err(failed)?;
        watch_for_clients(&mut connection).await.map_err(failed)?;
        Ok(Self { connection, process, role: RoleLimit::of_millis(limit) })
    }

    async fn copy(&mut self, query: &Query<'_>, rows: &mut RowWriter<'_>) -> Result<(), QueryFailure> {
        let limit = self.role.within(query.wait);
        let limit = format!("set local statement_timeout = {}", limit.as_millis());
        self.connection.execute(sqlx::raw_sql(AssertSqlSafe(limit))).await.map_err(failed)?;
        let bare = query.bare();
        // The join has one row, whatever the query yields, and the query is not run for it.
        let probe = format!("select wanted.* from (select 1) as one left join (\n{bare}\n) as wanted on false");
        let failed = |error| self.role.ended(query.wait, error);
        // Behind a pooler, a named statement may mean something else on the next server.
        let probed = sqlx::query(AssertSqlSafe(probe)).persistent(false).fetch_one(&mut self.connection);
        let probed = probed.await.map_err(failed)?;
        let columns = probed.columns();
        rows.set_columns(columns.iter().map(|column| column.name().to_owned()));
        let values: Vec<String> =
            columns.iter().enumerate().map(|(at, column)| format!("{}, ", text(at, column.type_info()))).collect();
        let aliases: Vec<String> = (0..columns.len()).map(|at| format!("c{at}")).collect();
        // The server writes its text format faster than separated values.
        let copy = format!(
            "copy (select {}null from (\n{bare}\n) as wanted ({})) to stdout (delimiter E'\\x{:02x}', null '')",
            values.concat(),
            aliases.join(", "),
            Separators::OF_ROWS.delimiter
        );
        let mut lines = self.connection.copy_out_raw(&copy).await.map_err(failed)?;
        while let Some(line) = lines.next().await {
            rows.push_copied(&line.map_err(failed)?).map_err(QueryFailure::reading)?;
        }
        Ok(())
    }
}

/// Makes the server check every second whether its client is still there, where it can, unless it already does.
async fn watch_for_clients(connection: &mut PgConnection) -> Result<(), sqlx::Error> {
    connection.execute(sqlx::raw_sql("savepoint plain")).await?;
    let watch = "select set_config(name, '1000', true) from pg_settings where name = 'client_connection_check_interval' and setting = '0'";
    // Servers on some systems know the setting but cannot do it.
    if connection.execute(sqlx::raw_sql(watch)).await.is_err() {
        connection.execute(sqlx::raw_sql("rollback to savepoint plain")).await?;
    }
    Ok(())
}

/// The expression for a column as text: JSON for lists and objects, and the plain text of everything else.
fn text(at: usize, kind: &PgTypeInfo) -> String {
    match kind.kind() {
        PgTypeKind::Array(_) | PgTypeKind::Composite(_) => format!("to_json(c{at})"),
        PgTypeKind::Domain(kind) => text(at, kind),
        _ => match kind.name() {
            "BOOL" => format!("c{at}::text"),
            "RECORD" => format!("to_json(c{at})"),
            // A text in JSON is meant without its quotes.
            "JSON" | "JSONB" => format!("to_json(c{at}) #>> '{{}}'"),
            _ => format!("c{at}"),
        },
    }
}

impl DatabaseSession for PostgresSession {
    fn read(&mut self, query: &Query<'_>, rows: &mut RowWriter<'_>, stop: &Stop) -> Result<(), QueryFailure> {
        within_limit(&self.runtime, query.wait + GRACE, stop, self.client.copy(query, rows))
    }

    fn close(self: Box<Self>) {
        let Self { runtime, client: PostgresClient { mut connection, .. }, .. } = *self;
        at_last(&runtime, async {
            connection.execute(sqlx::raw_sql("rollback")).await?;
            connection.close().await
        });
    }

    /// Cancels by a second connection. If none can be made, the server notices by itself that its client has gone.
    fn cancel(self: Box<Self>) {
        let Self { runtime, options, client: PostgresClient { connection, process, .. } } = *self;
        at_last(&runtime, async {
            let mut second = PgConnection::connect_with(&options).await?;
            let cancel = format!("select pg_cancel_backend({process})");
            second.execute(sqlx::raw_sql(AssertSqlSafe(cancel))).await?;
            second.close().await
        });
        drop(connection);
    }
}
