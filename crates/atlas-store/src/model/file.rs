//! Sitemap files, their segments, and files in the web root.

use std::ops::Range;

use atlas_core::format::Frame;
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::{FileKind, Limits};

use crate::disk::Stamp;

/// A remembered sitemap file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileRow {
    /// Its id in the ledger.
    pub id: i64,
    /// The section it belongs to.
    pub section: String,
    /// Its kind.
    pub kind: FileKind,
    /// Its number within the section and kind.
    pub number: u32,
    /// Its limits.
    pub limits: Limits,
    /// Its content, in brief.
    pub digest: FileDigest,
    /// Its segments, in order.
    pub segments: Vec<SegmentRow>,
}

/// When a file of ours was written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutputRuns {
    /// Its name in the ledger.
    pub name: String,
    /// The run that first wrote it.
    pub made: i64,
    /// The run that last changed its content.
    pub changed: i64,
}

/// The content of a sitemap file, in brief.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FileDigest {
    /// When it last changed, in seconds since 1970.
    pub changed: i64,
    /// CRC-32 of the unpacked file.
    pub crc: u32,
    /// Unpacked size.
    pub size: u64,
}

impl FileRow {
    /// The number of entries in it.
    pub fn urls(&self) -> u32 {
        self.segments.iter().map(|segment| segment.count).sum()
    }

    /// The bytes of its entries.
    pub fn bytes(&self) -> u64 {
        self.segments.iter().map(|segment| segment.size).sum()
    }
}

/// The version of a published file, which only tells whether the file was touched.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Version {
    size: u64,
    mark: i64,
}

impl Version {
    /// The version of a file of this size; `mark` differs whenever the file was written again, as far as its
    /// destination can tell.
    pub fn new(size: u64, mark: i64) -> Self {
        Self { size, mark }
    }

    /// Its parts, for storing.
    pub(crate) fn to_parts(self) -> (u64, i64) {
        (self.size, self.mark)
    }

    /// Whether files of these two versions may have the same bytes.
    pub(crate) fn may_hold_the_same(&self, other: &Self) -> bool {
        self.size == other.size
    }
}

impl From<Stamp> for Version {
    fn from(stamp: Stamp) -> Self {
        Self::new(stamp.size, stamp.modified)
    }
}

/// A finished file as it was put into place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OnDisk {
    /// Its version.
    pub version: Version,
    /// CRC-32 of its bytes.
    pub crc: u32,
}

/// A file in the web root that the tool wrote.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OutputRow {
    /// Its version and checksum when it was written.
    pub on_disk: OnDisk,
    /// When it left the index, in seconds since 1970.
    pub retired: Option<i64>,
}

/// A segment, without its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SegmentRow {
    /// Its number within the file. Numbers may be missing.
    pub number: u32,
    /// The number of entries in it.
    pub count: u32,
    /// Unpacked size.
    pub size: u64,
    /// CRC-32 of its unpacked text.
    pub crc: u32,
    /// What its entries contain.
    pub facts: ContentCounts,
    /// The namespaces it needs.
    pub frame: Frame,
    /// The position of its first entry among all remembered entries.
    pub first: usize,
}

/// What some entries contain, as written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ContentCounts {
    /// Pictures.
    pub images: u64,
    /// Videos.
    pub videos: u64,
    /// The newest date.
    pub newest: Option<Lastmod>,
}

impl ContentCounts {
    /// Adds the counts of other entries.
    pub fn add(&mut self, other: Self) {
        self.images += other.images;
        self.videos += other.videos;
        if let Some(date) = other.newest
            && self.newest.is_none_or(|known| known.seconds() < date.seconds())
        {
            self.newest = Some(date);
        }
    }

    /// The number of pictures and videos.
    pub fn media(&self) -> u64 {
        self.images + self.videos
    }
}

impl SegmentRow {
    /// The positions of its entries among all remembered entries.
    pub fn range(&self) -> Range<usize> {
        self.first..self.first + self.count as usize
    }
}
