//! The ledger: what is remembered of entries, runs and announcements.
//!
//! It lives in a folder of its own, never in the web root. An entry is no row: entries are kept by the segment, 240 at a time, as
//! their compressed text (which is also what the sitemap file is made of) and a *lane* of fixed-size facts. So a change of one entry
//! writes some 20 KB, whatever the size of the site. Rows of tables are known by the *chunk*, some dozens that follow one another,
//! so that a build looks only at those near to which something moved.
//!
//! [`Ledger`] is what can be read, theme by theme, and [`Writing`] are changes under way. `sqlite` is the one form that there is:
//! all SQL is there, and another database would be another folder beside it.

mod remembered;
mod sqlite;
mod pending;
mod lookup;
mod export;

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::Path;

use atlas_core::format::Frame;
use atlas_core::placement::{FileKind, Limits};

pub use self::export::{Exported, export};
pub use self::lookup::{Remembrance, lookup};
pub use self::pending::pending;
pub use self::remembered::Remembered;
use crate::disk::segmented_gzip::Segment;
use crate::error::StoreError;
use crate::model::{
    Announced, ContentCounts, Departure, Fact, FileDigest, KnownChunks, Members, Memory, OutputRow, PackedEntries,
    RememberedChunk, RememberedEntry, RunRow, SegmentRow, Tombstone, Whole,
};
use atlas_core::announce::EngineState;

/// The name of the folder, beside the configuration file.
pub const FOLDER: &str = ".idle-atlas";

/// Opens the ledger in `folder` for writing, and makes it where there is none. Fails where another process has it open for writing.
pub fn open(folder: &Path) -> Result<Box<dyn Ledger>, StoreError> {
    Ok(Box::new(sqlite::Sqlite::open(folder)?))
}

/// Opens the ledger in `folder` for reading; `None` where there is none yet.
pub fn open_for_reading(folder: &Path) -> Result<Option<Box<dyn Ledger>>, StoreError> {
    let ledger = sqlite::Sqlite::open_for_reading(folder)?;
    Ok(ledger.map(|ledger| Box::new(ledger) as Box<dyn Ledger>))
}

/// An open ledger.
pub trait Ledger:
    ReadFacts + ReadRuns + ReadFiles + ReadSegments + ReadMemories + ReadChunks + ReadEngines + Send
{
    /// Begins a set of changes that become true all at once, or not at all.
    fn transaction(&mut self) -> Result<Box<dyn Writing + '_>, StoreError>;

    /// Begins to read: until it is dropped, what is read is of one state, and the database is not locked anew for each piece.
    fn snapshot(&self) -> Result<Box<dyn Snapshot + '_>, StoreError>;
}

/// One state of a ledger.
pub trait Snapshot {}

/// Changes under way: dropped without being committed they never were.
pub trait Writing:
    WriteFacts + WriteRuns + WriteFiles + WriteSegments + WriteMemories + WriteChunks + WriteEngines
{
    /// Makes the changes true.
    fn commit(self: Box<Self>) -> Result<(), StoreError>;

    /// Brings to the disk what was written so far, from another thread: else all of it would be waited for at the end.
    fn flusher(&self) -> Box<dyn Fn() + Send>;
}

/// Reads facts about the site as a whole.
pub trait ReadFacts {
    /// The seed of all keys in this ledger: made once, at random.
    fn seed(&self) -> Result<u64, StoreError>;

    /// The provenances of entries, by number, as JSON.
    fn provenances(&self) -> Result<Vec<(u16, String)>, StoreError>;

    /// A fact.
    fn fact(&self, fact: Fact) -> Result<Option<String>, StoreError>;

    /// Sets a fact at once; `None` forgets it.
    fn set_fact(&self, fact: Fact, value: Option<&str>) -> Result<(), StoreError>;
}

/// Writes facts about the site as a whole.
pub trait WriteFacts {
    /// Remembers provenances of entries.
    fn keep_provenances(&self, added: &[(u16, String)]) -> Result<(), StoreError>;

    /// A fact, as it is by now.
    fn fact(&self, fact: Fact) -> Result<Option<String>, StoreError>;

    /// Sets a fact; `None` forgets it.
    fn set_fact(&self, fact: Fact, value: Option<&str>) -> Result<(), StoreError>;
}

/// Reads what each build found and did.
pub trait ReadRuns {
    /// The number of the last run; 0 before the first.
    fn last_run(&self) -> Result<i64, StoreError>;

    /// The last runs, newest first.
    fn runs(&self, most: usize) -> Result<Vec<RunRow>, StoreError>;

    /// One run with its report as JSON.
    fn run(&self, run: i64) -> Result<Option<(RunRow, String)>, StoreError>;
}

/// Writes what a build found and did.
pub trait WriteRuns {
    /// Adds a run.
    fn add_run(&self, row: &RunRow, report: &str) -> Result<(), StoreError>;
}

/// Reads which files there are.
pub trait ReadFiles {
    /// Reads what a build needs, but for the entries.
    fn remembered(&self) -> Result<Remembered, StoreError>;

    /// Whether a build was stopped while it wrote files.
    fn is_planned(&self) -> Result<bool, StoreError>;

    /// Writes down, at once, which files are about to be written.
    fn plan(&mut self, names: &BTreeSet<String>) -> Result<(), StoreError>;
}

/// Writes which files there are.
pub trait WriteFiles {
    /// Opens a file and returns its number in the ledger.
    fn open_file(&self, section: &str, kind: FileKind, number: u32, limits: Limits) -> Result<i64, StoreError>;

    /// Notes what a file holds and may hold.
    fn file_stands(&self, file: i64, limits: Limits, standing: FileDigest) -> Result<(), StoreError>;

    /// Forgets a file and its segments.
    fn drop_file(&self, file: i64) -> Result<(), StoreError>;

    /// Notes the number that the next file of a section's kind of file gets.
    fn set_next_number(&self, section: &str, kind: FileKind, number: u32) -> Result<(), StoreError>;

    /// Notes that the next file of a section's kind of file gets at least this number.
    fn raise_next_number(&self, section: &str, kind: FileKind, number: u32) -> Result<(), StoreError>;

    /// Notes a file in the web root.
    fn set_output(&self, name: &str, output: &OutputRow) -> Result<(), StoreError>;

    /// Forgets a file in the web root.
    fn drop_output(&self, name: &str) -> Result<(), StoreError>;

    /// Notes that everything planned has been done.
    fn plan_is_done(&self) -> Result<(), StoreError>;
}

/// Reads what segments hold.
pub trait ReadSegments {
    /// The compressed text of a segment.
    fn body(&self, file: i64, segment: u32) -> Result<Vec<u8>, StoreError>;

    /// A segment as it is kept, with its text or, where that is at hand, without.
    fn whole(&self, file: i64, segment: u32, with_text: bool) -> Result<Whole, StoreError>;

    /// The entries of a segment.
    fn entries_of(&self, file: i64, segment: &SegmentRow) -> Result<Vec<RememberedEntry>, StoreError>;

    /// What is kept of the entries of all segments besides their texts, in the order of files and segments. What comes of one is
    /// taken, in another thread, while the next is read.
    fn each_segment_entries(
        &self,
        take: &mut (dyn FnMut(PackedEntries) -> Result<(), StoreError> + Send),
    ) -> Result<(), StoreError>;
}

/// Writes what segments hold.
pub trait WriteSegments {
    /// A segment as it is kept, with its text or, where that is at hand, without.
    fn whole(&self, file: i64, segment: u32, with_text: bool) -> Result<Whole, StoreError>;

    /// The compressed text of a segment.
    fn body(&self, file: i64, segment: u32) -> Result<Vec<u8>, StoreError>;

    /// Keeps a segment, in place of the one with its number: the namespaces it needs and what it holds; its text; and what is kept
    /// of its entries, which is their lane and by what their rows are known unread.
    fn keep_segment(
        &self,
        file: i64,
        number: u32,
        holds: (Frame, ContentCounts),
        segment: &Segment,
        entries: (&[u8], &[u8]),
    ) -> Result<(), StoreError>;

    /// Keeps by what the rows of a segment are known unread.
    fn keep_raws(&self, file: i64, number: u32, raws: &[u8]) -> Result<(), StoreError>;

    /// Forgets a segment.
    fn drop_segment(&self, file: i64, number: u32) -> Result<(), StoreError>;
}

/// Reads what was learnt of the files that sources read, so that a file that was not touched is not read again.
pub trait ReadMemories {
    /// What a source remembers, if it learnt it under the same settings; links only where they are wanted.
    fn memory(&self, source: &str, settings: u64, links: bool) -> Result<Memory, StoreError>;
}

/// Writes what was learnt of the files that sources read.
pub trait WriteMemories {
    /// Keeps what a source learnt. Files that it no longer met are forgotten when they are many, once it is through.
    fn remember(&self, source: &str, settings: u64, memory: &Memory) -> Result<(), StoreError>;

    /// Keeps what a source learnt so far, while it is still at it. What was learnt under other settings is forgotten.
    fn learnt(&self, source: &str, settings: u64, memory: &Memory) -> Result<(), StoreError>;
}

/// Reads chunks of rows that need not be looked at as long as they are the same, and whose rows they are.
pub trait ReadChunks {
    /// All chunks that are remembered.
    fn chunks(&self) -> Result<KnownChunks, StoreError>;

    /// Whose rows some chunks hold, by their tags: of each all of them, or only those that are read by every build. Chunks are
    /// named by the number of their members.
    fn tags(&self, chunks: &mut dyn Iterator<Item = (i64, bool)>) -> Result<Vec<u64>, StoreError>;
}

/// Writes chunks of rows.
pub trait WriteChunks {
    /// Forgets all chunks.
    fn forget_chunks(&self) -> Result<(), StoreError>;

    /// Forgets those chunks that are known and did not come, and begins to remember others; `came` are the prints of all that
    /// came.
    fn keep_chunks<'w>(
        &'w self,
        known: &'w KnownChunks,
        came: &HashSet<u64>,
    ) -> Result<Box<dyn KeepChunks + 'w>, StoreError>;
}

/// Remembers chunks, beside those that are remembered already.
pub trait KeepChunks {
    /// Remembers a chunk.
    fn keep(&mut self, print: u64, chunk: RememberedChunk, members: &Members) -> Result<(), StoreError>;

    /// Ends.
    fn done(self: Box<Self>) -> Result<(), StoreError>;
}

/// Reads what engines have been told, and what they have still to be told.
///
/// Nothing is queued: an entry carries the run in which it last changed, an engine carries the run up to which it knows, and what
/// it has to be told follows from the two. While many messages are under way, the cursor says how far in the order of keys the
/// engine has come, so that a stop at any instant repeats at most one message.
pub trait ReadEngines {
    /// How far an engine has been told; `None` for one that was never told anything.
    fn engine(&self, name: &str) -> Result<Option<EngineState>, StoreError>;

    /// What entries were like when they left, of those that left since an engine was told anything; by key.
    fn departures(&self) -> Result<HashMap<u128, Departure>, StoreError>;

    /// The last announcements, newest first.
    fn announcements(&self, most: usize) -> Result<Vec<Announced>, StoreError>;

    /// The keys of entries that came in after a run.
    fn additions(&self, after: i64) -> Result<HashSet<u128>, StoreError>;

    /// Entries that are gone and that some engine may not know of, each with the run in which it left.
    fn tombstones(&self) -> Result<Vec<(Tombstone, i64)>, StoreError>;
}

/// Writes what engines have been told.
pub trait WriteEngines {
    /// Notes how far an engine has been told.
    fn set_engine(&self, name: &str, state: &EngineState) -> Result<(), StoreError>;

    /// Writes an announcement down.
    fn add_announcement(&self, announced: &Announced) -> Result<(), StoreError>;

    /// Notes that an entry is gone in this run.
    fn bury(&self, tombstone: &Tombstone, run: i64) -> Result<(), StoreError>;

    /// Notes what an entry was like that leaves in this run.
    fn depart(&self, key: u128, departure: Departure, run: i64) -> Result<(), StoreError>;

    /// Notes that entries came in with a run; `news` are those that engines are told of as added.
    fn arrive(&self, keys: &[u128], news: &[u128], run: i64) -> Result<(), StoreError>;

    /// Forgets what every engine knows.
    fn forget_what_is_known(&self) -> Result<(), StoreError>;
}
