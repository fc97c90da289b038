//! Arranging: which file and which segment of it each entry goes to.
//!
//! Files and segments in which nothing moved are carried over without being looked into. What has to be made anew is
//! listed entry by entry, for [`publish`](crate::publish) to render and compress.

use std::collections::BTreeMap;

use atlas_core::choose::CHILD_PREFIX;
use atlas_core::contribution::Said;
use atlas_core::format::{Frame, write_url};
use atlas_core::news::MOST_NEWS;
use atlas_core::placement::{FileState, Limits, Shelf, UrlsPerFile, Weight};
use atlas_core::section::{Section, Sections};
use atlas_core::shape::Shape;
use atlas_core::strand::Strand;
use rayon::prelude::*;

use crate::arrival::Arrivals;
use crate::derive::Alternates;
use crate::ledger::{FileRow, Remembered, SegmentRow, Standing};
use crate::settle::{Candidate, UNKNOWN};

/// Entries in one segment. Fewer make a change cheaper and the files larger: 8 % at 480.
const SEGMENT: usize = 480;

/// How files are cut.
#[derive(Debug, Clone)]
pub struct Cut {
    /// Entries in a file.
    pub urls_per_file: UrlsPerFile,
    /// Bytes in a file, frame included.
    pub bytes_per_file: u64,
    /// Pictures and videos in a file.
    pub media_per_file: u32,
}

impl Cut {
    /// How the files of one strand of a section are cut.
    fn of(&self, section: &Section, strand: Strand) -> Self {
        let urls_per_file = section.urls_per_file.map_or(self.urls_per_file, UrlsPerFile::Fixed);
        Self {
            urls_per_file: if strand == Strand::News { urls_per_file.at_most(MOST_NEWS) } else { urls_per_file },
            bytes_per_file: section.bytes_per_file.unwrap_or(self.bytes_per_file),
            media_per_file: section.media_per_file.unwrap_or(self.media_per_file),
        }
    }
}

/// Renders candidates.
#[derive(Debug, Clone, Copy)]
pub struct Renderer<'a> {
    /// Where the rows are.
    pub(crate) arrivals: &'a Arrivals,
    /// What of them is written.
    pub(crate) shape: &'a Shape,
    /// Groups of translations.
    pub(crate) alternates: &'a Alternates,
    /// The stylesheet that every file names.
    pub(crate) style: Option<&'a str>,
}

impl Renderer<'_> {
    /// Appends the `url` elements of many candidates. Their rows lie far apart: they are fetched together first, so that
    /// the waits for memory overlap.
    pub fn render_all(&self, candidates: &[&Candidate], out: &mut Vec<u8>) {
        let rows: Vec<&[u8]> = candidates.iter().map(|candidate| self.arrivals.row(candidate.place)).collect();
        let near: Vec<u8> = rows.concat();
        let mut start = 0;
        for (candidate, row) in candidates.iter().zip(&rows) {
            self.render_row(candidate, &near[start..start + row.len()], out);
            start += row.len();
        }
    }

    /// Appends the `url` element of a candidate; returns the frame it needs, and how many media are in it.
    pub fn render(&self, candidate: &Candidate, out: &mut Vec<u8>) -> (Frame, u32) {
        self.render_row(candidate, self.arrivals.row(candidate.place), out)
    }

    fn render_row(&self, candidate: &Candidate, row: &[u8], out: &mut Vec<u8>) -> (Frame, u32) {
        let said = Said::read(row);
        let group = self.alternates.list(candidate.group);
        let entry = self.shape.entry(&said, candidate.kept(), candidate.observed(), group, candidate.strand);
        write_url(out, &entry);
        (Frame::of(&entry), entry.media())
    }

    /// Bytes of a file that are left for its entries.
    fn inside(&self, bytes_per_file: u64) -> u64 {
        bytes_per_file.saturating_sub(Frame::most_bytes(self.style))
    }
}

/// A file as it is to be.
#[derive(Debug)]
pub struct FilePlan {
    /// Its number in the ledger, where it is there already.
    pub id: Option<i64>,
    /// Its section.
    pub section: String,
    /// What of the section it holds.
    pub strand: Strand,
    /// Its number in the strand.
    pub number: u32,
    /// What it may hold.
    pub limits: Limits,
    /// It may hold more or less than before.
    pub resized: bool,
    /// What it held before.
    pub before: Option<Standing>,
    /// Its segments.
    pub segments: Vec<SegmentPlan>,
    /// Segments that are no more.
    pub dropped: Vec<u32>,
    /// Entries leave it for other files: those must be written first.
    pub loses_to_others: bool,
}

/// A segment as it is to be.
#[derive(Debug)]
pub enum SegmentPlan {
    /// As it was.
    Kept(SegmentRow),
    /// To be made of these candidates.
    Made(Made),
}

/// A segment to be made.
#[derive(Debug)]
pub struct Made {
    /// Its number in the file.
    pub number: u32,
    /// Its candidates, in order.
    pub members: Vec<u32>,
    /// The namespaces it needs.
    pub frame: Frame,
    /// Its unpacked size.
    pub size: u64,
    /// Pictures and videos in it.
    pub media: u64,
}

impl Made {
    fn new(number: u32) -> Self {
        Self { number, members: Vec::with_capacity(SEGMENT), frame: Frame::default(), size: 0, media: 0 }
    }

    fn add(&mut self, member: u32, weight: Weight, frame: Frame) {
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

    fn number(&self) -> u32 {
        match self {
            Self::Kept(row) => row.number,
            Self::Made(made) => made.number,
        }
    }

    fn size(&self) -> u64 {
        match self {
            Self::Kept(row) => row.size,
            Self::Made(made) => made.size,
        }
    }

    fn media(&self) -> u64 {
        match self {
            Self::Kept(row) => row.media,
            Self::Made(made) => made.media,
        }
    }

    fn len(&self) -> usize {
        match self {
            Self::Kept(row) => row.count as usize,
            Self::Made(made) => made.members.len(),
        }
    }
}

impl FilePlan {
    /// Entries in it.
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

    /// Whether anything in it has to be made anew.
    pub fn is_touched(&self) -> bool {
        !self.dropped.is_empty() || self.segments.iter().any(|segment| matches!(segment, SegmentPlan::Made(_)))
    }

    /// The name of the file.
    pub fn name(&self) -> String {
        child_name(&self.section, self.strand, self.number)
    }
}

/// The name of a child file, without `.gz`. A section's name has no dot in it, so that its strands are never taken for
/// another section.
pub fn child_name(section: &str, strand: Strand, number: u32) -> String {
    match strand {
        Strand::Pages => format!("{CHILD_PREFIX}{section}-{number}.xml"),
        strand => format!("{CHILD_PREFIX}{section}.{strand}-{number}.xml"),
    }
}

/// The whole site as it is to be.
#[derive(Debug)]
pub struct Plan {
    /// The files, in the order of the index.
    pub files: Vec<FilePlan>,
    /// Files of the ledger that are no more, by their number there.
    pub folded: Vec<i64>,
    /// The number that the next file of each section's strand gets.
    pub next_numbers: BTreeMap<(String, Strand), u32>,
}

/// Arranges all candidates.
pub fn arrange(
    remembered: &Remembered,
    candidates: &[Candidate],
    sections: &Sections,
    cut: &Cut,
    renderer: &Renderer<'_>,
) -> Plan {
    let mut owners = vec![UNKNOWN; remembered.lane.len()];
    let mut members: BTreeMap<(usize, Strand), Vec<u32>> = BTreeMap::new();
    for (at, candidate) in candidates.iter().enumerate() {
        if let Some(owner) = owners.get_mut(candidate.prior as usize) {
            *owner = at as u32;
        }
        members.entry((usize::from(candidate.section), candidate.strand)).or_default().push(at as u32);
    }
    let mut plan = Plan { files: Vec::new(), folded: Vec::new(), next_numbers: remembered.next_numbers.clone() };
    for (at, section) in sections.list().iter().enumerate() {
        for strand in Strand::ALL {
            let files = remembered.files.iter().filter(|file| file.section == section.name && file.strand == strand);
            let next = remembered.next_numbers.get(&(section.name.clone(), strand)).copied().unwrap_or(1);
            let arranging = Arranging {
                name: &section.name,
                strand,
                section: at as u16,
                candidates,
                owners: &owners,
                cut: cut.of(section, strand),
                renderer,
                files: Vec::new(),
            };
            let members = members.get(&(at, strand)).map_or(&[][..], Vec::as_slice);
            arranging.run(files, members, next, &mut plan);
        }
    }
    // Sections that are no longer configured have lost all their entries to others.
    let known = |file: &&FileRow| !sections.list().iter().any(|section| section.name == file.section);
    plan.folded.extend(remembered.files.iter().filter(known).map(|file| file.id));
    plan
}

/// One strand of a section being arranged.
struct Arranging<'a> {
    name: &'a str,
    strand: Strand,
    section: u16,
    candidates: &'a [Candidate],
    owners: &'a [u32],
    cut: Cut,
    renderer: &'a Renderer<'a>,
    files: Vec<FilePlan>,
}

impl<'a> Arranging<'a> {
    fn run(mut self, files: impl Iterator<Item = &'a FileRow>, members: &[u32], next: u32, plan: &mut Plan) {
        let mut settled = vec![false; if members.is_empty() { 0 } else { self.candidates.len() }];
        files.for_each(|file| self.stand(file, &mut settled));
        self.files.sort_by_key(|file| file.number);
        let states = self.files.iter().map(|file| FileState {
            number: file.number,
            limits: file.limits,
            urls: file.urls() as u32,
            bytes: file.segments.iter().map(SegmentPlan::size).sum(),
            media: file.segments.iter().map(SegmentPlan::media).sum(),
        });
        let mut shelf = Shelf::new(states.collect(), next);
        let mut arrivals: Vec<u32> = members.iter().copied().filter(|at| !settled[*at as usize]).collect();
        self.shrink_overfull(&mut shelf, &mut arrivals);
        if self.files.last().is_some_and(|file| file.loses_to_others) {
            shelf.seal();
        }
        for number in shelf.fold(!arrivals.is_empty()) {
            let at = self.files.iter().position(|file| file.number == number);
            let Some(file) = at.map(|at| self.files.remove(at)) else { continue };
            arrivals.extend(file.segments.iter().flat_map(|segment| self.members(segment)));
            plan.folded.extend(file.id);
        }
        self.place(&mut shelf, arrivals, members.len());
        if !members.is_empty() || next > 1 {
            plan.next_numbers.insert((self.name.to_owned(), self.strand), shelf.next_number());
        }
        plan.files.append(&mut self.files);
    }

    /// Takes a file over as it stands, less what is gone from it.
    fn stand(&mut self, file: &FileRow, settled: &mut [bool]) {
        let limits = Limits {
            urls: self.cut.urls_per_file.for_standing(file.limits.urls),
            bytes: self.renderer.inside(self.cut.bytes_per_file),
            media: self.cut.media_per_file,
        };
        let mut plan = FilePlan {
            id: Some(file.id),
            section: file.section.clone(),
            strand: file.strand,
            number: file.number,
            limits,
            resized: limits != file.limits,
            before: Some(file.standing),
            segments: Vec::with_capacity(file.segments.len()),
            dropped: Vec::new(),
            loses_to_others: false,
        };
        for segment in &file.segments {
            let owners = &self.owners[segment.first..segment.first + segment.count as usize];
            let mut clean = true;
            for &owner in owners {
                let here = owner != UNKNOWN && self.candidates[owner as usize].section == self.section;
                plan.loses_to_others |= owner != UNKNOWN && !here;
                clean &= here && self.candidates[owner as usize].same;
                if here {
                    settled[owner as usize] = true;
                }
            }
            if clean {
                plan.segments.push(SegmentPlan::Kept(*segment));
                continue;
            }
            let stays = |owner: &u32| *owner != UNKNOWN && self.candidates[*owner as usize].section == self.section;
            let members: Vec<u32> = owners.iter().copied().filter(stays).collect();
            if members.is_empty() {
                plan.dropped.push(segment.number);
            } else {
                plan.segments.push(SegmentPlan::Made(self.made(segment.number, members)));
            }
        }
        self.files.push(plan);
    }

    fn made(&self, number: u32, members: Vec<u32>) -> Made {
        let mut out = Vec::new();
        let mut made = Made::new(number);
        for member in members {
            out.clear();
            let (frame, media) = self.renderer.render(&self.candidates[member as usize], &mut out);
            made.add(member, Weight { bytes: out.len() as u64, media }, frame);
        }
        made
    }

    fn members(&self, segment: &SegmentPlan) -> Vec<u32> {
        match segment {
            SegmentPlan::Kept(row) => self.owners[row.first..row.first + row.count as usize].to_vec(),
            SegmentPlan::Made(made) => made.members.clone(),
        }
    }

    /// The weight of an entry and the namespaces it needs, by rendering it where that has not been done.
    fn measure(&self, at: u32) -> (Weight, Frame) {
        let candidate = &self.candidates[at as usize];
        if candidate.bytes > 0 {
            return (Weight { bytes: u64::from(candidate.bytes), media: candidate.media }, candidate.frame());
        }
        let mut out = Vec::new();
        let (frame, media) = self.renderer.render(candidate, &mut out);
        (Weight { bytes: out.len() as u64, media }, frame)
    }

    /// Takes entries from the end of files that hold more than they may.
    fn shrink_overfull(&mut self, shelf: &mut Shelf, arrivals: &mut Vec<u32>) {
        while let Some(number) = shelf.overfull() {
            let Some(at) = self.files.iter().position(|file| file.number == number) else { break };
            let Some(last) = self.files[at].segments.pop() else { break };
            let mut members = self.members(&last);
            let segment = last.number();
            while shelf.overfull() == Some(number)
                && let Some(member) = members.pop()
            {
                shelf.take_out(number, self.measure(member).0);
                arrivals.push(member);
            }
            self.files[at].loses_to_others = true;
            if members.is_empty() {
                self.files[at].dropped.push(segment);
            } else {
                let made = self.made(segment, members);
                self.files[at].segments.push(SegmentPlan::Made(made));
            }
        }
    }

    /// Puts arrivals into the open file, oldest first, and opens others as they are needed.
    fn place(&mut self, shelf: &mut Shelf, arrivals: Vec<u32>, section_size: usize) {
        let aged = arrivals.into_par_iter().map(|at| {
            let candidate = &self.candidates[at as usize];
            (candidate.age, candidate.named, at, self.measure(at))
        });
        let mut aged: Vec<_> = aged.collect();
        aged.par_sort_unstable_by_key(|(age, named, ..)| (*age, *named));
        let opening = Limits {
            urls: self.cut.urls_per_file.when_opened(section_size),
            bytes: self.renderer.inside(self.cut.bytes_per_file),
            media: self.cut.media_per_file,
        };
        for (_, _, at, (weight, frame)) in aged {
            let number = shelf.place(weight, opening);
            if self.files.last().is_none_or(|file| file.number != number) {
                self.files.push(FilePlan {
                    id: None,
                    section: self.name.to_owned(),
                    strand: self.strand,
                    number,
                    limits: opening,
                    resized: false,
                    before: None,
                    segments: Vec::new(),
                    dropped: Vec::new(),
                    loses_to_others: false,
                });
            }
            let last = self.files.len() - 1;
            self.append(last, at, weight, frame);
        }
    }

    /// Adds an entry at the end of a file.
    fn append(&mut self, file: usize, member: u32, weight: Weight, frame: Frame) {
        if let Some(SegmentPlan::Made(made)) = self.files[file].segments.last_mut()
            && made.members.len() < SEGMENT
        {
            return made.add(member, weight, frame);
        }
        let room = self.files[file].segments.last().is_some_and(|segment| segment.len() < SEGMENT);
        let last = if room { self.files[file].segments.pop() } else { None };
        let mut made = match last {
            Some(SegmentPlan::Kept(row)) => Made {
                number: row.number,
                members: self.members(&SegmentPlan::Kept(row)),
                frame: row.frame,
                size: row.size,
                media: row.media,
            },
            _ => {
                let taken = self.files[file].segments.iter().map(SegmentPlan::number);
                let number = taken.chain(self.files[file].dropped.iter().copied()).max().map_or(0, |number| number + 1);
                Made::new(number)
            }
        };
        made.add(member, weight, frame);
        self.files[file].segments.push(SegmentPlan::Made(made));
    }
}
