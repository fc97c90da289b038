//! The plain types of what the ledger remembers: entries, files, runs, engines.

mod entry;
mod file;
mod segment;
mod text;
mod run;
mod engine;
mod chunk;
mod memory;
mod fact;
mod untouched;
mod uptake;

pub(crate) use self::chunk::KnownChunks;
pub use self::chunk::{ArchiveName, ChunkShare, Members, RememberedChunk};
pub use self::engine::{Announced, Departure, Pending, SubmittedFile, SubmittedUrl, ToldUrl, Tombstone};
pub use self::entry::{NEVER, RememberedEntry};
pub(crate) use self::entry::{NO_GROUP, UNKNOWN, from_bytes, tag};
pub use self::fact::{DerivedBefore, Fact, LeftOutBefore};
pub use self::file::{ContentCounts, FileDigest, FileRow, OnDisk, OutputRow, OutputRuns, SegmentRow, Version};
pub use self::memory::{Learnt, Memory};
pub use self::run::{AttemptEnd, AttemptRow, RunCounts, RunRow, RunUrls, StartedBy};
pub(crate) use self::segment::KnownEntry;
pub use self::segment::{PackedEntries, Whole};
pub(crate) use self::text::{SegmentText, facts_of, urls_and_dates_of, urls_of};
pub(crate) use self::untouched::Untouched;
pub use self::uptake::{
    ConsoleLook, LookFacts, LookRecord, NumbersRecord, OtherRecord, SitemapFileLook, UptakePart, VisitRecord,
};
