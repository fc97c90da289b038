//! The ledger: the embedded database that remembers entries, runs and announcements.
//!
//! It lives in a folder of its own, `.idle-atlas`, never in the web root. An entry is no row: entries are kept by the
//! segment, 240 at a time, as their compressed text (which is also what the sitemap file is made of) and a *lane* of
//! fixed-size facts. So a change of one entry writes some 20 KB, whatever the size of the site. Rows of tables are known by the
//! *stretch*, some dozens that follow one another, so that a build looks only at those near to which something moved.

mod export;
mod files;
mod interest;
mod pages;
mod runs;
mod schema;
mod segments;
mod stretches;
mod telling;

use std::cell::RefCell;
use std::fs::{self, File, TryLockError};
use std::hash::{BuildHasher, Hasher, RandomState};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags, OptionalExtension, Transaction, params};

use crate::error::StoreError;

pub use export::Exported;
pub use files::Remembered;
pub(crate) use interest::{Interest, Untouched};

/// The name of the folder, beside the configuration file.
pub const FOLDER: &str = ".idle-atlas";

/// How much of the database is held in memory while writing.
const CACHE_KIB: i64 = 4 * 1024;

/// An open ledger.
#[derive(Debug)]
pub struct Ledger {
    connection: Connection,
    folder: PathBuf,
    /// Held while a command writes; released by the system when the process ends, however it ends.
    _lock: Option<File>,
}

impl Ledger {
    /// Opens the ledger in `folder` for writing, and makes it where there is none. Fails where another process has it open
    /// for writing.
    pub fn open(folder: &Path) -> Result<Self, StoreError> {
        fs::create_dir_all(folder).map_err(StoreError::io("cannot make", folder))?;
        let lock_path = folder.join("lock");
        let lock = File::create(&lock_path).map_err(StoreError::io("cannot write", &lock_path))?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => return Err(StoreError::Busy { path: lock_path }),
            Err(TryLockError::Error(error)) => return Err(StoreError::io("cannot lock", &lock_path)(error)),
        }
        let path = Self::database(folder);
        let connection = set_up(Connection::open(&path)?)?;
        schema::prepare(&connection, &path)?;
        connection.pragma_update(None, "cache_size", -CACHE_KIB)?;
        Ok(Self { connection, folder: folder.to_owned(), _lock: Some(lock) })
    }

    /// Opens the ledger in `folder` for reading; `None` where there is none yet.
    pub fn open_for_reading(folder: &Path) -> Result<Option<Self>, StoreError> {
        let path = Self::database(folder);
        if !path.exists() {
            return Ok(None);
        }
        let connection = set_up(Connection::open_with_flags(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?)?;
        schema::check(&connection, &path)?;
        Ok(Some(Self { connection, folder: folder.to_owned(), _lock: None }))
    }

    fn database(folder: &Path) -> PathBuf {
        folder.join("ledger.db")
    }

    fn path(&self) -> PathBuf {
        Self::database(&self.folder)
    }

    /// The folder it lives in.
    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    /// Begins a set of changes that become true all at once, or not at all.
    pub fn transaction(&mut self) -> Result<Writing<'_>, StoreError> {
        Ok(Writing { inner: self.connection.transaction()?, outgrown: RefCell::default() })
    }

    /// Begins to read: until it is dropped, what is read is of one state, and the database is not locked anew for each piece.
    pub(crate) fn reading(&self) -> Result<Transaction<'_>, StoreError> {
        Ok(self.connection.unchecked_transaction()?)
    }

    /// The seed of all keys in this ledger: made once, at random.
    pub fn seed(&self) -> Result<u64, StoreError> {
        if let Some(seed) = self.fact("seed")?.and_then(|text| text.parse().ok()) {
            return Ok(seed);
        }
        let seed = RandomState::new().build_hasher().finish();
        set_fact(&self.connection, "seed", Some(&seed.to_string()))?;
        Ok(seed)
    }

    /// The provenances of entries, by number, as JSON.
    pub(crate) fn provenances(&self) -> Result<Vec<(u16, String)>, StoreError> {
        let mut statement = self.connection.prepare("select number, mappings from provenance order by number")?;
        let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// A fact about the site as a whole.
    pub fn fact(&self, name: &str) -> Result<Option<String>, StoreError> {
        fact(&self.connection, name)
    }

    /// Sets a fact at once; `None` forgets it.
    pub fn set_fact(&self, name: &str, value: Option<&str>) -> Result<(), StoreError> {
        set_fact(&self.connection, name, value)
    }
}

/// What holds of a connection whether it writes or reads.
fn set_up(connection: Connection) -> Result<Connection, StoreError> {
    connection.busy_timeout(Duration::from_secs(10))?;
    // Statements are planned once, not anew for each value that they are given.
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
    Ok(connection)
}

fn fact(connection: &Connection, name: &str) -> Result<Option<String>, StoreError> {
    let mut statement = connection.prepare_cached("select value from fact where name = ?1")?;
    Ok(statement.query_row([name], |row| row.get(0)).optional()?)
}

fn set_fact(connection: &Connection, name: &str, value: Option<&str>) -> Result<(), StoreError> {
    match value {
        Some(value) => connection.execute("insert or replace into fact values (?1, ?2)", params![name, value])?,
        None => connection.execute("delete from fact where name = ?1", [name])?,
    };
    Ok(())
}

/// Changes under way: dropped without [`Writing::commit`] they never were.
#[derive(Debug)]
pub struct Writing<'l> {
    inner: Transaction<'l>,
    /// Contents that no segment has any more, to be forgotten at the end.
    outgrown: RefCell<Vec<i64>>,
}

impl Writing<'_> {
    /// Remembers provenances of entries.
    pub(crate) fn keep_provenances(&self, added: &[(u16, String)]) -> Result<(), StoreError> {
        let mut statement = self.inner.prepare_cached("insert into provenance (number, mappings) values (?1, ?2)")?;
        added.iter().try_for_each(|(number, mappings)| statement.execute(params![number, mappings]).map(drop))?;
        Ok(())
    }

    /// The database.
    pub(crate) fn path(&self) -> PathBuf {
        self.inner.path().map(PathBuf::from).unwrap_or_default()
    }

    /// Makes the changes true.
    pub fn commit(self) -> Result<(), StoreError> {
        self.forget_outgrown()?;
        Ok(self.inner.commit()?)
    }

    /// A fact about the site as a whole.
    pub fn fact(&self, name: &str) -> Result<Option<String>, StoreError> {
        fact(&self.inner, name)
    }

    /// Sets a fact about the site as a whole; `None` forgets it.
    pub fn set_fact(&self, name: &str, value: Option<&str>) -> Result<(), StoreError> {
        set_fact(&self.inner, name, value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_writer_at_a_time_and_facts_stay() {
        let folder = tempfile::tempdir().unwrap();
        assert!(Ledger::open_for_reading(folder.path()).unwrap().is_none());
        let ledger = Ledger::open(folder.path()).unwrap();
        let seed = ledger.seed().unwrap();
        assert!(matches!(Ledger::open(folder.path()), Err(StoreError::Busy { .. })));
        drop(ledger);
        let mut ledger = Ledger::open(folder.path()).unwrap();
        assert_eq!(ledger.seed().unwrap(), seed);
        ledger.transaction().unwrap().set_fact("form", Some("index")).unwrap();
        assert_eq!(ledger.fact("form").unwrap(), None, "not committed");
        let writing = ledger.transaction().unwrap();
        writing.set_fact("form", Some("index")).unwrap();
        writing.commit().unwrap();
        assert_eq!(ledger.fact("form").unwrap().as_deref(), Some("index"));
    }

    #[test]
    fn a_ledger_of_another_format_or_a_broken_one_is_refused_in_words() {
        let folder = tempfile::tempdir().unwrap();
        drop(Ledger::open(folder.path()).unwrap());
        let path = Ledger::database(folder.path());
        Connection::open(&path).unwrap().pragma_update(None, "user_version", 99).unwrap();
        let message = Ledger::open(folder.path()).unwrap_err().to_string();
        assert!(message.contains("another version of Idle Atlas (format 99,"), "{message}");
        assert!(message.contains("move that folder away and build again"), "{message}");
        fs::write(&path, vec![b'x'; 5000]).unwrap();
        let message = Ledger::open(folder.path()).unwrap_err().to_string();
        assert!(message.contains("ledger"), "{message}");
    }
}
