//! What is remembered of a site when a build begins.

use std::collections::{BTreeMap, BTreeSet};

use atlas_core::placement::FileKind;

use crate::disk::spill::Partitions;
use crate::model::{FileRow, KnownEntry, OutputRow, SegmentRow, Untouched};

/// All that a build needs to know of the one before.
#[derive(Debug, Default)]
pub struct Remembered {
    /// Sitemap files.
    pub files: Vec<FileRow>,
    /// The entries in a pages file that some row may speak of, by their keys.
    pub(crate) known: Partitions<KnownEntry>,
    /// Whether each entry is known to be as it was, without any row.
    pub(crate) untouched: Untouched,
    /// How many entries there are, each counted once for every kind of file that it stands in.
    pub(crate) entries: usize,
    /// The days on which contents were seen to change, where they were, in the order of the entries.
    pub(crate) observed: Vec<(u32, i32)>,
    /// The number that the next file of a section's kind of file gets.
    pub next_numbers: BTreeMap<(String, FileKind), u32>,
    /// Files in the web root.
    pub outputs: BTreeMap<String, OutputRow>,
    /// Files that a build had begun to write when it was stopped.
    pub planned: BTreeSet<String>,
}

impl Remembered {
    /// How many entries there are, each counted once for every kind of file that it stands in.
    pub fn entries(&self) -> usize {
        self.entries
    }

    /// The segments of the files of some kinds of file, in the order of their entries.
    pub fn segments(&self, kind: impl Fn(FileKind) -> bool) -> impl Iterator<Item = (&FileRow, &SegmentRow)> {
        let files = self.files.iter().filter(move |file| kind(file.kind));
        files.flat_map(|file| file.segments.iter().map(move |segment| (file, segment)))
    }

    /// The kind of file that an entry stands in.
    pub(crate) fn kind_of_file(&self, at: u32) -> FileKind {
        let mut segments = self.segments(|_| true);
        let found = segments.find(|(_, segment)| segment.range().contains(&(at as usize)));
        found.map_or(FileKind::Pages, |(file, _)| file.kind)
    }

    /// The day on which the content of an entry was last seen to change, as of the last build.
    pub(crate) fn observed(&self, at: u32) -> Option<i32> {
        let found = self.observed.binary_search_by_key(&at, |(at, _)| *at).ok()?;
        Some(self.observed[found].1)
    }

    /// Lets go of what only joining needs.
    pub(crate) fn drop_known(&mut self) {
        self.known = Partitions::default();
    }
}
