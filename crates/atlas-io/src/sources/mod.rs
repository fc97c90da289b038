//! The sources, one kind per file. Each yields contributions; what they share is in the modules above them.

pub mod folder;
pub mod oembed;
pub mod html;
#[cfg(feature = "markdown")]
pub mod markdown;
#[cfg(feature = "parquet")]
pub(crate) mod parquet;
pub mod table;
pub mod sql;
#[cfg(feature = "feed")]
pub mod feed;
pub mod sitemaps;
pub mod command;
pub mod crawl;

use atlas_store::error::{Cause, StoreError};

/// The error of a source that failed, with its cause.
pub(crate) fn failed(name: String, why: impl Into<Cause>) -> StoreError {
    StoreError::Source { name, why: why.into() }
}
