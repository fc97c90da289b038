//! Looking up many remembered entries by key.

use std::collections::{HashMap, HashSet};

use atlas_core::placement::FileKind;

use super::{Ledger, Remembered};
use crate::error::StoreError;
use crate::model::{PackedEntries, RememberedEntry, from_bytes};

/// What is remembered of an entry in one file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Remembrance {
    /// The index of the file in [`Remembered::files`].
    pub file: usize,
    /// The kind of the file.
    pub kind: FileKind,
    /// The entry.
    pub entry: RememberedEntry,
}

/// The fingerprints of what pages say, by key: of those entries whose HTML was read by the current version of the reader
/// ([`Prints::page`](atlas_core::fingerprint::Prints::page)).
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn page_prints(ledger: &dyn Ledger, keys: &HashSet<u128>) -> Result<HashMap<u128, u64>, StoreError> {
    if keys.is_empty() {
        return Ok(HashMap::new());
    }
    let found = lookup(ledger, &ledger.remembered()?, keys)?;
    let print = |all: &[Remembrance]| {
        let read = all.iter().find(|one| one.kind == FileKind::Pages && one.entry.from_page)?;
        Some(read.entry.page)
    };
    Ok(found.iter().filter_map(|(key, all)| Some((*key, print(all)?))).collect())
}

/// Which of these keys are those of listed entries.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn lists(ledger: &dyn Ledger, keys: &HashSet<u128>) -> Result<HashSet<u128>, StoreError> {
    Ok(lookup(ledger, &ledger.remembered()?, keys)?.into_keys().collect())
}

/// Looks up entries by key, in the order of files. However many keys there are, the ledger is read once.
pub(crate) fn lookup(
    ledger: &dyn Ledger,
    remembered: &Remembered,
    keys: &HashSet<u128>,
) -> Result<HashMap<u128, Vec<Remembrance>>, StoreError> {
    let files = remembered.files.iter().enumerate();
    let mut segments = files.flat_map(|(at, file)| file.segments.iter().map(move |segment| (at, file.kind, segment)));
    let mut found: HashMap<u128, Vec<Remembrance>> = HashMap::new();
    ledger.each_segment_entries(&mut |PackedEntries { entries, .. }| {
        let missing = || StoreError::LedgerDamaged("a segment is missing");
        let (file, kind, segment) = segments.next().ok_or_else(missing)?;
        for entry in from_bytes(&entries, segment.count as usize)?.filter(|entry| keys.contains(&entry.key)) {
            found.entry(entry.key).or_default().push(Remembrance { file, kind, entry });
        }
        Ok(())
    })?;
    found.values_mut().for_each(|all| all.sort_by_key(|one| one.file));
    Ok(found)
}
