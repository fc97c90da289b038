//! What the ledger remembers, entry by entry, for programs.

use atlas_core::lastmod::Lastmod;
use serde::Serialize;

use super::Ledger;
use crate::error::StoreError;
use crate::model::{NEVER, urls_and_dates_of};
use atlas_core::placement::child_name;

/// A remembered entry. One that stands in files of its own for pictures, videos or news is there once for each.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Exported {
    /// The URL.
    pub url: String,
    /// The sitemap file that it stands in, without `.gz`.
    pub file: String,
    /// The section.
    pub section: String,
    /// Which files of the section: `pages`, `images`, `videos` or `news`.
    #[serde(rename = "strand")]
    pub kind: String,
    /// The date that is written.
    pub lastmod: Option<String>,
    /// The day on which its content was last seen to change.
    pub seen: Option<Lastmod>,
    /// The run in which it last changed; 0 in files of their own, which tell of no changes.
    pub run: u32,
}

/// Gives all remembered entries, file by file in the order in which they stand there.
pub fn export<E: From<StoreError>>(
    ledger: &dyn Ledger,
    mut take: impl FnMut(Exported) -> Result<(), E>,
) -> Result<(), E> {
    let remembered = ledger.remembered()?;
    for (file, segment) in remembered.segments(|_| true) {
        let entries = ledger.entries_of(file.id, segment)?;
        let written = urls_and_dates_of(&ledger.body(file.id, segment.number)?, segment.size)?;
        for (entry, (url, lastmod)) in entries.into_iter().zip(written) {
            take(Exported {
                url,
                file: child_name(&file.section, file.kind, file.number),
                section: file.section.clone(),
                kind: file.kind.to_string(),
                lastmod,
                seen: Some(entry.observed).filter(|day| *day != NEVER).and_then(Lastmod::from_epoch_day),
                run: entry.changed,
            })?;
        }
    }
    Ok(())
}
