//! Chunks as they are remembered: rows of a table that follow one another.

use std::collections::HashMap;
use std::ops::Range;

use atlas_core::fingerprint;

/// What is remembered of a chunk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RememberedChunk {
    /// Rows of it that need not be looked at.
    pub(crate) rows: u32,
    /// Where in it those begin and end that are read by every build.
    pub(crate) rest: Vec<Range<u32>>,
    /// Which [`Members`] it has: their number in the ledger, and their print.
    pub(crate) members: i64,
    pub(crate) members_print: u64,
}

impl RememberedChunk {
    /// Rows of it that need not be looked at.
    pub fn rows(&self) -> u32 {
        self.rows
    }

    /// Where in it those begin and end that are read by every build.
    pub fn rest(&self) -> impl Iterator<Item = Range<usize>> {
        self.rest.iter().map(|span| span.start as usize..span.end as usize)
    }
}

/// All chunks that are remembered, by their prints.
pub type KnownChunks = HashMap<u64, RememberedChunk>;

/// Whose rows a chunk holds: their tags, one after the other.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Members {
    /// Of the rows that need not be looked at.
    pub(crate) quiet: Vec<u8>,
    /// Of the others.
    pub(crate) rest: Vec<u8>,
}

impl Members {
    /// A print of them all.
    pub(crate) fn print(&self) -> u64 {
        fingerprint::raw(&self.quiet, fingerprint::row(&self.rest))
    }

    /// The tags of all of them.
    pub(crate) fn tags(&self) -> impl Iterator<Item = u64> {
        self.rest.as_chunks().0.iter().chain(self.quiet.as_chunks().0).copied().map(u64::from_le_bytes)
    }
}
