//! Remembered chunks: consecutive rows of a table, divided by content.

use std::collections::HashMap;
use std::ops::Range;

use atlas_core::fingerprint;

/// What is remembered of a chunk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RememberedChunk {
    /// The number of its rows that can be skipped.
    pub(crate) rows: u32,
    /// The byte ranges in it that every build reads.
    pub(crate) rest: Vec<Range<u32>>,
    /// Its [`Members`]: their id in the ledger, and their print.
    pub(crate) members: i64,
    pub(crate) members_print: u64,
}

impl RememberedChunk {
    /// The number of its rows that can be skipped.
    pub fn rows(&self) -> u32 {
        self.rows
    }

    /// The byte ranges in it that every build reads.
    pub fn rest(&self) -> impl Iterator<Item = Range<usize>> {
        self.rest.iter().map(|span| span.start as usize..span.end as usize)
    }
}

/// All remembered chunks, by print.
pub(crate) type KnownChunks = HashMap<u64, RememberedChunk>;

/// What the rows of a chunk contribute to what is derived from entries, packed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ChunkShare {
    /// The counts of archives among the rows that can be skipped.
    pub(crate) counts: Vec<u8>,
    /// The blocking keys of all rows: those that share one may belong to the same group of translations.
    pub(crate) keys: Vec<u8>,
}

/// An archive that shares count.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct ArchiveName {
    /// The position of its kind in the configuration.
    pub kind: u32,
    /// Its name as it is written in URLs.
    pub slug: String,
    /// Its name as entries write it.
    pub name: String,
}

/// The entries that a chunk names: their tags, one after the other.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Members {
    /// Those of rows that can be skipped.
    pub(crate) quiet: Vec<u8>,
    /// Those of the other rows.
    pub(crate) rest: Vec<u8>,
}

impl Members {
    /// A print of all tags.
    pub(crate) fn print(&self) -> u64 {
        fingerprint::raw(&self.quiet, fingerprint::row(&self.rest))
    }

    /// All tags.
    pub(crate) fn tags(&self) -> impl Iterator<Item = u64> {
        self.rest.as_chunks().0.iter().chain(self.quiet.as_chunks().0).copied().map(u64::from_le_bytes)
    }
}
