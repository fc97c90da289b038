//! A destination in memory, for testing what happens if an operation fails.

use std::any::Any;
use std::collections::BTreeMap;
use std::io::{self, Write};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::{Destination, Draft, DraftBody};
use crate::error::StoreError;
use crate::model::{OnDisk, Version};

/// Files in memory. It can be told to fail at any operation, like a machine that is switched off: files that were put
/// before remain.
#[derive(Debug, Clone, Default)]
pub struct InMemory(Arc<Mutex<MemoryState>>);

#[derive(Debug, Default)]
struct MemoryState {
    files: BTreeMap<String, (Version, Vec<u8>)>,
    written: i64,
    /// How many operations succeed before all of them fail.
    left: Option<u64>,
    verbs: u64,
}

/// The bytes of a file that was begun.
struct Bytes(Vec<u8>);

impl InMemory {
    /// Makes every operation fail after this many more.
    pub fn fail_after(&self, verbs: u64) {
        self.state().left = Some(verbs);
    }

    /// Makes operations succeed again.
    pub fn mend(&self) {
        self.state().left = None;
    }

    /// A copy of this destination with the same files.
    #[must_use]
    pub fn copy(&self) -> Self {
        let state = self.state();
        Self(Arc::new(Mutex::new(MemoryState {
            files: state.files.clone(),
            written: state.written,
            ..MemoryState::default()
        })))
    }

    /// The number of operations so far.
    pub fn verbs(&self) -> u64 {
        self.state().verbs
    }

    /// All files, by name.
    pub fn files(&self) -> BTreeMap<String, Vec<u8>> {
        self.state().files.iter().map(|(name, (_, bytes))| (name.clone(), bytes.clone())).collect()
    }

    fn state(&self) -> MutexGuard<'_, MemoryState> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Carries out an operation, unless it is to fail.
    fn verb(&self) -> Result<MutexGuard<'_, MemoryState>, StoreError> {
        let mut state = self.state();
        match &mut state.left {
            Some(0) => return Err(StoreError::io("cannot reach", "memory")(io::Error::other("told to fail"))),
            Some(left) => *left -= 1,
            None => {}
        }
        state.verbs += 1;
        Ok(state)
    }
}

impl Write for Bytes {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl DraftBody for Bytes {
    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

impl Destination for InMemory {
    fn begin(&self, name: &str) -> Result<Draft, StoreError> {
        drop(self.verb()?);
        Ok(Draft::new(name, Box::new(Bytes(Vec::new()))))
    }

    fn read(&self, name: &str) -> Result<Option<Vec<u8>>, StoreError> {
        Ok(self.verb()?.files.get(name).map(|(_, bytes)| bytes.clone()))
    }

    fn version(&self, name: &str) -> Result<Option<Version>, StoreError> {
        Ok(self.verb()?.files.get(name).map(|(version, _)| *version))
    }

    /// Each file is an operation of its own, because a stop may come between any two.
    fn put(&self, drafts: Vec<Draft>) -> Result<Vec<(String, OnDisk)>, StoreError> {
        let mut put = Vec::with_capacity(drafts.len());
        for draft in drafts {
            let mut state = self.verb()?;
            let (name, body, crc) = draft.into_parts();
            let Bytes(bytes) = *body.downcast::<Bytes>().map_err(|_| StoreError::Stopped)?;
            state.written += 1;
            let version = Version::new(bytes.len() as u64, state.written);
            state.files.insert(name.clone(), (version, bytes));
            put.push((name, OnDisk { version, crc }));
        }
        Ok(put)
    }

    fn list(&self) -> Result<Vec<String>, StoreError> {
        Ok(self.verb()?.files.keys().filter(|name| !name.contains(':')).cloned().collect())
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        self.verb()?.files.remove(name);
        Ok(())
    }

    fn commit(&self) -> Result<(), StoreError> {
        self.verb().map(drop)
    }

    fn sweep(&self) -> Result<(), StoreError> {
        self.verb().map(drop)
    }

    fn shown(&self, name: &str) -> String {
        name.to_owned()
    }
}
