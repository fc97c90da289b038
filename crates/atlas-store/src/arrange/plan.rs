//! The plan of a site: its files and segments, and what each contains.

use std::collections::BTreeMap;

use atlas_core::format::Frame;
use atlas_core::placement::{FileKind, Limits, Weight, child_name};

use crate::arrival::RowId;
use crate::model::{FileDigest, FileRow, SegmentRow, SegmentText};

/// The number of entries in one segment. Smaller segments make a change cheaper and compressed files larger: by 8 % at
/// 480 entries, by 14 % at 240.
pub(crate) const SEGMENT: usize = 240;

/// A planned file.
#[derive(Debug)]
pub(crate) struct FilePlan {
    /// Its id in the ledger, if the ledger has it.
    pub id: Option<i64>,
    /// Its section.
    pub section: String,
    /// Its kind.
    pub kind: FileKind,
    /// Its number within the section and kind.
    pub number: u32,
    /// Its limits.
    pub limits: Limits,
    /// Whether its limits have changed.
    pub resized: bool,
    /// What it held before.
    pub before: Option<FileDigest>,
    /// Its segments.
    pub segments: Vec<SegmentPlan>,
    /// Segments to be deleted.
    pub dropped: Vec<u32>,
    /// Whether entries move from it to other files, which must be written first.
    pub loses_to_others: bool,
}

/// A planned segment.
#[derive(Debug)]
pub(crate) enum SegmentPlan {
    /// An unchanged segment.
    Kept(SegmentRow),
    /// A segment to be rebuilt.
    Made(Made),
}

/// A segment to be rebuilt.
#[derive(Debug)]
pub(crate) struct Made {
    /// Its number in the file.
    pub number: u32,
    /// The existing segment that it replaces.
    pub base: Option<SegmentRow>,
    /// Its entries, in order.
    pub members: Vec<Member>,
    /// The namespaces it needs.
    pub frame: Frame,
    /// Its unpacked size.
    pub size: u64,
    /// Pictures and videos in it.
    pub media: u64,
    /// The text of the existing segment, if it was read and kept.
    pub(crate) text: Option<SegmentText>,
}

/// Where an entry of a segment comes from, packed into a number because there are as many as entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Member(u32);

/// The meaning of a [`Member`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum MemberOrigin {
    /// An unchanged entry: its index in the existing segment.
    Base(u32),
    /// A candidate: its index among the candidates.
    Candidate(u32),
    /// A new entry: its row.
    Row(RowId),
}

impl Member {
    const BASE: u32 = 2 << 30;
    const LISTED: u32 = 1 << 30;
    const NUMBER: u32 = (1 << 30) - 1;

    pub(super) fn base(at: u32) -> Self {
        Self(Self::BASE | at)
    }

    pub(super) fn candidates(at: u32) -> Self {
        Self(Self::LISTED | at)
    }

    pub(super) fn row(row_id: RowId) -> Self {
        Self(row_id.0)
    }

    /// Where it comes from.
    pub fn from(self) -> MemberOrigin {
        let number = self.0 & Self::NUMBER;
        match self.0 & !Self::NUMBER {
            Self::BASE => MemberOrigin::Base(number),
            Self::LISTED => MemberOrigin::Candidate(number),
            _ => MemberOrigin::Row(RowId(number)),
        }
    }
}

impl Made {
    pub(super) fn new(number: u32) -> Self {
        Self {
            number,
            base: None,
            members: Vec::with_capacity(SEGMENT),
            frame: Frame::default(),
            size: 0,
            media: 0,
            text: None,
        }
    }

    /// The existing segment, so that entries can be added to it.
    pub(super) fn again(row: SegmentRow) -> Self {
        let mut members = Vec::with_capacity(SEGMENT);
        members.extend((0..row.count).map(Member::base));
        Self {
            number: row.number,
            base: Some(row),
            members,
            frame: row.frame,
            size: row.size,
            media: row.facts.media(),
            text: None,
        }
    }

    /// The row of its last new entry.
    pub(crate) fn last_row(&self) -> Option<RowId> {
        self.members.iter().rev().find_map(|member| match member.from() {
            MemberOrigin::Row(row_id) => Some(row_id),
            _ => None,
        })
    }

    pub(super) fn add(&mut self, member: Member, weight: Weight, frame: Frame) {
        self.members.push(member);
        self.size += weight.bytes;
        self.media += u64::from(weight.media);
        self.frame = self.frame.and(frame);
    }
}

impl SegmentPlan {
    /// The namespaces it needs.
    pub fn frame(&self) -> Frame {
        match self {
            Self::Kept(row) => row.frame,
            Self::Made(made) => made.frame,
        }
    }

    pub(super) fn number(&self) -> u32 {
        match self {
            Self::Kept(row) => row.number,
            Self::Made(made) => made.number,
        }
    }

    pub(super) fn size(&self) -> u64 {
        match self {
            Self::Kept(row) => row.size,
            Self::Made(made) => made.size,
        }
    }

    pub(super) fn media(&self) -> u64 {
        match self {
            Self::Kept(row) => row.facts.media(),
            Self::Made(made) => made.media,
        }
    }

    pub(super) fn len(&self) -> usize {
        match self {
            Self::Kept(row) => row.count as usize,
            Self::Made(made) => made.members.len(),
        }
    }
}

impl FilePlan {
    /// The file as the ledger has it.
    pub(crate) fn as_it_stands(file: &FileRow) -> Self {
        Self {
            id: Some(file.id),
            section: file.section.clone(),
            kind: file.kind,
            number: file.number,
            limits: file.limits,
            resized: false,
            before: Some(file.digest),
            segments: file.segments.iter().copied().map(SegmentPlan::Kept).collect(),
            dropped: Vec::new(),
            loses_to_others: false,
        }
    }

    /// The number of entries in it.
    pub fn urls(&self) -> u64 {
        self.segments.iter().map(|segment| segment.len() as u64).sum()
    }

    /// The namespaces it needs.
    pub fn frame(&self) -> Frame {
        self.segments.iter().fold(Frame::default(), |frame, segment| frame.and(segment.frame()))
    }

    /// Its unpacked size.
    pub fn size(&self, style: Option<&str>) -> u64 {
        let inside: u64 = self.segments.iter().map(SegmentPlan::size).sum();
        inside + (self.frame().open(style).len() + Frame::CLOSE.len()) as u64
    }

    /// Whether any of it has to be rebuilt.
    pub(crate) fn is_touched(&self) -> bool {
        !self.dropped.is_empty() || self.segments.iter().any(|segment| matches!(segment, SegmentPlan::Made(_)))
    }

    /// The name of the file.
    pub fn name(&self) -> String {
        child_name(&self.section, self.kind, self.number)
    }
}

/// The plan of the whole site.
#[derive(Debug)]
pub(crate) struct Plan {
    /// The files, in the order of the index.
    pub files: Vec<FilePlan>,
    /// Files to be folded, by their ids in the ledger.
    pub folded: Vec<i64>,
    /// The number of the next file for each section and kind.
    pub next_numbers: BTreeMap<(String, FileKind), u32>,
}

impl FilePlan {
    /// Adds an entry at the end.
    pub(super) fn append(&mut self, member: Member, weight: Weight, frame: Frame) {
        if let Some(SegmentPlan::Made(made)) = self.segments.last_mut()
            && made.members.len() < SEGMENT
        {
            return made.add(member, weight, frame);
        }
        let mut made = match self.segments.pop_if(|segment| segment.len() < SEGMENT) {
            Some(SegmentPlan::Kept(row)) => Made::again(row),
            Some(SegmentPlan::Made(made)) => made,
            None => {
                let taken = self.segments.iter().map(SegmentPlan::number);
                Made::new(taken.chain(self.dropped.iter().copied()).max().map_or(0, |number| number + 1))
            }
        };
        made.add(member, weight, frame);
        self.segments.push(SegmentPlan::Made(made));
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const LIGHT: Weight = Weight { bytes: 10, media: 1 };

    fn file() -> FilePlan {
        FilePlan {
            id: None,
            section: "halts".into(),
            kind: FileKind::Pages,
            number: 1,
            limits: Limits { urls: 1000, bytes: 100_000, media: 1000 },
            resized: false,
            before: None,
            segments: Vec::new(),
            dropped: Vec::new(),
            loses_to_others: false,
        }
    }

    fn row(number: u32, count: u32) -> SegmentRow {
        let facts = crate::model::ContentCounts::default();
        SegmentRow { number, count, size: 900, crc: 7, first: 0, frame: Frame::default(), facts }
    }

    #[rstest]
    #[case(Member::base(0), MemberOrigin::Base(0))]
    #[case(Member::base(239), MemberOrigin::Base(239))]
    #[case(Member::candidates((1 << 30) - 1), MemberOrigin::Candidate((1 << 30) - 1))]
    #[case(Member::row(RowId(0)), MemberOrigin::Row(RowId(0)))]
    #[case(Member::row(RowId(77)), MemberOrigin::Row(RowId(77)))]
    fn a_member_knows_its_origin(#[case] member: Member, #[case] wanted: MemberOrigin) {
        assert_eq!(member.from(), wanted);
    }

    #[test]
    fn segments_are_filled_and_then_another_is_begun() {
        let mut file = file();
        for at in 0..SEGMENT as u32 * 2 + 1 {
            file.append(Member::row(RowId(at)), LIGHT, Frame::default());
        }
        let policy: Vec<(u32, usize)> = file.segments.iter().map(|segment| (segment.number(), segment.len())).collect();
        assert_eq!(policy, [(0, SEGMENT), (1, SEGMENT), (2, 1)]);
        assert_eq!((file.urls(), file.segments[0].size(), file.segments[2].media()), (481, 2400, 1));
    }

    /// An existing last segment with room is extended together with everything in it; a full one stays as it is.
    #[rstest]
    #[case::room(239, 1, (3, 240))]
    #[case::full(240, 2, (5, 1))]
    fn existing_segments_are_extended(#[case] count: u32, #[case] segments: usize, #[case] last: (u32, usize)) {
        let mut file = FilePlan { segments: vec![SegmentPlan::Kept(row(3, count))], dropped: vec![4], ..file() };
        assert!(file.is_touched(), "a segment was dropped");
        file.append(Member::row(RowId(9)), LIGHT, Frame::default());
        let end = file.segments.last().unwrap();
        assert_eq!((file.segments.len(), (end.number(), end.len())), (segments, last), "no number is used twice");
        let SegmentPlan::Made(made) = end else { panic!("{end:?}") };
        assert_eq!(made.last_row(), Some(RowId(9)));
        assert_eq!(made.base.is_some(), count < 240);
        assert_eq!(made.size, if count < 240 { 910 } else { 10 });
    }

    #[test]
    fn a_file_of_kept_segments_is_not_touched() {
        let mut file = FilePlan { segments: vec![SegmentPlan::Kept(row(0, 10))], ..file() };
        assert!(!file.is_touched());
        file.append(Member::row(RowId(0)), LIGHT, Frame::default());
        assert!(file.is_touched());
    }
}
