//! Destinations: where published files live.
//!
//! Publishing, guards and recalling know files only by name; the destination knows what a name stands for. [`Folder`]
//! writes to local folders. [`ServedFiles`] keeps files where they are served from. [`InMemory`] is for tests and can be told to fail at any operation.
//!
//! A name is a plain file name beside the main file, `site:NAME` for a file in the web root if sitemaps are written
//! elsewhere, `data:PATH` for a file that the site's own templates include, or [`ROBOTS`].

mod names;
mod folder;
mod memory;
mod served;

use std::any::Any;
use std::io::{self, Write};

pub use self::folder::Folder;
pub use self::memory::InMemory;
pub use self::names::{FOLDED_DAYS, Gzip, MAIN, MainFile, Names};
pub use self::served::{ServedFile, ServedFiles, ServedReader};
use crate::error::StoreError;
use crate::model::{OnDisk, Version};

/// The name of the robots.txt of the site's host.
pub const ROBOTS: &str = "robots:";

/// The name of a file in the web root, wherever sitemaps are written.
pub fn of_web_root(name: &str) -> String {
    format!("site:{name}")
}

/// Where published files live. Each file appears whole or not at all.
pub trait Destination: Send + Sync {
    /// Begins a file, which becomes visible only when it is put.
    ///
    /// # Errors
    ///
    /// Returns an error if there is no room or no permission.
    fn begin(&self, name: &str) -> Result<Draft, StoreError>;

    /// The bytes of a file; `None` if it does not exist.
    ///
    /// # Errors
    ///
    /// Returns an error if the file exists but cannot be read.
    fn read(&self, name: &str) -> Result<Option<Vec<u8>>, StoreError>;

    /// The version of a file; `None` if it does not exist.
    ///
    /// # Errors
    ///
    /// As [`Destination::read`].
    fn version(&self, name: &str) -> Result<Option<Version>, StoreError>;

    /// Moves finished files into place, in order. From then on the contents of each survive a crash of the machine, but
    /// perhaps not its name.
    ///
    /// # Errors
    ///
    /// Returns an error if a file cannot be moved into place. Those before it are in place then.
    fn put(&self, drafts: Vec<Draft>) -> Result<Vec<(String, OnDisk)>, StoreError>;

    /// The names of all files beside the main file, in no particular order.
    ///
    /// # Errors
    ///
    /// Returns an error if the folder cannot be read.
    fn list(&self) -> Result<Vec<String>, StoreError>;

    /// Removes a file. It is not an error if it does not exist.
    ///
    /// # Errors
    ///
    /// Returns an error if the file exists but cannot be removed.
    fn remove(&self, name: &str) -> Result<(), StoreError>;

    /// Makes the names of all files that were put survive a crash of the machine.
    ///
    /// # Errors
    ///
    /// Returns an error if the folder cannot be synced.
    fn commit(&self) -> Result<(), StoreError>;

    /// Makes everything that was put and removed visible at once, where that is not so from the beginning. Called when the
    /// ledger knows of it.
    ///
    /// # Errors
    ///
    /// Returns an error if it cannot be made visible. Then the next build puts it again.
    fn publish(&self) -> Result<(), StoreError> {
        Ok(())
    }

    /// Removes files that a killed build began and never put. Only for the holder of the ledger's lock.
    ///
    /// # Errors
    ///
    /// Returns an error if such a file cannot be removed.
    fn sweep(&self) -> Result<(), StoreError>;

    /// Where a file is, for messages.
    fn shown(&self, name: &str) -> String;
}

/// A file that was begun, with a running checksum.
pub struct Draft {
    name: String,
    body: Box<dyn DraftBody>,
    crc: crc32fast::Hasher,
    size: u64,
}

/// The contents of a file that was begun, as its destination stores them.
pub trait DraftBody: Write + Send {
    /// Converts it back for the destination that began it.
    fn into_any(self: Box<Self>) -> Box<dyn Any>;
}

impl Draft {
    /// Begins a file with this name; `body` takes its bytes.
    pub fn new(name: &str, body: Box<dyn DraftBody>) -> Self {
        Self { name: name.to_owned(), body, crc: crc32fast::Hasher::new(), size: 0 }
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The number of bytes written so far.
    pub fn size(&self) -> u64 {
        self.size
    }

    /// Its name, its contents as the destination stores them, and their CRC-32.
    pub fn into_parts(self) -> (String, Box<dyn Any>, u32) {
        (self.name, self.body.into_any(), self.crc.finalize())
    }
}

impl Write for Draft {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.body.write_all(bytes)?;
        self.crc.update(bytes);
        self.size += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.body.flush()
    }
}

/// Writes a small file whole.
///
/// # Errors
///
/// Returns an error if it cannot be written.
pub fn replace(destination: &dyn Destination, name: &str, bytes: &[u8]) -> Result<OnDisk, StoreError> {
    let mut draft = destination.begin(name)?;
    draft.write_all(bytes).map_err(StoreError::io("cannot write", destination.shown(name)))?;
    let put = destination.put(vec![draft])?;
    put.into_iter().next().map(|(_, on_disk)| on_disk).ok_or(StoreError::Stopped)
}

/// Whether a file has the expected contents: not touched since it was written, or touched without a change. A file that
/// cannot be read does not.
pub(crate) fn holds(destination: &dyn Destination, name: &str, wanted: &OnDisk) -> bool {
    match destination.version(name) {
        Ok(Some(version)) if version == wanted.version => true,
        Ok(Some(version)) if version.may_hold_the_same(&wanted.version) => has_bytes(destination, name, wanted),
        _ => false,
    }
}

/// The same, but comparing the bytes: if a killed build may have touched a file, its version proves nothing.
pub(crate) fn has_bytes(destination: &dyn Destination, name: &str, wanted: &OnDisk) -> bool {
    let bytes = destination.read(name);
    bytes.is_ok_and(|bytes| bytes.is_some_and(|bytes| crc32fast::hash(&bytes) == wanted.crc))
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use rstest::rstest;

    use super::*;

    fn folder(path: &Path) -> Folder {
        Folder::new(path.to_owned(), path.to_owned(), Some(path.join("data")), None)
    }

    /// What must hold for every destination.
    #[rstest]
    fn a_file_appears_whole_and_is_known_again(#[values(true, false)] on_disk: bool) {
        let path = tempfile::tempdir().unwrap();
        let (folder, memory) = (folder(path.path()), InMemory::default());
        let destination: &dyn Destination = if on_disk { &folder } else { &memory };
        let mut draft = destination.begin("a.xml").unwrap();
        draft.write_all(b"<urlset>").unwrap();
        assert_eq!((draft.size(), destination.read("a.xml").unwrap()), (8, None));
        let (name, known) = destination.put(vec![draft]).unwrap().pop().unwrap();
        assert_eq!((name.as_str(), known.crc), ("a.xml", crc32fast::hash(b"<urlset>")));
        destination.commit().unwrap();
        assert_eq!(destination.read("a.xml").unwrap().as_deref(), Some(&b"<urlset>"[..]));
        assert!(holds(destination, "a.xml", &known));
        replace(destination, "a.xml", b"<urlset>").unwrap();
        assert!(holds(destination, "a.xml", &known), "touched, but the same");
        replace(destination, "a.xml", b"<urlsex>").unwrap();
        assert!(!holds(destination, "a.xml", &known));
        replace(destination, "data:films/weir.json", b"{}").unwrap();
        let mut names = destination.list().unwrap();
        names.sort_unstable();
        names.retain(|name| name != "data");
        assert_eq!(names, ["a.xml"], "files for templates are not beside the main file");
        for name in ["a.xml", "a.xml", "data:films/weir.json"] {
            destination.remove(name).unwrap();
            assert_eq!(destination.version(name).unwrap(), None);
        }
        assert!(!path.path().join("data/films").exists(), "nothing is left in it");
    }

    #[test]
    fn what_a_killed_build_left_is_swept() {
        let path = tempfile::tempdir().unwrap();
        std::fs::write(path.path().join(".atlas-x7.tmp"), b"half").unwrap();
        std::fs::write(path.path().join("keep.tmp"), b"not ours").unwrap();
        folder(path.path()).sweep().unwrap();
        assert_eq!(folder(path.path()).list().unwrap(), ["keep.tmp"]);
    }

    #[test]
    fn memory_fails_on_request_and_keeps_failing() {
        let memory = InMemory::default();
        replace(&memory, "a.xml", b"1").unwrap();
        memory.fail_after(1);
        assert!(memory.read("a.xml").is_ok());
        assert!(memory.read("a.xml").is_err() && memory.commit().is_err());
        memory.mend();
        assert_eq!(memory.read("a.xml").unwrap().as_deref(), Some(&b"1"[..]));
    }
}
