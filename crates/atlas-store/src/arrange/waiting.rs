//! Entries that wait to be placed in a file.

use atlas_core::format::Frame;
use atlas_core::placement::{FileKind, Weight};

use crate::arrival::RowId;
use crate::model::SegmentRow;

use super::plan::{Member, MemberOrigin};

/// Entries that wait to be placed in a file.
#[derive(Default)]
pub(super) struct WaitingEntries {
    /// Indexes into [`Settled::candidates`](crate::settle::Settled::candidates).
    pub(super) candidates: Vec<u32>,
    /// Unchanged entries, by their positions in the ledger.
    pub(super) recalled: Vec<u32>,
    /// News articles: indexes into [`Settled::candidates`](crate::settle::Settled::candidates).
    pub(super) news: Vec<u32>,
}

/// An entry to be placed. Small, because a window may have as many as it has rows, and they are sorted.
pub(super) struct Arrival {
    pub(super) age: i64,
    pub(super) named: RowId,
    pub(super) member: Member,
    pub(super) bytes: u32,
    pub(super) media: u32,
    pub(super) series: u16,
    pub(super) frame: Frame,
}

impl Arrival {
    pub(super) fn new(age: i64, named: RowId, member: Member, series: usize, (weight, frame): (Weight, Frame)) -> Self {
        let bytes = u32::try_from(weight.bytes).unwrap_or(u32::MAX);
        Self { age, named, member, bytes, media: weight.media, series: series as u16, frame }
    }

    pub(super) fn weight(&self) -> Weight {
        Weight { bytes: u64::from(self.bytes), media: self.media }
    }
}

impl WaitingEntries {
    pub(super) fn add(&mut self, member: Member, base: Option<SegmentRow>) {
        match (member.from(), base) {
            (MemberOrigin::Base(nth), Some(base)) => self.recalled.push(base.first as u32 + nth),
            (MemberOrigin::Candidate(at), _) => self.candidates.push(at),
            _ => {}
        }
    }
}

/// The index of the series for one kind of file in a section.
pub(super) fn series_of(section: usize, kind: FileKind) -> usize {
    section * FileKind::ALL.len() + kind as usize
}
