//! Data that does not fit into memory: it is written to unnamed files, which disappear with the process however it
//! ends.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

/// How many bytes of gathered data a build keeps in memory, unless the job says otherwise.
pub const BUDGET: usize = 240 << 20;

/// A file for data that does not fit into memory.
#[derive(Debug)]
pub(crate) struct SpillFile {
    folder: PathBuf,
    file: Mutex<Option<File>>,
    end: u64,
}

impl SpillFile {
    /// A file in this folder. It is created when something is first written.
    pub(crate) fn new(folder: &Path) -> Self {
        Self { folder: folder.to_owned(), file: Mutex::new(None), end: 0 }
    }

    /// The folder that it is in.
    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    fn file(&self) -> MutexGuard<'_, Option<File>> {
        self.file.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Appends bytes and returns their offset.
    pub(crate) fn put(&mut self, bytes: &[u8]) -> io::Result<u64> {
        let at = self.end;
        let mut slot = self.file();
        let file = match &mut *slot {
            Some(file) => file,
            none => none.insert(tempfile::tempfile_in(&self.folder)?),
        };
        file.seek(SeekFrom::Start(at))?;
        file.write_all(bytes)?;
        drop(slot);
        self.end = at + bytes.len() as u64;
        Ok(at)
    }

    /// Reads bytes back.
    pub(crate) fn get(&self, at: u64, length: usize) -> io::Result<Vec<u8>> {
        let mut bytes = vec![0; length];
        let mut slot = self.file();
        let file = slot.as_mut().ok_or_else(|| io::Error::from(io::ErrorKind::NotFound))?;
        file.seek(SeekFrom::Start(at))?;
        file.read_exact(&mut bytes)?;
        Ok(bytes)
    }
}

/// The number of partitions into which keys are divided.
pub(crate) const PARTITIONS: usize = 256;

/// The size of a record in bytes.
pub(crate) const RECORD: usize = 40;

/// A record of a fixed size that has a key.
pub(crate) trait SpillRecord: Copy + Send + Sync {
    /// The key.
    fn key(&self) -> u128;

    /// The record as bytes.
    fn pack(&self) -> [u8; RECORD];

    /// The inverse of [`SpillRecord::pack`].
    fn unpack(bytes: &[u8; RECORD]) -> Self;
}

/// Records divided into partitions by key. Records over the memory budget are written to disk.
#[derive(Debug)]
pub(crate) struct Partitions<R> {
    parts: Vec<Vec<R>>,
    held: usize,
    budget: usize,
    /// The runs on disk: where each begins, and the number of records before each partition in it.
    runs: Vec<(u64, Vec<u32>)>,
    spilled: SpillFile,
}

impl<R> Default for Partitions<R> {
    /// Empty, and to stay so.
    fn default() -> Self {
        Self {
            parts: (0..PARTITIONS).map(|_| Vec::new()).collect(),
            held: 0,
            budget: usize::MAX,
            runs: Vec::new(),
            spilled: SpillFile::new(Path::new("")),
        }
    }
}

impl<R: SpillRecord> Partitions<R> {
    /// An empty set of partitions. Records that do not fit into a fifth of the memory are written to `folder`.
    pub(crate) fn new(folder: &Path, memory: usize) -> Self {
        Self { budget: memory / 5 / RECORD, spilled: SpillFile::new(folder), ..Self::default() }
    }

    /// Adds a record.
    pub(crate) fn push(&mut self, record: R) -> io::Result<()> {
        self.parts[(record.key() >> 120) as usize].push(record);
        self.held += 1;
        if self.held < self.budget { Ok(()) } else { self.spill() }
    }

    fn spill(&mut self) -> io::Result<()> {
        let mut starts = vec![0];
        let mut bytes = Vec::with_capacity(1 << 20);
        let mut run = None;
        let mut before = 0u32;
        for part in &mut self.parts {
            part.iter().for_each(|record| bytes.extend_from_slice(&record.pack()));
            before += part.len() as u32;
            starts.push(before);
            part.clear();
            if bytes.len() >= 1 << 20 {
                let at = self.spilled.put(&bytes)?;
                run.get_or_insert(at);
                bytes.clear();
            }
        }
        let at = self.spilled.put(&bytes)?;
        self.runs.push((run.unwrap_or(at), starts));
        self.held = 0;
        Ok(())
    }

    /// All records of a partition, in no particular order.
    pub(crate) fn part(&self, part: usize) -> io::Result<Vec<R>> {
        let mut all = self.parts[part].clone();
        for (at, starts) in &self.runs {
            let (first, end) = (starts[part] as usize, starts[part + 1] as usize);
            let bytes = self.spilled.get(at + (first * RECORD) as u64, (end - first) * RECORD)?;
            all.extend(bytes.as_chunks().0.iter().map(R::unpack));
        }
        Ok(all)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
    struct NumberedRecord(u128, u64);

    impl SpillRecord for NumberedRecord {
        fn key(&self) -> u128 {
            self.0
        }

        fn pack(&self) -> [u8; RECORD] {
            let mut bytes = [0; RECORD];
            bytes[..16].copy_from_slice(&self.0.to_le_bytes());
            bytes[16..24].copy_from_slice(&self.1.to_le_bytes());
            bytes
        }

        fn unpack(bytes: &[u8; RECORD]) -> Self {
            let part = |at: usize| std::array::from_fn(|byte| bytes[at + byte]);
            let number: [u8; 8] = std::array::from_fn(|byte| bytes[16 + byte]);
            Self(u128::from_le_bytes(part(0)), u64::from_le_bytes(number))
        }
    }

    #[test]
    fn records_are_read_back_by_partition() {
        let folder = tempfile::tempdir().unwrap();
        let mut partitions = Partitions::new(folder.path(), 1000 * 5 * RECORD);
        let records = (0..3500u64).map(|number| {
            NumberedRecord(u128::from(number).wrapping_mul(0x9e37_79b9_7f4a_7c15_f39c_c060_5ced_c835), number)
        });
        let records: Vec<NumberedRecord> = records.collect();
        records.iter().for_each(|record| partitions.push(*record).unwrap());
        assert_eq!(partitions.runs.len(), 3);
        let mut found: Vec<NumberedRecord> = Vec::new();
        for part in 0..PARTITIONS {
            let some = partitions.part(part).unwrap();
            assert!(some.iter().all(|record| (record.0 >> 120) as usize == part));
            found.extend(some);
        }
        found.sort_by_key(|record| record.1);
        assert_eq!(found, records);
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0, "nothing to clear away");
    }

    #[test]
    fn a_folder_that_cannot_be_written_is_an_error() {
        let mut spilled = SpillFile::new(Path::new("/nonexistent"));
        assert!(spilled.put(b"lamp").is_err());
        assert!(spilled.get(0, 1).is_err());
    }
}
