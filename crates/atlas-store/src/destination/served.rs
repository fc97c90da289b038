//! A destination without a web root: files are kept in a database beside the ledger, from which they are served.
//!
//! What a build puts is seen by others only when all of it is there, in one step. A build that is killed leaves what was
//! there before.

use std::any::Any;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use rusqlite::{Connection, OpenFlags, OptionalExtension, params};

use super::{Destination, Draft, DraftBody, Folder, ROBOTS};
use crate::error::StoreError;
use crate::model::{OnDisk, Version};

/// The name of the database, in the folder of the ledger.
const DATABASE: &str = "served.db";
/// How long to wait for another process.
const PATIENCE: Duration = Duration::from_secs(10);

/// Files in a database.
pub struct ServedFiles {
    folder: PathBuf,
    /// Where robots.txt is, if it is a file of the site's own.
    robots: Option<Folder>,
    /// Where files for the site's own templates go.
    data: Option<Folder>,
    open: Mutex<Option<Connection>>,
}

/// A file as it is served.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServedFile {
    /// Its name, as destinations know it.
    pub name: String,
    /// Its size in bytes.
    pub size: u64,
    /// CRC-32 of its bytes.
    pub crc: u32,
    /// When it was put, in seconds since 1970.
    pub at: i64,
}

/// Reads the files that were published, while others publish.
pub struct ServedReader(Connection);

impl ServedFiles {
    /// Keeps files in the folder of the ledger; `robots` and `data` are folders for what is not served from there.
    pub fn new(folder: PathBuf, robots: Option<Folder>, data: Option<Folder>) -> Self {
        Self { folder, robots, data, open: Mutex::default() }
    }

    fn elsewhere(&self, name: &str) -> Option<&Folder> {
        match name {
            ROBOTS => self.robots.as_ref(),
            name if name.starts_with("data:") => self.data.as_ref(),
            _ => None,
        }
    }

    /// The open database; `None` if there is none yet and it is not to be made.
    fn database(&self, make: bool) -> Result<MutexGuard<'_, Option<Connection>>, StoreError> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        if open.is_none() && (make || self.folder.join(DATABASE).is_file()) {
            fs::create_dir_all(&self.folder).map_err(StoreError::io("cannot make", &self.folder))?;
            let connection = Connection::open(self.folder.join(DATABASE))?;
            connection.busy_timeout(PATIENCE)?;
            // Readers see the state before, and are never held up.
            connection.pragma_update(None, "journal_mode", "wal")?;
            connection.execute_batch(
                "create table if not exists file (
                    name text primary key, bytes blob not null, crc integer not null, mark integer not null, at integer not null
                )",
            )?;
            *open = Some(connection);
        }
        Ok(open)
    }

    /// Looks something up. Where nothing was ever put, there is nothing.
    fn look<T: Default>(&self, work: impl FnOnce(&Connection) -> Result<T, StoreError>) -> Result<T, StoreError> {
        self.database(false)?.as_ref().map_or_else(|| Ok(T::default()), work)
    }

    /// Changes something, within the transaction that ends when all is published.
    fn change<T>(&self, work: impl FnOnce(&Connection) -> Result<T, StoreError>) -> Result<T, StoreError> {
        let open = self.database(true)?;
        let connection = open.as_ref().ok_or(StoreError::Stopped)?;
        if connection.is_autocommit() {
            connection.execute_batch("begin immediate")?;
        }
        work(connection)
    }
}

/// The bytes of a file that was begun.
struct ServedDraft(Vec<u8>);

impl Write for ServedDraft {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl DraftBody for ServedDraft {
    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

impl Destination for ServedFiles {
    fn begin(&self, name: &str) -> Result<Draft, StoreError> {
        match self.elsewhere(name) {
            Some(folder) => folder.begin(name),
            None => Ok(Draft::new(name, Box::new(ServedDraft(Vec::new())))),
        }
    }

    fn read(&self, name: &str) -> Result<Option<Vec<u8>>, StoreError> {
        if let Some(folder) = self.elsewhere(name) {
            return folder.read(name);
        }
        self.look(|connection| {
            let mut statement = connection.prepare_cached("select bytes from file where name = ?1")?;
            Ok(statement.query_row([plain(name)], |row| row.get(0)).optional()?)
        })
    }

    fn version(&self, name: &str) -> Result<Option<Version>, StoreError> {
        if let Some(folder) = self.elsewhere(name) {
            return folder.version(name);
        }
        self.look(|connection| {
            let mut statement = connection.prepare_cached("select length(bytes), mark from file where name = ?1")?;
            let version =
                |row: &rusqlite::Row<'_>| Ok(Version::new(row.get::<_, i64>(0)?.cast_unsigned(), row.get(1)?));
            Ok(statement.query_row([plain(name)], version).optional()?)
        })
    }

    fn put(&self, drafts: Vec<Draft>) -> Result<Vec<(String, OnDisk)>, StoreError> {
        let mut put = Vec::with_capacity(drafts.len());
        for draft in drafts {
            if let Some(folder) = self.elsewhere(draft.name()) {
                put.extend(folder.put(vec![draft])?);
                continue;
            }
            let (name, body, crc) = draft.into_parts();
            let ServedDraft(bytes) = *body.downcast::<ServedDraft>().map_err(|_| StoreError::Stopped)?;
            let at = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs().cast_signed());
            let mark = self.change(|connection| {
                let mark: i64 = connection
                    .prepare_cached("select coalesce(max(mark), 0) + 1 from file")?
                    .query_row([], |row| row.get(0))?;
                connection
                    .prepare_cached("insert or replace into file values (?1, ?2, ?3, ?4, ?5)")?
                    .execute(params![plain(&name), bytes, crc, mark, at])?;
                Ok(mark)
            })?;
            put.push((name, OnDisk { version: Version::new(bytes.len() as u64, mark), crc }));
        }
        Ok(put)
    }

    fn list(&self) -> Result<Vec<String>, StoreError> {
        self.look(|connection| {
            let mut statement = connection.prepare_cached("select name from file")?;
            let names = statement.query_map([], |row| row.get(0))?;
            Ok(names.collect::<Result<_, _>>()?)
        })
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        match self.elsewhere(name) {
            Some(folder) => folder.remove(name),
            None => self.change(|connection| {
                connection.execute("delete from file where name = ?1", [plain(name)])?;
                Ok(())
            }),
        }
    }

    fn commit(&self) -> Result<(), StoreError> {
        [&self.robots, &self.data].into_iter().flatten().try_for_each(Destination::commit)
    }

    fn publish(&self) -> Result<(), StoreError> {
        self.look(|connection| {
            if !connection.is_autocommit() {
                connection.execute_batch("commit")?;
                // The log would grow with every build while someone reads.
                connection.query_row("pragma wal_checkpoint(truncate)", [], |_| Ok(()))?;
            }
            Ok(())
        })
    }

    fn sweep(&self) -> Result<(), StoreError> {
        [&self.robots, &self.data].into_iter().flatten().try_for_each(Destination::sweep)
    }

    fn shown(&self, name: &str) -> String {
        self.elsewhere(name).map_or_else(|| plain(name).to_owned(), |folder| folder.shown(name))
    }
}

/// The name of a file, wherever sitemaps are written: here all are in one place.
fn plain(name: &str) -> &str {
    match name {
        ROBOTS => "robots.txt",
        name => name.strip_prefix("site:").unwrap_or(name),
    }
}

impl ServedReader {
    /// Opens what is published in the folder of a ledger; `None` if nothing ever was.
    ///
    /// # Errors
    ///
    /// Returns an error if it cannot be read.
    pub fn open(folder: &Path) -> Result<Option<Self>, StoreError> {
        let path = folder.join(DATABASE);
        if !path.is_file() {
            return Ok(None);
        }
        // The log of what is being written has to be read, too.
        let connection = Connection::open_with_flags(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        connection.busy_timeout(PATIENCE)?;
        connection.pragma_update(None, "query_only", true)?;
        connection.pragma_update(None, "cache_size", -1024)?;
        Ok(Some(Self(connection)))
    }

    /// A number that differs whenever something else is published.
    ///
    /// # Errors
    ///
    /// Returns an error if the database fails.
    pub fn generation(&self) -> Result<i64, StoreError> {
        Ok(self.0.query_row("pragma data_version", [], |row| row.get(0))?)
    }

    /// All files.
    ///
    /// # Errors
    ///
    /// Returns an error if the database fails.
    pub fn files(&self) -> Result<Vec<ServedFile>, StoreError> {
        let mut statement = self.0.prepare_cached("select name, length(bytes), crc, at from file")?;
        let file = |row: &rusqlite::Row<'_>| {
            let size = row.get::<_, i64>(1)?.cast_unsigned();
            Ok(ServedFile { name: row.get(0)?, size, crc: row.get(2)?, at: row.get(3)? })
        };
        Ok(statement.query_map([], file)?.collect::<Result<_, _>>()?)
    }

    /// The bytes of a file, if it still is the one that was listed.
    ///
    /// # Errors
    ///
    /// Returns an error if the database fails.
    pub fn bytes(&self, file: &ServedFile) -> Result<Option<Vec<u8>>, StoreError> {
        let mut statement = self.0.prepare_cached("select bytes from file where name = ?1 and crc = ?2 and at = ?3")?;
        Ok(statement.query_row(params![file.name, file.crc, file.at], |row| row.get(0)).optional()?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::destination::replace;

    #[test]
    fn what_is_put_is_seen_when_all_of_it_is_there() {
        let folder = tempfile::tempdir().unwrap();
        assert!(ServedReader::open(folder.path()).unwrap().is_none());
        let files = ServedFiles::new(folder.path().to_owned(), None, None);
        assert_eq!((files.list().unwrap(), files.read("sitemap.xml").unwrap()), (Vec::new(), None));
        assert!(ServedReader::open(folder.path()).unwrap().is_none(), "looking makes nothing");
        replace(&files, "atlas-pages-1.xml", b"<urlset/>").unwrap();
        let reader = ServedReader::open(folder.path()).unwrap().unwrap();
        let before = reader.generation().unwrap();
        assert_eq!(reader.files().unwrap(), []);
        let put = replace(&files, "sitemap.xml", b"<sitemapindex/>").unwrap();
        assert_eq!(files.version("sitemap.xml").unwrap(), Some(put.version));
        assert_eq!(reader.files().unwrap(), [], "not before all is there");
        files.publish().unwrap();
        assert_ne!(reader.generation().unwrap(), before);
        let all = reader.files().unwrap();
        assert_eq!(all.len(), 2);
        assert_eq!(reader.bytes(&all[0]).unwrap().unwrap(), b"<urlset/>");
        let changed = ServedFile { crc: 0, ..all[0].clone() };
        assert_eq!(reader.bytes(&changed).unwrap(), None);
    }

    #[test]
    fn a_build_that_is_killed_leaves_what_was_there() {
        let folder = tempfile::tempdir().unwrap();
        let files = ServedFiles::new(folder.path().to_owned(), None, None);
        replace(&files, "sitemap.xml", b"before").unwrap();
        files.publish().unwrap();
        replace(&files, "sitemap.xml", b"half").unwrap();
        drop(files);
        let files = ServedFiles::new(folder.path().to_owned(), None, None);
        assert_eq!(files.read("sitemap.xml").unwrap().unwrap(), b"before");
        files.remove("sitemap.xml").unwrap();
        files.publish().unwrap();
        assert_eq!((files.read("sitemap.xml").unwrap(), files.list().unwrap().len()), (None, 0));
    }
}
