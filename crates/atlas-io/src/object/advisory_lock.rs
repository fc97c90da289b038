//! A lease by an advisory lock of PostgreSQL, for stores that heed no conditions. It ends with its connection.

use std::io;
use std::time::{Duration, Instant};

use atlas_core::fingerprint;
use atlas_store::stop::Stop;
use sqlx::{Connection, PgConnection};
use tokio::runtime::Runtime;

use super::lease::{Keep, Lease, NoLease};
use crate::http;

/// How long one statement may take.
const WAIT: Duration = Duration::from_secs(10);
/// How long to wait before the next try.
const GLANCE: Duration = Duration::from_millis(500);

/// A session that holds a lock.
struct AdvisoryLock {
    runtime: Runtime,
    connection: PgConnection,
}

/// Takes the lock of this name in a database.
pub(super) fn take(
    database: &str,
    name: &str,
    wait: Duration,
    stop: &Stop,
    told: &dyn Fn(&str),
) -> Result<Lease, NoLease> {
    let runtime = http::runtime().map_err(NoLease::Failed)?;
    let failed = |error: sqlx::Error| NoLease::Failed(io::Error::other(format!("the database of the lease: {error}")));
    let key = fingerprint::raw(name.as_bytes(), 0) as i64;
    let mut connection = runtime.block_on(PgConnection::connect(database)).map_err(failed)?;
    let (begun, mut is_told) = (Instant::now(), false);
    loop {
        let asked = sqlx::query_scalar("select pg_try_advisory_lock($1)").bind(key);
        let is_ours: bool = runtime.block_on(asked.fetch_one(&mut connection)).map_err(failed)?;
        if is_ours {
            return Ok(Lease::keep(AdvisoryLock { runtime, connection }, stop));
        }
        let other = "another machine";
        if begun.elapsed() >= wait || stop.is_asked() {
            return Err(NoLease::Held(other.to_owned()));
        }
        if !std::mem::replace(&mut is_told, true) {
            told(other);
        }
        std::thread::sleep(GLANCE);
    }
}

impl Keep for AdvisoryLock {
    /// A session that has ended has lost its lock.
    fn renew(&mut self) -> io::Result<bool> {
        let Self { runtime, connection } = self;
        let asked = async { tokio::time::timeout(WAIT, sqlx::query("select 1").execute(connection)).await };
        Ok(runtime.block_on(asked).is_ok_and(|answered| answered.is_ok()))
    }

    fn give_up(&mut self) {
        let Self { runtime, connection } = self;
        // If it cannot be unlocked, the lock ends with the connection.
        let _ = runtime.block_on(sqlx::query("select pg_advisory_unlock_all()").execute(connection));
    }
}
