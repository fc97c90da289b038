//! Inspecting a site's sitemaps as an engine reads them: files in, findings out.
//!
//! The caller fetches the files; [`Inspection`] says which file to fetch next and judges what came. Findings of one
//! kind in one file are counted rather than listed, so that a broken file of 50,000 URLs takes one line.

mod codes;
mod files;
mod pages;
mod advice;
mod ownership;

pub use self::codes::CODES;
pub use self::files::{FetchResult, FileRequest, FileSeen, Inspection, Report};
pub use self::ownership::Ownership;
