//! What engines have still to be told.

use atlas_core::placement::FileKind;

use super::Ledger;
use crate::error::StoreError;
use crate::model::{Pending, urls_of};
use atlas_core::announce::Change;

/// All URLs that changed after run `after`, up to and including run `until`, sorted by key. With `all`, every entry,
/// changed or not.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn pending(ledger: &dyn Ledger, after: i64, until: i64, all: bool) -> Result<Vec<Pending>, StoreError> {
    let mut pending = Vec::new();
    each_pending(ledger, after, until, all, &mut |one| pending.push(one))?;
    pending.sort_unstable_by_key(|one| one.key);
    Ok(pending)
}

/// Passes on the same URLs, in no particular order.
///
/// # Errors
///
/// As [`pending`].
pub fn each_pending(
    ledger: &dyn Ledger,
    after: i64,
    until: i64,
    all: bool,
    take: &mut dyn FnMut(Pending),
) -> Result<(), StoreError> {
    let due = |run: i64| run > after && run <= until;
    let additions = ledger.additions(after)?;
    let remembered = ledger.remembered()?;
    for (file, segment) in remembered.segments(|kind| kind == FileKind::Pages) {
        let entries = ledger.entries_of(file.id, segment)?;
        let told = |changed: u32| all || due(i64::from(changed));
        if !entries.iter().any(|entry| told(entry.changed)) {
            continue;
        }
        let urls = urls_of(&ledger.body(file.id, segment.number)?, segment.size)?;
        for (entry, url) in entries.iter().zip(urls).filter(|(entry, _)| told(entry.changed)) {
            let change = if additions.contains(&entry.key) { Change::Added } else { Change::Changed };
            take(Pending { key: entry.key, url, change });
        }
    }
    for (gone, _) in ledger.tombstones()?.into_iter().filter(|(_, run)| due(*run)) {
        if let Some(change) = gone.change {
            take(Pending { key: gone.key, url: gone.url, change });
        }
    }
    Ok(())
}
