//! Exporting what the ledger remembers, entry by entry.

use atlas_core::lastmod::Lastmod;
use serde::Serialize;

use super::Ledger;
use crate::error::StoreError;
use crate::model::{NEVER, urls_and_dates_of};
use atlas_core::placement::child_name;

/// A remembered entry. If its pictures, videos or news are in files of their own, it occurs once for each file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Exported {
    /// The URL.
    pub url: String,
    /// The sitemap file that contains it, without `.gz`.
    pub file: String,
    /// The section.
    pub section: String,
    /// The kind of that file: `pages`, `images`, `videos` or `news`.
    #[serde(rename = "strand")]
    pub kind: String,
    /// The date that is written.
    pub lastmod: Option<String>,
    /// The day on which its content was last seen to change.
    pub seen: Option<Lastmod>,
    /// The run in which it last changed; 0 for files of pictures, videos or news, whose changes are not announced.
    pub run: u32,
}

/// Passes on all remembered entries, file by file and in the order within each file.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read, or the first error of `take`.
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
