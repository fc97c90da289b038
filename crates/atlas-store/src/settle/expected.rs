//! Expected pages: if another source names a URL that a folder being read serves, and the folder has no such page, the
//! entry waits until it does.

use std::collections::HashSet;

use atlas_core::report::Outcome;

use crate::arrival::Arrivals;
use crate::source::Source;

/// Which entries must have a page in a folder that is read.
#[derive(Debug)]
pub struct Expected {
    /// The addresses of the folders, each with its closing slash.
    folders: Vec<String>,
    /// By source: whether its word is enough, because it reads the pages or says that they may be elsewhere.
    will_do: Vec<bool>,
    /// The keys of files in the folders that are not pages.
    others: HashSet<u128>,
}

impl Expected {
    /// Derived from the sources and their outcomes; `None` if nothing is expected. A folder that could not be read whole
    /// proves nothing.
    pub(crate) fn of(sources: &[Box<dyn Source>], outcomes: &[Outcome], arrivals: &Arrivals) -> Option<Self> {
        let whole = sources.iter().zip(outcomes).filter(|(_, outcome)| outcome.failure.is_none());
        let folders: Vec<String> = whole.filter_map(|(source, _)| source.serves()).map(str::to_owned).collect();
        let mut will_do: Vec<bool> =
            sources.iter().map(|source| source.reads_pages() || source.may_be_elsewhere()).collect();
        // Archives have a check of their own.
        will_do.push(true);
        let any = !folders.is_empty() && will_do.contains(&false);
        any.then(|| Self { folders, will_do, others: arrivals.others().iter().copied().collect() })
    }

    /// Whether the page of an entry has to be looked for, because none of these sources vouches for it.
    pub(super) fn asks(&self, mut sources: impl Iterator<Item = u16>) -> bool {
        !sources.any(|source| self.will_do.get(usize::from(source)).copied().unwrap_or(true))
    }

    /// Whether an entry that these sources name has no page, although it should have one.
    pub(super) fn misses(
        &self,
        sources: impl IntoIterator<Item = u16>,
        key: u128,
        url: impl FnOnce() -> String,
    ) -> bool {
        if !self.asks(sources.into_iter()) {
            return false;
        }
        let url = url();
        self.folders.iter().any(|folder| url.starts_with(folder.as_str())) && !self.others.contains(&key)
    }
}
