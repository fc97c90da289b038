//! The ledger in SQLite, an embedded database in a folder of its own.

mod error;
mod schema;
mod segments;
mod files;
mod runs;
mod pages;
mod chunks;
mod engines;
mod answers;
mod submitted;
mod uptake;

use std::cell::RefCell;
use std::fs::{self, File, TryLockError};
use std::hash::{BuildHasher, Hasher, RandomState};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags, OptionalExtension, Transaction, params};

use super::{AfterCommit, AfterCommitFn, Ledger, ReadFacts, Snapshot, WriteFacts, Writing};
use crate::disk::bring;
use crate::error::StoreError;
use crate::model::{DerivedBefore, Fact, LeftOutBefore};

/// How much of the database is kept in memory while writing.
const CACHE_KIB: i64 = 4 * 1024;

/// An open ledger.
pub(super) struct Sqlite {
    connection: Connection,
    /// What is told of every commit.
    after_commit: Option<AfterCommit>,
    /// The lock, held while a command writes. The system releases it when the process ends, however it ends.
    _lock: Option<File>,
}

impl Sqlite {
    /// Opens the ledger in `folder` for writing, and creates it if it does not exist. Fails if another process has it
    /// open for writing.
    pub(super) fn open(folder: &Path) -> Result<Self, StoreError> {
        fs::create_dir_all(folder).map_err(StoreError::io("cannot make", folder))?;
        let lock_path = folder.join("lock");
        let lock = File::create(&lock_path).map_err(StoreError::io("cannot write", &lock_path))?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => return Err(StoreError::Busy { path: lock_path }),
            Err(TryLockError::Error(error)) => return Err(StoreError::io("cannot lock", &lock_path)(error)),
        }
        let path = database(folder);
        let connection = set_up(Connection::open(&path)?)?;
        schema::prepare(&connection, &path)?;
        connection.pragma_update(None, "cache_size", -CACHE_KIB)?;
        Ok(Self { connection, after_commit: None, _lock: Some(lock) })
    }

    /// Opens the ledger in `folder` for reading; `None` if it does not exist.
    pub(super) fn open_for_reading(folder: &Path) -> Result<Option<Self>, StoreError> {
        let path = database(folder);
        if !path.exists() {
            return Ok(None);
        }
        let connection = set_up(Connection::open_with_flags(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?)?;
        schema::check(&connection, &path)?;
        Ok(Some(Self { connection, after_commit: None, _lock: None }))
    }
}

pub(super) fn database(folder: &Path) -> PathBuf {
    folder.join("ledger.db")
}

impl Ledger for Sqlite {
    fn transaction(&mut self) -> Result<Box<dyn Writing + '_>, StoreError> {
        let Self { connection, after_commit, .. } = self;
        let after_commit = after_commit.as_deref();
        Ok(Box::new(Changing { inner: connection.transaction()?, outgrown: RefCell::default(), after_commit }))
    }

    fn after_commit(&mut self, told: AfterCommit) {
        self.after_commit = Some(told);
    }

    fn last_answer(&self) -> Result<i64, StoreError> {
        answers::last(&self.connection)
    }

    fn answers_after(&self, announcement: i64) -> Result<Vec<u8>, StoreError> {
        answers::export(&self.connection, announcement)
    }

    fn take_answers(&mut self, answers: &[u8]) -> Result<(), StoreError> {
        answers::import(&mut self.connection, answers)
    }

    fn snapshot(&self) -> Result<Box<dyn Snapshot + '_>, StoreError> {
        Ok(Box::new(self.connection.unchecked_transaction()?))
    }
}

impl Snapshot for Transaction<'_> {}

impl ReadFacts for Sqlite {
    fn seed(&self) -> Result<u64, StoreError> {
        if let Some(seed) = self.fact(Fact::Seed)?.and_then(|text| text.parse().ok()) {
            return Ok(seed);
        }
        let seed = RandomState::new().build_hasher().finish();
        set_fact(&self.connection, Fact::Seed, Some(&seed.to_string()))?;
        Ok(seed)
    }

    fn provenances(&self) -> Result<Vec<(u16, String)>, StoreError> {
        let mut statement = self.connection.prepare("select number, mappings from provenance order by number")?;
        let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    fn fact(&self, fact: Fact) -> Result<Option<String>, StoreError> {
        read_fact(&self.connection, fact)
    }

    fn set_fact(&self, fact: Fact, value: Option<&str>) -> Result<(), StoreError> {
        set_fact(&self.connection, fact, value)
    }

    fn left_out(&self) -> Result<LeftOutBefore, StoreError> {
        read_left_out(&self.connection)
    }

    fn derived(&self) -> Result<DerivedBefore, StoreError> {
        let mut statement = self.connection.prepare_cached("select rows, translations from derived")?;
        let read = |row: &rusqlite::Row<'_>| Ok(DerivedBefore { rows: row.get(0)?, groups: row.get(1)? });
        Ok(statement.query_row([], read).optional()?.unwrap_or_default())
    }
}

/// Settings of every connection, for writing or reading.
fn set_up(connection: Connection) -> Result<Connection, StoreError> {
    connection.busy_timeout(Duration::from_secs(10))?;
    // Statements are planned once, not again for each value.
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
    Ok(connection)
}

fn read_left_out(connection: &Connection) -> Result<LeftOutBefore, StoreError> {
    let mut statement = connection.prepare_cached("select entries from left_out")?;
    Ok(statement.query_row([], |row| row.get(0).map(LeftOutBefore)).optional()?.unwrap_or_default())
}

fn read_fact(connection: &Connection, fact: Fact) -> Result<Option<String>, StoreError> {
    let mut statement = connection.prepare_cached("select value from fact where name = ?1")?;
    Ok(statement.query_row([fact.as_str()], |row| row.get(0)).optional()?)
}

fn set_fact(connection: &Connection, fact: Fact, value: Option<&str>) -> Result<(), StoreError> {
    match value {
        Some(value) => {
            connection.execute("insert or replace into fact values (?1, ?2)", params![fact.as_str(), value])?
        }
        None => connection.execute("delete from fact where name = ?1", [fact.as_str()])?,
    };
    Ok(())
}

/// A transaction. If it is dropped without a commit, nothing has changed.
struct Changing<'l> {
    inner: Transaction<'l>,
    after_commit: Option<&'l AfterCommitFn>,
    /// Contents that no segment has any more, to be deleted at the end.
    outgrown: RefCell<Vec<i64>>,
}

impl Writing for Changing<'_> {
    fn commit(self: Box<Self>) -> Result<(), StoreError> {
        self.forget_outgrown()?;
        let Self { inner, after_commit, .. } = *self;
        inner.commit()?;
        after_commit.map_or(Ok(()), |told| told())
    }

    fn flusher(&self) -> Box<dyn Fn() + Send> {
        let path = self.inner.path().map(PathBuf::from).unwrap_or_default();
        Box::new(move || bring(&path))
    }
}

impl WriteFacts for Changing<'_> {
    fn keep_provenances(&self, added: &[(u16, String)]) -> Result<(), StoreError> {
        let mut statement = self.inner.prepare_cached("insert into provenance (number, mappings) values (?1, ?2)")?;
        added.iter().try_for_each(|(number, mappings)| statement.execute(params![number, mappings]).map(drop))?;
        Ok(())
    }

    fn keep_left_out(&self, left_out: &LeftOutBefore) -> Result<(), StoreError> {
        if read_left_out(&self.inner)? != *left_out {
            self.inner.execute("delete from left_out", [])?;
            self.inner.execute("insert into left_out values (?1)", [&left_out.0])?;
        }
        Ok(())
    }

    fn keep_derived(&self, derived: &DerivedBefore) -> Result<(), StoreError> {
        self.inner.execute("delete from derived", [])?;
        self.inner.execute("insert into derived values (?1, ?2)", params![derived.rows, derived.groups])?;
        Ok(())
    }

    fn fact(&self, fact: Fact) -> Result<Option<String>, StoreError> {
        read_fact(&self.inner, fact)
    }

    fn set_fact(&self, fact: Fact, value: Option<&str>) -> Result<(), StoreError> {
        set_fact(&self.inner, fact, value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_writer_at_a_time_and_facts_stay() {
        let folder = tempfile::tempdir().unwrap();
        assert!(Sqlite::open_for_reading(folder.path()).unwrap().is_none());
        let ledger = Sqlite::open(folder.path()).unwrap();
        let seed = ledger.seed().unwrap();
        assert!(matches!(Sqlite::open(folder.path()), Err(StoreError::Busy { .. })));
        drop(ledger);
        let mut ledger = Sqlite::open(folder.path()).unwrap();
        assert_eq!(ledger.seed().unwrap(), seed);
        ledger.transaction().unwrap().set_fact(Fact::MainFile, Some("index")).unwrap();
        assert_eq!(ledger.fact(Fact::MainFile).unwrap(), None, "not committed");
        let writing = ledger.transaction().unwrap();
        writing.set_fact(Fact::MainFile, Some("index")).unwrap();
        writing.commit().unwrap();
        assert_eq!(ledger.fact(Fact::MainFile).unwrap().as_deref(), Some("index"));
    }

    #[test]
    fn unknown_and_broken_ledgers_are_refused_with_a_reason() {
        let folder = tempfile::tempdir().unwrap();
        drop(Sqlite::open(folder.path()).unwrap());
        let path = database(folder.path());
        Connection::open(&path).unwrap().pragma_update(None, "user_version", 99).unwrap();
        let message = Sqlite::open(folder.path()).err().unwrap().to_string();
        assert!(message.contains("another version of Idle Atlas (format 99,"), "{message}");
        assert!(message.contains("move that folder away and build again"), "{message}");
        fs::write(&path, vec![b'x'; 5000]).unwrap();
        let message = Sqlite::open(folder.path()).err().unwrap().to_string();
        assert!(message.contains("ledger"), "{message}");
    }
}
