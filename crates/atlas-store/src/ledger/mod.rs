//! The ledger: what is remembered of entries, runs and announcements.
//!
//! It lives in a folder of its own, never in the web root. Entries are not rows of the database. They are stored in
//! segments of 240, as compressed text (of which the sitemap file is made) and as fixed-size [`RememberedEntry`]s. So
//! changing one entry writes some 20 KB, whatever the size of the site. Rows of tables are recognised by *chunks* of
//! some dozens, so that a build reads only those near a change.
//!
//! [`Ledger`] combines the traits for reading, one for each subject, and [`Writing`] those for changes. The only
//! implementation is `sqlite`, which contains all SQL; another database would be another folder beside it.
//!
//! # Errors
//!
//! Every method of these traits that returns a `Result` fails if the database does, or if it contains something that
//! this program would not have written: [`StoreError::Ledger`], [`StoreError::LedgerDamaged`].

#![allow(clippy::missing_errors_doc, reason = "the same for every method: see the module")]

mod remembered;
mod sqlite;
mod lookup;
mod pending;
mod worth;
mod export;

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::Path;

use atlas_core::format::Frame;
use atlas_core::placement::{FileKind, Limits};

pub use self::export::{Exported, export};
pub(crate) use self::lookup::{Remembrance, lookup};
pub use self::lookup::{lists, page_prints};
pub use self::pending::{ByHand, PendingChanges, chosen, pending};
pub use self::remembered::Remembered;
pub use self::worth::{WorthSubmitting, WorthUrl, worth_submitting};
use crate::disk::segmented_gzip::Segment;
use crate::error::StoreError;
use crate::model::{
    Announced, ArchiveName, AttemptRow, ChunkShare, ConsoleLook, ContentCounts, Departure, DerivedBefore, Fact,
    FileDigest, KnownChunks, LeftOutBefore, LookRecord, Members, Memory, NumbersRecord, OutputRow, OutputRuns,
    PackedEntries, RememberedChunk, RememberedEntry, RunRow, RunUrls, SegmentRow, SubmittedFile, SubmittedUrl, ToldUrl,
    Tombstone, UptakePart, Whole,
};
use atlas_core::announce::EngineState;
use atlas_core::uptake::export::Subject;

/// The name of its folder, beside the configuration file.
pub const FOLDER: &str = ".idle-atlas";

/// Opens the ledger in `folder` for writing, and creates it if it does not exist.
///
/// # Errors
///
/// Returns [`StoreError::Busy`] if another process has it open for writing, or another error if it cannot be read.
pub fn open(folder: &Path) -> Result<Box<dyn Ledger>, StoreError> {
    Ok(Box::new(sqlite::Sqlite::open(folder)?))
}

/// Opens the ledger in `folder` for reading; `None` if it does not exist.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn open_for_reading(folder: &Path) -> Result<Option<Box<dyn Ledger>>, StoreError> {
    let ledger = sqlite::Sqlite::open_for_reading(folder)?;
    Ok(ledger.map(|ledger| Box::new(ledger) as Box<dyn Ledger>))
}

/// What is told of every commit.
pub type AfterCommitFn = dyn Fn() -> Result<(), StoreError> + Send;
/// The same, owned.
pub type AfterCommit = Box<AfterCommitFn>;

/// The path of the database of the ledger in `folder`: one file, which is whole whenever no transaction is under way.
pub fn database(folder: &Path) -> std::path::PathBuf {
    sqlite::database(folder)
}

/// An open ledger.
pub trait Ledger:
    ReadFacts
    + ReadRuns
    + ReadFiles
    + ReadSegments
    + ReadMemories
    + ReadChunks
    + ReadEngines
    + ReadSubmitted
    + ReadUptake
    + Send
{
    /// Begins a transaction: all of its changes take effect together, or none.
    fn transaction(&mut self) -> Result<Box<dyn Writing + '_>, StoreError>;

    /// Sets what is told of every commit of a transaction from now on. If it fails, the commit has taken place and its
    /// caller gets the error.
    fn after_commit(&mut self, told: AfterCommit);

    /// The number of the last announcement.
    fn last_answer(&self) -> Result<i64, StoreError>;

    /// What engines have answered: how far each has been told, and the announcements after this one. Small, whatever the
    /// size of the site.
    fn answers_after(&self, announcement: i64) -> Result<Vec<u8>, StoreError>;

    /// Takes over answers that came after this ledger was left.
    fn take_answers(&mut self, answers: &[u8]) -> Result<(), StoreError>;

    /// Begins a read transaction: until it is dropped, everything that is read belongs to one state, and the database
    /// is locked only once.
    fn snapshot(&self) -> Result<Box<dyn Snapshot + '_>, StoreError>;
}

/// A read transaction.
pub trait Snapshot {}

/// A transaction. If it is dropped without a commit, nothing has changed.
pub trait Writing:
    WriteFacts
    + WriteRuns
    + WriteFiles
    + WriteSegments
    + WriteMemories
    + WriteChunks
    + WriteEngines
    + WriteSubmitted
    + WriteUptake
{
    /// Makes the changes permanent.
    fn commit(self: Box<Self>) -> Result<(), StoreError>;

    /// Returns a function that syncs what has been written so far, for another thread. Otherwise everything would be
    /// synced at the end.
    fn flusher(&self) -> Box<dyn Fn() + Send>;
}

/// Reads facts about the site as a whole.
pub trait ReadFacts {
    /// The seed of all keys in this ledger, made once at random.
    fn seed(&self) -> Result<u64, StoreError>;

    /// The provenances of entries, by number, as JSON.
    fn provenances(&self) -> Result<Vec<(u16, String)>, StoreError>;

    /// A fact, if it is known.
    fn fact(&self, fact: Fact) -> Result<Option<String>, StoreError>;

    /// Sets a fact immediately; `None` forgets it.
    fn set_fact(&self, fact: Fact, value: Option<&str>) -> Result<(), StoreError>;

    /// What the last build derived from entries, as [`WriteFacts::keep_derived`] got it.
    fn derived(&self) -> Result<DerivedBefore, StoreError>;

    /// Why the last build left entries out.
    fn left_out(&self) -> Result<LeftOutBefore, StoreError>;
}

/// Writes facts about the site as a whole.
pub trait WriteFacts {
    /// Remembers provenances.
    fn keep_provenances(&self, added: &[(u16, String)]) -> Result<(), StoreError>;

    /// Remembers what was derived from entries, in place of what the build before derived.
    fn keep_derived(&self, derived: &DerivedBefore) -> Result<(), StoreError>;

    /// Remembers why entries were left out, unless that is as before.
    fn keep_left_out(&self, left_out: &LeftOutBefore) -> Result<(), StoreError>;

    /// A fact as of now, including changes of this transaction.
    fn fact(&self, fact: Fact) -> Result<Option<String>, StoreError>;

    /// Sets a fact; `None` forgets it.
    fn set_fact(&self, fact: Fact, value: Option<&str>) -> Result<(), StoreError>;
}

/// Reads what each build found and did.
pub trait ReadRuns {
    /// The number of the last run, or 0 before the first.
    fn last_run(&self) -> Result<i64, StoreError>;

    /// The last runs, newest first.
    fn runs(&self, most: usize) -> Result<Vec<RunRow>, StoreError>;

    /// A run, with its report as JSON.
    fn run(&self, run: i64) -> Result<Option<(RunRow, String)>, StoreError>;

    /// The last builds that did not go through, newest first.
    fn attempts(&self, most: usize) -> Result<Vec<AttemptRow>, StoreError>;

    /// The URLs of a run, as far as they are remembered.
    fn urls_of_run(&self, run: i64) -> Result<RunUrls, StoreError>;
}

/// Writes what a build found and did.
pub trait WriteRuns {
    /// Adds a run.
    fn add_run(&self, row: &RunRow, report: &str) -> Result<(), StoreError>;

    /// Adds a build that did not go through.
    fn add_attempt(&self, attempt: &AttemptRow) -> Result<(), StoreError>;

    /// Adds the URLs of a run.
    fn add_run_urls(&self, run: i64, urls: &RunUrls) -> Result<(), StoreError>;

    /// Forgets what is older than this many days before `now`: what is known of entries that are gone, of announcements,
    /// and of runs. Runs that changed nothing, and the reports and URLs of others, are forgotten sooner.
    fn forget_history(&self, now: i64, keep_days: u32) -> Result<(), StoreError>;

    /// Lowers every recorded instant that is later than `now`, in seconds since 1970, and every day later than `today`.
    fn lower_dates(&self, now: i64, today: i32) -> Result<(), StoreError>;
}

/// Reads the files of the site.
pub trait ReadFiles {
    /// Reads everything that a build needs, except the entries.
    fn remembered(&self) -> Result<Remembered, StoreError>;

    /// The files whose content changed after this run, by name, except those that have left the index.
    fn outputs_after(&self, run: i64) -> Result<Vec<OutputRuns>, StoreError>;

    /// Whether a build was interrupted while it wrote files.
    fn is_planned(&self) -> Result<bool, StoreError>;

    /// Records, immediately, which files are about to be written.
    fn plan(&mut self, names: &BTreeSet<String>) -> Result<(), StoreError>;
}

/// Writes the files of the site.
pub trait WriteFiles {
    /// Adds a file and returns its id.
    fn open_file(&self, section: &str, kind: FileKind, number: u32, limits: Limits) -> Result<i64, StoreError>;

    /// Records the contents and limits of a file.
    fn record_file(&self, file: i64, limits: Limits, digest: FileDigest) -> Result<(), StoreError>;

    /// Forgets a file and its segments.
    fn drop_file(&self, file: i64) -> Result<(), StoreError>;

    /// Sets the number of the next file in a section and kind.
    fn set_next_number(&self, section: &str, kind: FileKind, number: u32) -> Result<(), StoreError>;

    /// Sets the number of the next file in a section and kind to at least this one.
    fn raise_next_number(&self, section: &str, kind: FileKind, number: u32) -> Result<(), StoreError>;

    /// Records a file in the web root.
    fn set_output(&self, name: &str, output: &OutputRow) -> Result<(), StoreError>;

    /// Forgets a file in the web root.
    fn drop_output(&self, name: &str) -> Result<(), StoreError>;

    /// Records that all planned files have been written.
    fn finish_plan(&self) -> Result<(), StoreError>;
}

/// Reads the contents of segments.
pub trait ReadSegments {
    /// The compressed text of a segment.
    fn body(&self, file: i64, segment: u32) -> Result<Vec<u8>, StoreError>;

    /// A whole segment, with or without its text.
    fn whole(&self, file: i64, segment: u32, with_text: bool) -> Result<Whole, StoreError>;

    /// The entries of a segment.
    fn entries_of(&self, file: i64, segment: &SegmentRow) -> Result<Vec<RememberedEntry>, StoreError>;

    /// Reads the remembered entries of all segments without their texts, in the order of files and segments. `take`
    /// processes each segment in another thread, while the next one is read.
    fn each_segment_entries(
        &self,
        take: &mut (dyn FnMut(PackedEntries) -> Result<(), StoreError> + Send),
    ) -> Result<(), StoreError>;
}

/// Writes the contents of segments.
pub trait WriteSegments {
    /// A whole segment, with or without its text.
    fn whole(&self, file: i64, segment: u32, with_text: bool) -> Result<Whole, StoreError>;

    /// The compressed text of a segment.
    fn body(&self, file: i64, segment: u32) -> Result<Vec<u8>, StoreError>;

    /// Stores a segment in place of the one with its number: its namespaces and counts, its text, its remembered
    /// entries and the fingerprints of their raw rows.
    fn keep_segment(
        &self,
        file: i64,
        number: u32,
        holds: (Frame, ContentCounts),
        segment: &Segment,
        entries: (&[u8], &[u8]),
    ) -> Result<(), StoreError>;

    /// Stores the fingerprints of the raw rows of a segment.
    fn keep_raws(&self, file: i64, number: u32, raws: &[u8]) -> Result<(), StoreError>;

    /// Forgets a segment.
    fn drop_segment(&self, file: i64, number: u32) -> Result<(), StoreError>;
}

/// Reads what sources learnt about their files, so that an unchanged file is not read again.
pub trait ReadMemories {
    /// What a source remembers, if it learnt it under the same settings. Links are included only if requested.
    fn memory(&self, source: &str, settings: u64, links: bool) -> Result<Memory, StoreError>;
}

/// Writes what sources learnt about their files.
pub trait WriteMemories {
    /// Stores what a source learnt, once it is done. Files that it no longer found are forgotten when there are many of
    /// them.
    fn remember(&self, source: &str, settings: u64, memory: &Memory) -> Result<(), StoreError>;

    /// Stores what a source learnt so far, while it is still running. What was learnt under other settings is
    /// forgotten.
    fn learnt(&self, source: &str, settings: u64, memory: &Memory) -> Result<(), StoreError>;
}

/// Reads chunks of rows, which can be skipped as long as they are unchanged, and their members.
pub trait ReadChunks {
    /// All remembered chunks.
    fn chunks(&self) -> Result<KnownChunks, StoreError>;

    /// The members of some chunks, by their tags: for each chunk either all of them, or only those that every build
    /// reads. A chunk is given by the id of its members.
    fn tags(&self, chunks: &mut dyn Iterator<Item = (i64, bool)>) -> Result<Vec<u64>, StoreError>;

    /// Passes on the shares of all chunks that have one, by the prints of the chunks.
    fn each_share(&self, take: &mut dyn FnMut(u64, ChunkShare)) -> Result<(), StoreError>;

    /// The archives that shares count, in the order of their numbers.
    fn archives(&self) -> Result<Vec<ArchiveName>, StoreError>;
}

/// Writes chunks of rows.
pub trait WriteChunks {
    /// Forgets all chunks.
    fn forget_chunks(&self) -> Result<(), StoreError>;

    /// Remembers the archives that shares count, from this number on.
    fn keep_archives(&self, first: usize, archives: &[ArchiveName]) -> Result<(), StoreError>;

    /// Forgets remembered chunks that did not occur, and begins to remember new ones; `came` are the prints of all
    /// chunks that did.
    fn keep_chunks<'w>(
        &'w self,
        known: &'w KnownChunks,
        came: &HashSet<u64>,
    ) -> Result<Box<dyn KeepChunks + 'w>, StoreError>;
}

/// Adds chunks to the remembered ones.
pub trait KeepChunks {
    /// Remembers a chunk, and its share if it has one.
    fn keep(
        &mut self,
        print: u64,
        chunk: RememberedChunk,
        members: &Members,
        share: Option<&ChunkShare>,
    ) -> Result<(), StoreError>;

    /// Finishes.
    fn done(self: Box<Self>) -> Result<(), StoreError>;
}

/// Reads what engines have been told, and what they have still to be told.
///
/// There is no queue. An entry carries the run in which it last changed, an engine carries the run up to which it has
/// been told, and what it has still to be told follows from the two. While many messages are under way, a cursor
/// records the last key that was sent, so that an interruption at any instant repeats at most one message.
pub trait ReadEngines {
    /// The announcement progress of an engine; `None` if it was never told anything.
    fn engine(&self, name: &str) -> Result<Option<EngineState>, StoreError>;

    /// The state of entries when they left, by key, for those that left since an engine was last told.
    fn departures(&self) -> Result<HashMap<u128, Departure>, StoreError>;

    /// The last announcements, newest first.
    fn announcements(&self, most: usize) -> Result<Vec<Announced>, StoreError>;

    /// The URLs that an engine was told of, as far as they matter for a pause between two announcements.
    fn told_urls(&self, engine: &str) -> Result<Vec<ToldUrl>, StoreError>;

    /// When an engine last accepted a message, in seconds since 1970.
    fn last_success(&self, engine: &str) -> Result<Option<i64>, StoreError>;

    /// How many URLs an engine has taken or refused after an instant: when, in seconds since 1970, and how many.
    fn told_after(&self, engine: &str, after: i64) -> Result<Vec<(i64, u64)>, StoreError>;

    /// The keys of entries that were added after a run.
    fn additions(&self, after: i64) -> Result<HashSet<u128>, StoreError>;

    /// Entries that were removed and that some engine may still list, each with the run in which it was removed.
    fn tombstones(&self) -> Result<Vec<(Tombstone, i64)>, StoreError>;
}

/// Writes what engines have been told.
pub trait WriteEngines {
    /// Records the announcement progress of an engine.
    fn set_engine(&self, name: &str, state: &EngineState) -> Result<(), StoreError>;

    /// Remembers URLs that an engine was told of, or that wait because it was told of them a short time ago.
    fn keep_told(&self, engine: &str, told: &[ToldUrl]) -> Result<(), StoreError>;

    /// Forgets URLs that an engine was told of before an instant, unless they wait to be announced again.
    fn forget_told(&self, engine: &str, before: i64) -> Result<(), StoreError>;

    /// Gives an engine another name, with its progress.
    fn rename_engine(&self, old: &str, name: &str) -> Result<(), StoreError>;

    /// Records an announcement.
    fn add_announcement(&self, announced: &Announced) -> Result<(), StoreError>;

    /// Records that an entry was removed in this run.
    fn add_tombstone(&self, tombstone: &Tombstone, run: i64) -> Result<(), StoreError>;

    /// Records the state of an entry that leaves in this run.
    fn add_departure(&self, key: u128, departure: Departure, run: i64) -> Result<(), StoreError>;

    /// Records that entries were added in a run; `news` are those that are announced as added.
    fn record_additions(&self, keys: &[u128], news: &[u128], run: i64) -> Result<(), StoreError>;

    /// Forgets the announcement progress of every engine.
    fn forget_progress(&self) -> Result<(), StoreError>;
}

/// Reads what the user submitted in consoles.
pub trait ReadSubmitted {
    /// The URLs, by key.
    fn submitted_urls(&self) -> Result<HashMap<u128, SubmittedUrl>, StoreError>;

    /// The sitemap files, by console and address.
    fn submitted_files(&self) -> Result<Vec<SubmittedFile>, StoreError>;
}

/// Writes what the user submitted in consoles.
pub trait WriteSubmitted {
    /// Records that a URL was submitted.
    fn submit_url(&self, key: u128, submitted: &SubmittedUrl) -> Result<(), StoreError>;

    /// Records that a sitemap file was submitted.
    fn submit_file(&self, file: &SubmittedFile) -> Result<(), StoreError>;

    /// Records that a sitemap file was removed from a console.
    fn withdraw_file(&self, console: &str, address: &str) -> Result<(), StoreError>;
}

/// Reads what access logs and exports of consoles said.
pub trait ReadUptake {
    /// A part of what is known of crawlers' visits; empty if nothing is.
    fn visits(&self, part: UptakePart) -> Result<Vec<u8>, StoreError>;

    /// What the exports of consoles said as a whole, newest first, each with its id.
    fn looks(&self) -> Result<Vec<(i64, ConsoleLook)>, StoreError>;

    /// What they said of each URL; empty if that is no longer remembered.
    fn look_records(&self, look: i64) -> Result<Vec<LookRecord>, StoreError>;

    /// What searchers did, by day in days since 1970, newest first; of the last days.
    fn numbers(
        &self,
        engine: &str,
        subject: Subject,
        most: usize,
    ) -> Result<Vec<(i32, Vec<NumbersRecord>)>, StoreError>;
}

/// Writes what access logs and exports of consoles said.
pub trait WriteUptake {
    /// Replaces a part of what is known of crawlers' visits.
    fn keep_visits(&self, part: UptakePart, value: &[u8]) -> Result<(), StoreError>;

    /// Forgets what access logs said.
    fn forget_logs(&self) -> Result<(), StoreError>;

    /// Forgets the exports of an engine; returns how many there were.
    fn forget_looks(&self, engine: &str) -> Result<usize, StoreError>;

    /// Adds what exports said. What they said of each URL is remembered of the last two of an engine and subject.
    fn add_look(&self, look: &ConsoleLook, records: &[LookRecord]) -> Result<(), StoreError>;

    /// Replaces what searchers did on a day.
    fn keep_numbers(
        &self,
        engine: &str,
        subject: Subject,
        day: i32,
        records: &[NumbersRecord],
    ) -> Result<(), StoreError>;
}
