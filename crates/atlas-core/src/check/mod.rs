//! Inspecting a site's sitemaps the way an engine reads them: files in, findings out.
//!
//! The caller fetches; [`Inspection`] says what to fetch next and what is wrong with what came. Findings of one kind in
//! one file are counted, not listed, so that a broken file of 50,000 URLs is one line to read.

mod codes;
mod files;
mod pages;
mod advice;

pub use self::codes::CODES;
pub use self::files::{FetchResult, FileRequest, FileSeen, Inspection, Report};
