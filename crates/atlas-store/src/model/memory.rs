//! What sources remember about their files from build to build.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use crate::disk::Stamp;

/// What was learnt when a file was last read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Learnt {
    /// The stamp of the file.
    pub stamp: Stamp,
    /// The row made from it; empty if it was not a page.
    pub row: Vec<u8>,
    /// Its links within the site, packed by [`atlas_core::links`].
    pub links: Vec<u8>,
    /// What the source needs to check whether the file has changed, in its own format.
    pub validators: String,
}

/// What a source remembers about its files.
#[derive(Debug, Default)]
pub struct Memory {
    /// By path, as the source spells it.
    pub known: HashMap<String, Learnt, RandomState>,
    /// A note of the source to itself, about where to go on.
    pub note: Option<String>,
    /// What is to be remembered from now on.
    pub fresh: Vec<(String, Learnt)>,
    /// The number of unchanged files.
    pub met: u64,
    /// Paths to forget.
    pub forgotten: Vec<String>,
    /// Whether what was learnt before is enough, because nobody wants to wait for more.
    pub will_do: bool,
}

impl Memory {
    /// What was learnt about a file, if it has not been touched since.
    pub fn remembered(&self, path: &str, stamp: Stamp) -> Option<&Learnt> {
        self.known.get(path).filter(|learnt| learnt.stamp == stamp)
    }
}
