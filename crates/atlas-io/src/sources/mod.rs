//! The sources, one kind per file. Each yields contributions; what they share is in the modules above them.

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

/// The error of a source that failed, in words.
pub(crate) fn failed(name: String, why: String) -> StoreError {
    StoreError::Source { name, why }
}
