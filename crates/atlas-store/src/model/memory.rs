//! What sources remember from build to build.

use std::collections::HashMap;

use crate::disk::Stamp;

/// What was learnt from a file when it was read last.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Learnt {
    /// How the file looked.
    pub stamp: Stamp,
    /// The row that came of it; empty where it was no page.
    pub row: Vec<u8>,
    /// The links on it within the site, packed by [`atlas_core::links`].
    pub links: Vec<u8>,
    /// What the source needs to ask whether it is still the same, in its own words.
    pub validators: String,
}

/// What a source remembers of its files from build to build.
#[derive(Debug, Default)]
pub struct Memory {
    /// By path, as the source spells it.
    pub known: HashMap<String, Learnt>,
    /// What the source noted about its own way, to go on from there.
    pub note: Option<String>,
    /// What is to be remembered from now on.
    pub fresh: Vec<(String, Learnt)>,
    /// What was met again unchanged.
    pub met: u64,
    /// What is to be forgotten.
    pub forgotten: Vec<String>,
    /// What was learnt before will do: nobody wants to wait for more.
    pub will_do: bool,
}

impl Memory {
    /// What was learnt of a file, if it has not been touched since.
    pub fn remembered(&self, path: &str, stamp: Stamp) -> Option<&Learnt> {
        self.known.get(path).filter(|learnt| learnt.stamp == stamp)
    }
}
