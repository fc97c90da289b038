//! What a build knows of the site when it begins.

use std::collections::{BTreeMap, BTreeSet};

use atlas_core::placement::FileKind;

use crate::disk::spill::Partitions;
use crate::model::{FileRow, KnownEntry, OutputRow, SegmentRow, Untouched};
use crate::provenance::Unchanged;

/// Everything that a build needs to know about the one before.
#[derive(Debug, Default)]
pub struct Remembered {
    /// Sitemap files.
    pub files: Vec<FileRow>,
    /// Remembered entries of pages files that a row may name, by key.
    pub(crate) known: Partitions<KnownEntry>,
    /// The entries that are known to be unchanged without reading their rows.
    pub(crate) untouched: Untouched,
    /// The number of those among them that stand as they were because sources that were asked for changes alone do not
    /// name them.
    pub(crate) unchanged: Unchanged,
    /// The number of entries, counted once for every kind of file that contains them.
    pub(crate) entries: usize,
    /// The days on which the contents of entries were last seen to change, in the order of entries; only entries that
    /// have such a day.
    pub(crate) observed: Vec<(u32, i32)>,
    /// The number of the next file in each section and kind.
    pub next_numbers: BTreeMap<(String, FileKind), u32>,
    /// Files in the web root.
    pub outputs: BTreeMap<String, OutputRow>,
    /// Files that an interrupted build had begun to write.
    pub planned: BTreeSet<String>,
}

impl Remembered {
    /// The number of entries, counted once for every kind of file that contains them.
    pub fn entries(&self) -> usize {
        self.entries
    }

    /// The segments of files of some kinds, in the order of their entries.
    pub fn segments(&self, kind: impl Fn(FileKind) -> bool) -> impl Iterator<Item = (&FileRow, &SegmentRow)> {
        let files = self.files.iter().filter(move |file| kind(file.kind));
        files.flat_map(|file| file.segments.iter().map(move |segment| (file, segment)))
    }

    /// The kind of file that contains an entry.
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

    /// Frees what only joining needs.
    pub(crate) fn drop_known(&mut self) {
        self.known = Partitions::default();
    }
}
