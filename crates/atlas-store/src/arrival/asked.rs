//! Rows that could be skipped but have to be read, because what is derived from them may be new.

use std::collections::HashMap;

use atlas_core::fingerprint;

use super::decider::Decider;

/// The lower digits of the [`key`](fingerprint::key) of a URL: enough to find its row again among some thousands.
pub(crate) fn short_key(key: u128) -> u32 {
    key as u32
}

/// Rows of unchanged chunks that have to be read. A row that is read although nobody asked for it does no harm.
#[derive(Debug, Default)]
pub struct AskedRows {
    /// The short keys of the rows of each chunk, by its print.
    pub(crate) by_chunk: HashMap<u64, Vec<u32>>,
}

impl AskedRows {
    /// Whether any row of a chunk is asked for.
    pub fn any_of(&self, print: u64) -> bool {
        self.by_chunk.contains_key(&print)
    }

    /// Whether the row of a chunk with this URL, in normal spelling, is asked for.
    pub fn holds(&self, print: u64, decider: &Decider, url: &str) -> bool {
        let key = short_key(fingerprint::key(decider.seed(), url));
        self.by_chunk.get(&print).is_some_and(|keys| keys.contains(&key))
    }
}
