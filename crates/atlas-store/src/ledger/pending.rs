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
    let due = |run: i64| run > after && run <= until;
    let additions = ledger.additions(after)?;
    let mut pending = Vec::new();
    let remembered = ledger.remembered()?;
    for (file, segment) in remembered.segments(|kind| kind == FileKind::Pages) {
        let entries = ledger.entries_of(file.id, segment)?;
        let told = |changed: u32| all || due(i64::from(changed));
        if !entries.iter().any(|entry| told(entry.changed)) {
            continue;
        }
        let urls = urls_of(&ledger.body(file.id, segment.number)?, segment.size)?;
        let both = entries.iter().zip(urls).filter(|(entry, _)| told(entry.changed));
        pending.extend(both.map(|(entry, url)| {
            let change = if additions.contains(&entry.key) { Change::Added } else { Change::Changed };
            Pending { key: entry.key, url, change }
        }));
    }
    let gone = ledger.tombstones()?.into_iter().filter(|(_, run)| due(*run));
    pending.extend(gone.map(|(gone, _)| Pending { key: gone.key, url: gone.url, change: gone.change }));
    pending.sort_by_key(|one| one.key);
    Ok(pending)
}
