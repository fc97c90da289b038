//! Arranging: which file and which segment of it each entry goes to.
//!
//! Files and segments in which nothing moved are carried over without being looked into. What has to be made anew is
//! listed entry by entry, for [`publish`](crate::publish) to render and compress.

mod plan;
mod stack;

use std::cmp::Reverse;
use std::collections::HashMap;
use std::ops::Range;
use std::sync::mpsc::channel;

use atlas_core::choose::{Kept, Section, Sections};
use atlas_core::contribution::Said;
use atlas_core::derive::news::MOST_NEWS;
use atlas_core::format::{Frame, write_url};
use atlas_core::placement::{FileState, Limits, MOST_BYTES, Shelf, Strand, USUAL_MEDIA, UrlsPerFile, Weight};
use atlas_core::shape::Shape;
use rayon::prelude::*;
use serde::Serialize;

pub(crate) use self::plan::SEGMENT;
pub use self::plan::{FilePlan, From, Made, Member, Plan, SegmentPlan};
use self::stack::Stack;
use crate::arrival::{Arrivals, Place};
use crate::derive::Alternates;
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered};
use crate::model::{Facts, FileRow, NO_GROUP, SegmentRow, SegmentText, facts_of};
use crate::settle::{Candidate, Fate, Settled};

/// In how many bytes texts of segments are kept at hand that will be made again, rather than unpacked twice.
const TEXTS: usize = 32 << 20;
/// How many segments are looked into at a time.
const SEGMENTS_AT_A_TIME: usize = 256;

/// How files are cut.
#[derive(Debug, Clone, Serialize)]
pub struct Cut {
    /// Entries in a file.
    pub urls_per_file: UrlsPerFile,
    /// Bytes in a file, frame included.
    pub bytes_per_file: u64,
    /// Pictures and videos in a file.
    pub media_per_file: u32,
}

impl Default for Cut {
    fn default() -> Self {
        Self { urls_per_file: UrlsPerFile::Auto, bytes_per_file: MOST_BYTES, media_per_file: USUAL_MEDIA }
    }
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

    /// What a file may hold that is opened in one strand of a section of so many entries.
    pub(crate) fn limits(
        &self,
        section: Option<&Section>,
        strand: Strand,
        style: Option<&str>,
        entries: usize,
    ) -> Limits {
        let cut = section.map_or_else(|| self.clone(), |section| self.of(section, strand));
        Limits {
            urls: cut.urls_per_file.when_opened(entries),
            bytes: inside(cut.bytes_per_file, style),
            media: cut.media_per_file,
        }
    }
}

/// Bytes of a file that are left for its entries.
fn inside(bytes_per_file: u64, style: Option<&str>) -> u64 {
    bytes_per_file.saturating_sub(Frame::most_bytes(style))
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
    /// Appends the `url` element of a candidate, whose row has been read; returns the frame it needs, and how many media are in it.
    pub(crate) fn render(&self, candidate: &Candidate, said: &Said<'_>, out: &mut Vec<u8>) -> (Frame, u32) {
        let group = self.alternates.list(candidate.group);
        let entry = self.shape.entry(said, candidate.kept(), candidate.observed(), group, candidate.strand);
        write_url(out, &entry);
        (Frame::of(&entry), entry.media())
    }

    /// Appends the `url` element of an entry that is new, whose row has been read.
    pub(crate) fn render_new(&self, kept: Kept, group: u32, said: &Said<'_>, out: &mut Vec<u8>) -> (Frame, u32) {
        let entry = self.shape.entry(said, kept, None, self.alternates.list(group), Strand::Pages);
        write_url(out, &entry);
        (Frame::of(&entry), entry.media())
    }

    /// The weight of a candidate and the namespaces it needs.
    fn measure(&self, candidate: &Candidate) -> (Weight, Frame) {
        let mut out = Vec::new();
        let (frame, media) = self.render(candidate, &Said::read(&self.arrivals.row(candidate.place)), &mut out);
        (Weight { bytes: out.len() as u64, media }, frame)
    }
}

/// What arranging looks at.
pub(crate) struct Site<'a> {
    pub(crate) ledger: &'a dyn Ledger,
    pub(crate) remembered: &'a Remembered,
    pub(crate) sections: &'a Sections,
    pub(crate) cut: &'a Cut,
    pub(crate) renderer: Renderer<'a>,
}

/// Arranges all entries: first those that stand, file by file; then those that wait for a place, window by window. `None` where
/// some have to go elsewhere whose rows were let go.
pub(crate) fn arrange(site: &Site<'_>, settled: &mut Settled) -> Result<Option<Plan>, StoreError> {
    let mut arranging = Arranging::new(site, settled);
    arranging.stand(settled)?;
    let mut waiting = arranging.make_room(settled)?;
    let wanted = std::mem::take(&mut waiting.recalled);
    let Site { ledger, remembered, renderer, .. } = site;
    let recalled = settled.recall(&wanted, renderer.arrivals, *ledger, remembered, renderer.alternates)?;
    if recalled.len() < wanted.len() {
        return Ok(None);
    }
    waiting.listed.extend(recalled);
    arranging.place(settled, waiting.listed);
    arranging.fill_news(settled, waiting.news)?;
    Ok(Some(arranging.plan(settled)))
}

/// Entries that wait for a place.
#[derive(Default)]
struct Waiting {
    /// Among [`Settled::listed`].
    listed: Vec<u32>,
    /// As they were, by where the ledger remembers them.
    recalled: Vec<u32>,
    /// Articles that are news, among [`Settled::listed`].
    news: Vec<u32>,
}

/// An entry that is to be placed. Small, because there may be as many as a window has rows, and they are sorted.
struct Arrival {
    age: i64,
    named: Place,
    member: Member,
    bytes: u32,
    media: u32,
    shelf: u16,
    frame: Frame,
}

impl Arrival {
    fn new(age: i64, named: Place, member: Member, shelf: usize, (weight, frame): (Weight, Frame)) -> Self {
        let bytes = u32::try_from(weight.bytes).unwrap_or(u32::MAX);
        Self { age, named, member, bytes, media: weight.media, shelf: shelf as u16, frame }
    }

    fn weight(&self) -> Weight {
        Weight { bytes: u64::from(self.bytes), media: self.media }
    }
}

/// Entries whose rows were not read: what they hold is counted from what was written of them.
#[derive(Default)]
struct Untouched {
    /// By section, of segments in which no row was read.
    whole: Vec<(usize, Facts)>,
    /// Segments in which some were.
    mixed: Vec<(usize, i64, SegmentRow)>,
}

impl Untouched {
    fn note(&mut self, section: usize, file: i64, segment: &SegmentRow, fates: &[u8]) {
        match fates.iter().filter(|fate| **fate == Fate::Untouched as u8).count() {
            0 => {}
            all if all == fates.len() => self.whole.push((section, segment.facts)),
            _ => self.mixed.push((section, file, *segment)),
        }
    }

    fn read(self, ledger: &dyn Ledger, settled: &mut Settled) -> Result<(), StoreError> {
        self.whole.iter().for_each(|(section, facts)| settled.counts.tallies[*section].add(facts));
        for some in self.mixed.chunks(SEGMENTS_AT_A_TIME) {
            let place = |(_, file, segment): &&(usize, i64, SegmentRow)| (*file, segment.number);
            let facts = look_into(ledger, some, place, |(section, _, segment), body| {
                let fates = &settled.fates[segment.range()];
                let untouched = |at: u32| fates[at as usize] == Fate::Untouched as u8;
                Ok((*section, SegmentText::read(&body, segment)?.facts(segment, untouched)))
            })?;
            facts.iter().for_each(|(section, facts)| settled.counts.tallies[*section].add(facts));
        }
        Ok(())
    }
}

/// Looks into the texts of some segments in other threads, while the next ones are read from their places in the ledger. What is
/// found is in the order of the segments.
fn look_into<T: Send, F: Send>(
    ledger: &dyn Ledger,
    segments: impl IntoIterator<Item = T>,
    place: impl Fn(&T) -> (i64, u32),
    look: impl Fn(T, Vec<u8>) -> Result<F, StoreError> + Sync,
) -> Result<Vec<F>, StoreError> {
    let (sender, found) = channel();
    let look = &look;
    rayon::in_place_scope(|scope| {
        for (segment, nth) in segments.into_iter().zip(0usize..) {
            let (file, number) = place(&segment);
            let (body, sender) = (ledger.body(file, number)?, sender.clone());
            // Whoever listens stops only when all have been heard.
            scope.spawn(move |_| _ = sender.send((nth, look(segment, body))));
        }
        Ok::<(), StoreError>(())
    })?;
    drop(sender);
    let mut found: Vec<(usize, Result<F, StoreError>)> = found.into_iter().collect();
    found.sort_unstable_by_key(|(nth, _)| *nth);
    found.into_iter().map(|(_, found)| found).collect()
}

struct Arranging<'a> {
    site: &'a Site<'a>,
    /// By section and strand.
    stacks: Vec<Stack<'a>>,
    folded: Vec<i64>,
}

impl<'a> Arranging<'a> {
    fn new(site: &'a Site<'a>, settled: &Settled) -> Self {
        let sections = site.sections.list().iter().enumerate();
        let stacks = sections.flat_map(|(at, section)| {
            Strand::ALL.map(|strand| Stack {
                section: at,
                name: &section.name,
                strand,
                cut: site.cut.of(section, strand),
                inside: inside(site.cut.of(section, strand).bytes_per_file, site.renderer.style),
                files: Vec::new(),
                shelf: Shelf::new(Vec::new(), 1),
                entries: if strand == Strand::Pages { settled.counts.tallies[at].entries } else { 0 },
                awaited: strand == Strand::Pages && settled.counts.tallies[at].added > 0,
            })
        });
        // Sections that are no longer configured have lost all their entries to others.
        let gone = |file: &&FileRow| site.sections.named(&file.section).is_none();
        let folded = site.remembered.files.iter().filter(gone).map(|file| file.id).collect();
        Self { site, stacks: stacks.collect(), folded }
    }

    fn stack_of(section: usize, strand: Strand) -> usize {
        section * Strand::ALL.len() + strand as usize
    }

    /// Takes files over as they stand, less what is gone from them.
    fn stand(&mut self, settled: &mut Settled) -> Result<(), StoreError> {
        let mut untouched = Untouched::default();
        let listed: HashMap<u32, u32> =
            settled.listed.iter().zip(0..).filter_map(|(candidate, at)| Some((candidate.prior?, at))).collect();
        for file in &self.site.remembered.files {
            let Some(section) = self.site.sections.named(&file.section) else { continue };
            let stack = &mut self.stacks[Self::stack_of(section, file.strand)];
            let limits = Limits {
                urls: stack.cut.urls_per_file.for_standing(file.limits.urls),
                bytes: stack.inside,
                media: stack.cut.media_per_file,
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
                let fates = &settled.fates[segment.range()];
                if fates.iter().all(|fate| Fate::stays(*fate)) {
                    if stack.strand == Strand::Pages {
                        untouched.note(section, file.id, segment, fates);
                    }
                    plan.segments.push(SegmentPlan::Kept(*segment));
                    continue;
                }
                let mut made = Made { base: Some(*segment), ..Made::new(segment.number) };
                for (fate, nth) in fates.iter().zip(0..) {
                    if Fate::stays(*fate) {
                        made.members.push(Member::base(nth));
                    } else if let Some(&at) = listed.get(&(segment.first as u32 + nth)) {
                        let here = usize::from(settled.listed[at as usize].section) == section;
                        plan.loses_to_others |= !here;
                        made.members.extend(here.then(|| Member::listed(at)));
                    }
                }
                match made.members.is_empty() {
                    true => plan.dropped.push(segment.number),
                    false => plan.segments.push(SegmentPlan::Made(made)),
                }
            }
            stack.files.push(plan);
        }
        untouched.read(self.site.ledger, settled)?;
        self.measure(settled)?;
        for stack in &mut self.stacks {
            stack.files.sort_by_key(|file| file.number);
            let states = stack.files.iter().map(|file| FileState {
                number: file.number,
                limits: file.limits,
                urls: file.urls() as u32,
                bytes: file.segments.iter().map(SegmentPlan::size).sum(),
                media: file.segments.iter().map(SegmentPlan::media).sum(),
            });
            let next = self.site.remembered.next_numbers.get(&(stack.name.to_owned(), stack.strand)).copied();
            stack.shelf = Shelf::new(states.collect(), next.unwrap_or(1));
            if stack.strand != Strand::Pages {
                stack.entries = stack.shelf.files().iter().map(|file| u64::from(file.urls)).sum();
            }
        }
        Ok(())
    }

    /// Finds out how large the segments are that lost entries, or in which some changed.
    fn measure(&mut self, settled: &mut Settled) -> Result<(), StoreError> {
        let (ledger, renderer) = (self.site.ledger, self.site.renderer);
        let files = self.stacks.iter_mut().flat_map(|stack| {
            let section = stack.section;
            stack.files.iter_mut().map(move |file| (section, file))
        });
        let mut touched: Vec<(i64, usize, &mut Made)> = files
            .flat_map(|(section, file)| {
                let id = file.id.unwrap_or_default();
                file.segments.iter_mut().filter_map(move |segment| match segment {
                    SegmentPlan::Made(made) => Some((id, section, made)),
                    SegmentPlan::Kept(_) => None,
                })
            })
            .collect();
        let mut room = TEXTS;
        for some in touched.chunks_mut(SEGMENTS_AT_A_TIME) {
            let place = |(file, _, made): &&mut (i64, usize, &mut Made)| (*file, made.number);
            let facts = look_into(ledger, &mut *some, place, |(_, section, made), body| {
                let Some(base) = made.base else { return Ok((*section, Facts::default())) };
                let text = SegmentText::read(&body, &base)?;
                for member in std::mem::take(&mut made.members) {
                    let (weight, frame) = renderer.weigh(member, &base, &text, settled);
                    made.add(member, weight, frame);
                }
                let fates = &settled.fates[base.range()];
                let facts = text.facts(&base, |at| fates[at as usize] == Fate::Untouched as u8);
                made.text = Some(text);
                Ok((*section, facts))
            })?;
            facts.iter().for_each(|(section, facts)| settled.counts.tallies[*section].add(facts));
            for (.., made) in some {
                made.text.take_if(|text| text.size() > room);
                room -= made.text.as_ref().map_or(0, SegmentText::size);
            }
        }
        Ok(())
    }

    /// Takes entries out of files that hold more than they may, and out of files that are to be folded.
    fn make_room(&mut self, settled: &Settled) -> Result<Waiting, StoreError> {
        let mut waiting = Waiting::default();
        let files = self.stacks.iter().flat_map(|stack| &stack.files);
        let made = files.flat_map(|file| &file.segments).filter_map(|segment| match segment {
            SegmentPlan::Made(made) => Some(made),
            SegmentPlan::Kept(_) => None,
        });
        let mut placed = vec![false; settled.listed.len()];
        for member in made.flat_map(|made| &made.members) {
            if let From::Listed(at) = member.from() {
                placed[at as usize] = true;
            }
        }
        for ((candidate, at), _) in settled.listed.iter().zip(0..).zip(&placed).filter(|(_, placed)| !**placed) {
            if candidate.strand == Strand::News {
                waiting.news.push(at);
                continue;
            }
            let stack = &mut self.stacks[Self::stack_of(usize::from(candidate.section), candidate.strand)];
            stack.awaited = true;
            stack.entries += u64::from(candidate.strand != Strand::Pages);
            waiting.listed.push(at);
        }
        for stack in self.stacks.iter_mut().filter(|stack| stack.strand != Strand::News) {
            stack.shrink_overfull(self.site, settled, &mut waiting)?;
            if stack.files.last().is_some_and(|file| file.loses_to_others) {
                stack.shelf.seal();
            }
            for number in stack.shelf.fold(stack.awaited) {
                let Some(at) = stack.files.iter().position(|file| file.number == number) else { continue };
                let file = stack.files.remove(at);
                for segment in &file.segments {
                    match segment {
                        SegmentPlan::Kept(row) => waiting.recalled.extend(row.range().map(|at| at as u32)),
                        SegmentPlan::Made(made) => made.members.iter().for_each(|one| waiting.add(*one, made.base)),
                    }
                }
                self.folded.extend(file.id);
            }
        }
        waiting.recalled.sort_unstable();
        Ok(waiting)
    }

    /// Puts those that wait for a place into the open files, the oldest of each window first, and opens others as they are
    /// needed.
    fn place(&mut self, settled: &Settled, mut listed: Vec<u32>) {
        let renderer = self.site.renderer;
        let arrivals = renderer.arrivals;
        listed.sort_unstable_by_key(|at| settled.listed[*at as usize].place);
        let mut listed = listed.into_iter().peekable();
        let any_added = settled.counts.added.count() > 0;
        let mut window = |blocks: Range<usize>| {
            let end = arrivals.first_of(blocks.end);
            let mut some: Vec<u32> = Vec::new();
            while let Some(at) = listed.next_if(|at| settled.listed[*at as usize].place < end) {
                some.push(at);
            }
            let mut window: Vec<Arrival> = some.par_iter().map(|at| renderer.arrival(*at, settled)).collect();
            if any_added {
                window.par_extend(renderer.added(blocks, settled));
            }
            window.par_sort_unstable_by_key(|arrival| (arrival.age, arrival.named));
            window
        };
        let stacks = &mut self.stacks;
        let mut put = |arrivals: Vec<Arrival>| {
            for arrival in arrivals {
                stacks[usize::from(arrival.shelf)].place(arrival.member, arrival.weight(), arrival.frame);
            }
        };
        // Putting one after the other is for one core: meanwhile the next window is put in order.
        let mut ready = Vec::new();
        for blocks in arrivals.windows() {
            (ready, ()) = rayon::join(|| window(blocks), || put(ready));
        }
        put(ready);
    }

    /// Fills the files of news: the newest articles stand in the first, older ones follow, and a file that none is left for goes. Such a
    /// file is as it was where it would list the same.
    fn fill_news(&mut self, settled: &Settled, listed: Vec<u32>) -> Result<(), StoreError> {
        let Site { ledger, remembered, renderer, .. } = *self.site;
        let mut news: Vec<Vec<Arrival>> = self.stacks.iter().map(|_| Vec::new()).collect();
        for at in listed {
            let arrival = renderer.arrival(at, settled);
            news[usize::from(arrival.shelf)].push(arrival);
        }
        let stacks = self.stacks.iter_mut().zip(news).filter(|(stack, _)| stack.strand == Strand::News);
        for (stack, mut articles) in stacks {
            articles.sort_unstable_by_key(|article| (Reverse(article.age), article.named));
            let mut before = std::mem::take(&mut stack.files);
            if articles.is_empty() {
                stack.files = before.extract_if(.., |file| !file.segments.is_empty()).collect();
            }
            stack.refill(articles, &mut before);
            for file in &mut stack.files {
                let Some(row) = remembered.files.iter().find(|row| Some(row.id) == file.id) else { continue };
                if file.limits == row.limits && would_list_the_same(file, row, ledger, settled)? {
                    *file = FilePlan::as_it_stands(row);
                }
            }
            self.folded.extend(before.iter().filter_map(|file| file.id));
        }
        Ok(())
    }

    fn plan(self, settled: &Settled) -> Plan {
        let mut plan =
            Plan { files: Vec::new(), folded: self.folded, next_numbers: self.site.remembered.next_numbers.clone() };
        for mut stack in self.stacks {
            let next = match stack.strand {
                Strand::News => stack.files.last().map_or(1, |file| file.number + 1),
                _ => stack.shelf.next_number(),
            };
            let any =
                stack.entries > 0 || settled.counts.tallies[stack.section].entries > 0 && stack.strand == Strand::Pages;
            if any || next > 1 {
                plan.next_numbers.insert((stack.name.to_owned(), stack.strand), next);
            }
            plan.files.append(&mut stack.files);
        }
        plan
    }
}

/// Whether a file that was filled anew lists what it listed before, as it did.
fn would_list_the_same(
    file: &FilePlan,
    before: &FileRow,
    ledger: &dyn Ledger,
    settled: &Settled,
) -> Result<bool, StoreError> {
    let members = file.segments.iter().flat_map(|segment| match segment {
        SegmentPlan::Made(made) => made.members.as_slice(),
        SegmentPlan::Kept(_) => &[],
    });
    let now = members.filter_map(|member| match member.from() {
        From::Listed(at) => Some(settled.listed[at as usize].lane),
        _ => None,
    });
    let mut lanes = Vec::new();
    for segment in &before.segments {
        lanes.extend(ledger.lane(before.id, segment)?);
    }
    Ok(now.eq(lanes))
}

impl Waiting {
    fn add(&mut self, member: Member, base: Option<SegmentRow>) {
        match (member.from(), base) {
            (From::Base(nth), Some(base)) => self.recalled.push(base.first as u32 + nth),
            (From::Listed(at), _) => self.listed.push(at),
            _ => {}
        }
    }
}

impl Renderer<'_> {
    /// The weight of an entry of a segment that stood before, and the namespaces it needs.
    fn weigh(&self, member: Member, base: &SegmentRow, text: &SegmentText, settled: &Settled) -> (Weight, Frame) {
        match member.from() {
            From::Base(at) => {
                let bytes = text.element(at).len() as u64;
                if base.frame == Frame::default() {
                    return (Weight { bytes, media: 0 }, Frame::default());
                }
                let (frame, facts) = facts_of(text.element(at), base.frame);
                (Weight { bytes, media: u32::try_from(facts.media()).unwrap_or(u32::MAX) }, frame)
            }
            From::Listed(at) => self.measure(&settled.listed[at as usize]),
            From::Row(_) => Default::default(),
        }
    }

    fn arrival(&self, at: u32, settled: &Settled) -> Arrival {
        let candidate = &settled.listed[at as usize];
        let shelf = Arranging::stack_of(usize::from(candidate.section), candidate.strand);
        Arrival::new(candidate.age, candidate.named, Member::listed(at), shelf, self.measure(candidate))
    }

    /// The entries in some blocks that the ledger did not know.
    fn added(&self, blocks: Range<usize>, settled: &Settled) -> impl ParallelIterator<Item = Arrival> {
        let arrivals = self.arrivals;
        blocks.into_par_iter().flat_map_iter(move |at| {
            let (block, before) = (arrivals.block(at), arrivals.first_of(at).0);
            let rows = (0..block.len()).zip(before..);
            let new = rows.filter(|(_, at)| settled.standing.is_new(Place(*at)));
            let added = new.filter_map(|(row, at)| {
                let mark = block.mark(row);
                let (kept, place) = (mark.kept()?, Place(at));
                let weight = Weight { bytes: u64::from(mark.bytes), media: mark.media() };
                let group = self.alternates.group_of(place);
                let measured = match group {
                    NO_GROUP => (weight, mark.frame()),
                    group => {
                        // It was measured without its alternates.
                        let (row, mut out) = (arrivals.row(place), Vec::new());
                        let (frame, media) = self.render_new(kept, group, &Said::read(&row), &mut out);
                        (Weight { bytes: out.len() as u64, media }, frame)
                    }
                };
                let shelf = Arranging::stack_of(usize::from(kept.section), Strand::Pages);
                let named = settled.standing.named(place);
                Some(Arrival::new(mark.age, named, Member::row(place), shelf, measured))
            });
            added.collect::<Vec<_>>()
        })
    }
}
