//! The plain types of what is remembered: entries, files, runs, engines.

mod entry;
mod file;
mod segment;
mod text;
mod run;
mod engine;
mod stretch;
mod memory;

pub use self::engine::{Announced, Change, Departure, EngineState, Pending, Tombstone};
pub use self::entry::{LaneEntry, NEVER};
pub(crate) use self::entry::{NO_GROUP, UNKNOWN, from_bytes, tag};
pub use self::file::{Facts, FileRow, OutputRow, SegmentRow, Standing};
pub use self::memory::{Learnt, Memory};
pub use self::run::{RunCounts, RunRow};
pub(crate) use self::segment::{Known, Whole};
pub use self::stretch::RememberedStretch;
pub(crate) use self::stretch::{KnownStretches, Members};
pub(crate) use self::text::{SegmentText, facts_of, urls_and_dates_of, urls_of};
