//! Sitemap files, their segments, and the files in the web root that they became.

use std::ops::Range;

use atlas_core::format::Frame;
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::{FileKind, Limits};

use crate::disk::Stamp;

/// A sitemap file as the ledger remembers it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileRow {
    /// Its number in the ledger.
    pub id: i64,
    /// The section it belongs to.
    pub section: String,
    /// The kind of file of that section.
    pub kind: FileKind,
    /// Its number within the kind of file.
    pub number: u32,
    /// What it may hold.
    pub limits: Limits,
    /// What it holds and when that changed.
    pub standing: FileDigest,
    /// Its segments, in order.
    pub segments: Vec<SegmentRow>,
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
    /// Entries in it.
    pub fn urls(&self) -> u32 {
        self.segments.iter().map(|segment| segment.count).sum()
    }

    /// Bytes of its entries.
    pub fn bytes(&self) -> u64 {
        self.segments.iter().map(|segment| segment.size).sum()
    }
}

/// A version of a published file: it tells whether the file was touched since, and nothing else.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Version {
    size: u64,
    summary: i64,
}

impl Version {
    /// Of so many bytes; `summary` differs whenever the file was written again, as far as its destination can tell.
    pub fn new(size: u64, summary: i64) -> Self {
        Self { size, summary }
    }

    /// As it is remembered.
    pub(crate) fn to_parts(self) -> (u64, i64) {
        (self.size, self.summary)
    }

    /// Whether a file of this version may hold the same bytes as one of another.
    pub fn may_hold_the_same(&self, other: &Self) -> bool {
        self.size == other.size
    }
}

impl From<Stamp> for Version {
    fn from(stamp: Stamp) -> Self {
        Self::new(stamp.size, stamp.modified)
    }
}

/// What a finished file looks like where it was put.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OnDisk {
    /// Its version.
    pub version: Version,
    /// CRC-32 of its bytes.
    pub crc: u32,
}

/// A file in the web root that is ours.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OutputRow {
    /// How it looked when it was written.
    pub on_disk: OnDisk,
    /// When it left the index, in seconds since 1970.
    pub retired: Option<i64>,
}

/// A segment, without its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SegmentRow {
    /// Its number within the file; not all numbers need be taken.
    pub number: u32,
    /// Entries in it.
    pub count: u32,
    /// Unpacked size.
    pub size: u64,
    /// CRC-32 of its unpacked text.
    pub crc: u32,
    /// What it holds.
    pub facts: ContentCounts,
    /// The namespaces it needs.
    pub frame: Frame,
    /// Where its entries begin among all that are remembered.
    pub first: usize,
}

/// What some entries hold, as it is written.
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
    /// Adds those of other entries.
    pub fn add(&mut self, other: Self) {
        self.images += other.images;
        self.videos += other.videos;
        if let Some(date) = other.newest
            && self.newest.is_none_or(|known| known.seconds() < date.seconds())
        {
            self.newest = Some(date);
        }
    }

    /// Pictures and videos.
    pub fn media(&self) -> u64 {
        self.images + self.videos
    }
}

impl SegmentRow {
    /// The places of its entries among all that are remembered.
    pub fn range(&self) -> Range<usize> {
        self.first..self.first + self.count as usize
    }
}
