//! Sources, one kind a file. Each yields contributions; what they have in common stands above them.

pub mod folder;
pub mod oembed;
pub mod html;
#[cfg(feature = "markdown")]
pub mod markdown;
pub mod table;
pub mod sql;
#[cfg(feature = "feed")]
pub mod feed;
pub mod sitemaps;
pub mod command;
pub mod crawl;

use atlas_store::error::StoreError;

/// Fails a source in words.
pub(crate) fn failed(name: String, why: String) -> StoreError {
    StoreError::Source { name, why }
}
