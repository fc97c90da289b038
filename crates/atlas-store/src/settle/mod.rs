//! Settling and choosing: one entry a URL, joined with what the ledger remembers of it.
//!
//! Rows are dealt into partitions by their key and each partition is joined with its share of the ledger's lane, in
//! parallel. Nothing is sorted by URL. What comes out is a candidate for each kept entry, a count for each reason, and the
//! remembered entries that are gone.

mod join;

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};

use atlas_core::address;
use atlas_core::choose::{Chooser, Kept, Reason, Verdict};
use atlas_core::contribution::{Said, url_of};
use atlas_core::entry::{Changefreq, DatePolicy, Priority};
use atlas_core::fingerprint::{self, Prints};
use atlas_core::format::{Frame, write_url};
use atlas_core::lastmod::Lastmod;
use atlas_core::shape::{self, Media, Shape};
use atlas_core::strand::Strand;
use rayon::prelude::*;

use self::join::PASSED_OVER;
pub(crate) use self::join::{Odds, Origin, join};
use crate::arrival::{Arrivals, Place};
use crate::derive::{Alternates, NO_GROUP};
use crate::ledger::{Change, LaneEntry, NEVER, Remembered};
use crate::report::{Counted, Due, DueTo, IncompleteVideo};

/// How many blocks are chosen from before what came of them is put together: that would else stand in memory twice.
const BLOCKS_AT_A_TIME: usize = 16;
/// How many examples are shown of anything that is counted.
pub const EXAMPLES: usize = 5;
/// A candidate that the ledger did not know.
pub const UNKNOWN: u32 = u32::MAX;
/// A site of fewer pages than this has no redesign: every one of its pages may well have been edited.
const REDESIGN_LEAST: u64 = 12;

/// An entry that goes in.
#[derive(Debug, Clone)]
pub struct Candidate {
    /// What the ledger will remember of it.
    pub lane: LaneEntry,
    /// Where its row is.
    pub place: Place,
    /// Where it was named first: the source order, which a row merged from several no longer has.
    pub named: Place,
    /// Where the ledger remembers it, or [`UNKNOWN`].
    pub prior: u32,
    /// When it came to be, in seconds since 1970; far in the future where nobody says.
    pub age: i64,
    /// Bytes of its `url` element; 0 where it was not rendered because nothing about it moved.
    pub bytes: u32,
    /// Pictures and videos in it, where it was rendered.
    pub media: u32,
    /// The namespaces it needs, where it was rendered: as bits, because there are as many candidates as entries.
    frame: u8,
    /// Its section.
    pub section: u16,
    /// The strand of that section.
    pub strand: Strand,
    /// Its group of translations, or `NO_GROUP`.
    pub group: u32,
    /// What it says may make it one of a group of translations.
    pub speaks_of_others: bool,
    /// It has videos, complete or not.
    pub has_videos: bool,
    /// The strands that it stands in besides that of the pages, as bits.
    pub(crate) own_strands: u8,
    changefreq: Option<Changefreq>,
    priority: Option<Priority>,
    date_policy: DatePolicy,
    /// All that was said of it is as it was, and so is what is written.
    pub same: bool,
    /// It changed since the last build.
    pub news: News,
    content_moved: bool,
    declared_moved: bool,
    dated: bool,
    said: u64,
}

/// What an entry is to those who read about changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum News {
    /// It was not in before.
    Added,
    /// Its page changed.
    Changed,
    /// No news.
    None,
}

impl Candidate {
    /// The namespaces it needs, where it was rendered.
    pub fn frame(&self) -> Frame {
        Frame::from_bits(self.frame)
    }

    /// How it goes in.
    pub fn kept(&self) -> Kept {
        Kept {
            section: usize::from(self.section),
            changefreq: self.changefreq,
            priority: self.priority,
            date_policy: self.date_policy,
        }
    }

    /// The day on which its content was last seen to change.
    pub fn observed(&self) -> Option<i32> {
        Some(self.lane.observed).filter(|day| *day != NEVER)
    }

    /// The fingerprint of what is written of it.
    fn written(&self, settings: u64, group: u64) -> u64 {
        fingerprint::written(self.said, settings, self.observed(), &self.kept(), group, self.strand)
    }
}

/// What settling needs to know.
#[derive(Debug)]
pub struct Terms<'a> {
    /// Decides about each entry.
    pub chooser: &'a Chooser,
    /// The number of this run.
    pub run: u32,
    /// What of an entry is written.
    pub shape: &'a Shape,
    /// The day of this run, counted from 1970-01-01.
    pub today: i32,
    /// A fingerprint of the settings that have a say in what is written.
    pub settings: u64,
    /// The page reader that the ledger's prints were taken with is this one.
    pub same_reader: bool,
}

/// Counts of one section.
#[derive(Debug, Clone, Copy, Default)]
pub struct Tally {
    /// Entries.
    pub entries: u64,
    /// Pictures that were said of them.
    pub images: u64,
    /// Videos that can be written.
    pub videos: u64,
    /// Articles that are news.
    pub news: u64,
    /// The newest date.
    pub newest: Option<Lastmod>,
}

impl Tally {
    fn newest(&mut self, date: Option<Lastmod>) {
        if let Some(date) = date
            && self.newest.is_none_or(|known| known.seconds() < date.seconds())
        {
            self.newest = Some(date);
        }
    }
}

/// A count with the first few addresses, in the order of arrival.
#[derive(Debug, Clone, Default)]
pub(crate) struct Sample {
    count: u64,
    first: Vec<(Place, String)>,
}

impl Sample {
    fn add(&mut self, place: Place, address: &str) {
        self.add_with(place, || address.to_owned());
    }

    pub(crate) fn add_with(&mut self, place: Place, address: impl FnOnce() -> String) {
        self.count += 1;
        let later = self.first.len() == EXAMPLES && self.first.last().is_some_and(|(known, _)| *known < place);
        if !later {
            let at = self.first.partition_point(|(known, _)| *known < place);
            self.first.insert(at, (place, address()));
            self.first.truncate(EXAMPLES);
        }
    }

    fn join(&mut self, other: Self) {
        let count = self.count + other.count;
        other.first.iter().for_each(|(place, address)| self.add(*place, address));
        self.count = count;
    }

    /// How many.
    pub(crate) fn count(&self) -> u64 {
        self.count
    }

    /// For reports.
    pub(crate) fn counted(&self) -> Counted {
        Counted { count: self.count, examples: self.first.iter().map(|(_, address)| address.clone()).collect() }
    }
}

/// What falls due soonest.
#[derive(Debug, Clone, Default)]
pub(crate) struct Soonest {
    /// How many there are in all.
    pub(crate) count: u64,
    /// The first few.
    pub(crate) first: Vec<Due>,
}

impl Soonest {
    fn add(&mut self, at: Lastmod, url: &str, to: DueTo) {
        self.count += 1;
        let place = self.first.partition_point(|known| (known.at.seconds(), &*known.url) < (at.seconds(), url));
        if place < EXAMPLES {
            self.first.insert(place, Due { at, url: url.to_owned(), to });
            self.first.truncate(EXAMPLES);
        }
    }

    fn join(&mut self, other: Self) {
        let count = self.count + other.count;
        other.first.iter().for_each(|due| self.add(due.at, &due.url, due.to));
        self.count = count;
    }
}

/// Which rows count, and where merged ones come from: what lets all entries be gone over once more.
#[derive(Debug, Default)]
pub(crate) struct Standing {
    roles: Vec<Vec<u32>>,
    origins: Vec<Vec<Origin>>,
}

/// A row that stands for an entry.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Stand<'s> {
    /// Where the row is.
    pub(crate) place: Place,
    /// Where its URL was named first.
    pub(crate) named: Place,
    /// Where a merged row comes from.
    pub(crate) origin: Option<&'s Origin>,
    /// Where the ledger remembers it, or [`UNKNOWN`].
    prior: u32,
}

impl Standing {
    /// Rows that count by themselves, and those that were merged: their blocks are added to the arrivals.
    pub(crate) fn new(mut roles: Vec<Vec<u32>>, merged: Vec<join::Merged>, arrivals: &mut Arrivals) -> Self {
        let mut origins = Vec::new();
        for merged in merged {
            roles.push(merged.priors);
            origins.push(merged.origins);
            arrivals.push(merged.rows);
        }
        Self { roles, origins }
    }

    /// The number of blocks.
    pub(crate) fn blocks(&self) -> usize {
        self.roles.len()
    }

    /// All rows that stand for entries; those merged from several come last.
    pub(crate) fn all(&self) -> impl Iterator<Item = Stand<'_>> {
        (0..self.roles.len()).flat_map(|block| self.of_block(block))
    }

    /// The rows of one block that stand for entries.
    pub(crate) fn of_block(&self, block: usize) -> impl Iterator<Item = Stand<'_>> {
        let origins = block.checked_sub(self.roles.len() - self.origins.len()).map(|nth| &self.origins[nth]);
        let standing = self.roles[block].iter().enumerate().filter(|(_, prior)| **prior != PASSED_OVER);
        standing.map(move |(row, &prior)| {
            let place = Arrivals::place(block as u32, row);
            let origin = origins.map(|origins| &origins[row]);
            Stand { place, named: origin.map_or(place, |origin| origin.first), origin, prior }
        })
    }
}

impl Stand<'_> {
    /// The sources that speak of the entry.
    pub(crate) fn sources(&self, arrivals: &Arrivals) -> Cow<'_, [u16]> {
        match self.origin {
            Some(origin) => Cow::Borrowed(&origin.sources),
            None => Cow::Owned(vec![arrivals.source_of(self.place) as u16]),
        }
    }

    /// Decides about the entry, whose row has been read.
    pub(crate) fn choose(&self, said: &Said<'_>, chooser: &Chooser, arrivals: &Arrivals) -> Verdict {
        match self.origin {
            Some(origin) => chooser.choose(said, &origin.sources),
            None => chooser.choose(said, &[arrivals.source_of(self.place) as u16]),
        }
    }
}

/// A remembered entry that is no longer in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Gone {
    /// Its place in the lane.
    pub prior: u32,
    /// What to tell of it, if anything.
    pub change: Option<Change>,
    /// Why it is left out; `None` where no source knows it any more.
    pub reason: Option<Reason>,
}

/// How many entries of one source go in, and how many do not.
#[derive(Debug, Clone, Copy, Default)]
pub struct SourceTally {
    /// They go in.
    pub kept: u64,
    /// They do not.
    pub left_out: u64,
}

/// What came of settling.
#[derive(Debug, Default)]
pub struct Settled {
    /// Which rows count.
    pub(crate) standing: Standing,
    /// The day on which the content of each remembered entry was last seen to change, this run included.
    observed: Vec<i32>,
    /// Counts by source; an entry of several counts for each.
    pub sources: Vec<SourceTally>,
    /// Fields on which two sources say something else.
    pub(crate) at_odds: BTreeMap<Odds, Sample>,
    /// Entries on other hosts or schemes, by origin.
    pub(crate) elsewhere: BTreeMap<String, Sample>,
    /// Entries whose declared date moved and whose content did not.
    pub(crate) date_alone: Sample,
    /// Entries with a declared date that stayed while their content moved.
    pub(crate) content_alone: Sample,
    /// Entries that go in, in no order that means anything: those in the strand of the pages, then, once judged, those that
    /// stand in other strands too.
    pub candidates: Vec<Candidate>,
    /// Entries left out.
    pub(crate) left_out: BTreeMap<Reason, Sample>,
    /// Counts by section.
    pub tallies: Vec<Tally>,
    /// Remembered entries that are no longer in.
    pub gone: Vec<Gone>,
    /// Entries that were not in before.
    pub(crate) added: Sample,
    /// Entries whose page changed.
    pub(crate) changed: Sample,
    /// Pages without a head.
    pub(crate) headless: Sample,
    /// Entries that name a section that there is not.
    pub(crate) unknown_sections: Sample,
    incomplete: Vec<(Place, IncompleteVideo)>,
    /// Entries that go in or leave by themselves when their time comes.
    pub(crate) due: Soonest,
    /// Most pages changed at once without a declared date.
    pub redesign: bool,
    pages_known: u64,
    contents_moved: u64,
    dates_moved: u64,
}

impl Settled {
    /// The day on which the content of an entry was last seen to change.
    pub(crate) fn observed(&self, stand: &Stand<'_>) -> Option<i32> {
        let at = self.observed.get(stand.prior as usize)?;
        Some(*at).filter(|day| *day != NEVER)
    }

    /// The entries that go in, each once.
    pub fn pages(&self) -> impl Iterator<Item = &Candidate> {
        self.candidates.iter().take_while(|candidate| candidate.strand == Strand::Pages)
    }

    /// Videos that cannot be written, the first few.
    pub fn incomplete_videos(&self) -> Vec<IncompleteVideo> {
        self.incomplete.iter().map(|(_, video)| video.clone()).collect()
    }

    fn join(&mut self, mut other: Self) {
        self.candidates.append(&mut other.candidates);
        for (reason, sample) in other.left_out {
            self.left_out.entry(reason).or_default().join(sample);
        }
        for (mine, theirs) in self.tallies.iter_mut().zip(&other.tallies) {
            mine.entries += theirs.entries;
            mine.images += theirs.images;
            mine.videos += theirs.videos;
            mine.news += theirs.news;
            mine.newest(theirs.newest);
        }
        self.sources.resize(self.sources.len().max(other.sources.len()), SourceTally::default());
        for (mine, theirs) in self.sources.iter_mut().zip(&other.sources) {
            mine.kept += theirs.kept;
            mine.left_out += theirs.left_out;
        }
        for (origin, sample) in other.elsewhere {
            self.elsewhere.entry(origin).or_default().join(sample);
        }
        self.date_alone.join(other.date_alone);
        self.content_alone.join(other.content_alone);
        self.gone.append(&mut other.gone);
        self.headless.join(other.headless);
        self.unknown_sections.join(other.unknown_sections);
        self.incomplete.append(&mut other.incomplete);
        self.due.join(other.due);
        self.pages_known += other.pages_known;
        self.contents_moved += other.contents_moved;
        self.dates_moved += other.dates_moved;
    }
}

/// Settles all arrivals and chooses from them. Rows that had to be merged are added to the arrivals as blocks of their own.
///
/// First the keys alone are joined, partition by partition; then the rows are read, each once and in the order in which
/// they lie in memory. What is news is decided later, once the groups of translations are known.
pub fn settle(arrivals: &mut Arrivals, remembered: &Remembered, seed: u64, terms: &Terms<'_>) -> Settled {
    let lane = &remembered.lane[..];
    let pages = remembered.lane_of(|strand| strand == Strand::Pages).map(|(at, _, entry)| (at, entry));
    let joined = join(arrivals, pages, seed);
    let standing = Standing::new(joined.roles, joined.merged, arrivals);
    let mut settled = Settled {
        tallies: vec![Tally::default(); terms.chooser.sections.list().len()],
        at_odds: joined.at_odds,
        ..Settled::default()
    };
    settled.candidates.reserve_exact(standing.roles.iter().flatten().filter(|role| **role != PASSED_OVER).count());
    for first in (0..standing.roles.len()).step_by(BLOCKS_AT_A_TIME) {
        let some = first..(first + BLOCKS_AT_A_TIME).min(standing.roles.len());
        let choose =
            |block| Choosing::new(arrivals, lane, terms).run(standing.of_block(block), standing.roles[block].len());
        let parts: Vec<Settled> = some.into_par_iter().map(choose).collect();
        parts.into_iter().for_each(|part| settled.join(part));
    }
    settled.standing = standing;
    settled.gone.extend(joined.gone.into_iter().map(|prior| Gone {
        prior,
        change: Some(Change::Removed),
        reason: None,
    }));
    settled.left_out.extend(joined.duplicates.map(|sample| (Reason::Duplicate, sample)));
    settled.incomplete.sort_by_key(|(place, _)| *place);
    settled.redesign = settled.contents_moved >= REDESIGN_LEAST
        && settled.contents_moved * 10 > settled.pages_known * 6
        && settled.dates_moved * 10 < settled.contents_moved;
    settled
}

impl Settled {
    /// Decides what is news, now that it is known whether the whole site moved, and what of it has to be written.
    pub(crate) fn judge(
        &mut self,
        arrivals: &Arrivals,
        remembered: &Remembered,
        alternates: &Alternates,
        terms: &Terms<'_>,
    ) {
        judge(self, arrivals, remembered, alternates, terms);
        strands(self, remembered, terms);
    }
}

fn judge(
    settled: &mut Settled,
    arrivals: &Arrivals,
    remembered: &Remembered,
    alternates: &Alternates,
    terms: &Terms<'_>,
) {
    let (redesign, lane) = (settled.redesign, &remembered.lane);
    settled.observed = lane.iter().map(|entry| entry.observed).collect();
    let today = Lastmod::from_epoch_day(terms.today);
    settled.candidates.par_iter_mut().for_each(|candidate| {
        let prior = lane.get(candidate.prior as usize);
        if let Some(prior) = prior {
            candidate.lane.observed = prior.observed;
            candidate.lane.changed = prior.changed;
            let in_silence = prior.from_page != candidate.lane.from_page
                || (candidate.lane.from_page && (redesign || !terms.same_reader));
            let edited = candidate.content_moved && !in_silence;
            if edited {
                candidate.lane.observed = terms.today;
            }
            if edited || (candidate.declared_moved && !in_silence) {
                candidate.lane.changed = terms.run;
                candidate.news = News::Changed;
            }
        }
        let group = alternates.print(candidate.group);
        candidate.lane.written = candidate.written(terms.settings, group);
        candidate.same = prior.is_some_and(|prior| *prior == candidate.lane);
    });
    for candidate in &settled.candidates {
        if let Some(observed) = settled.observed.get_mut(candidate.prior as usize) {
            *observed = candidate.lane.observed;
        }
        let sample = match candidate.news {
            News::None => continue,
            News::Added => &mut settled.added,
            News::Changed => {
                if !candidate.dated && candidate.lane.observed == terms.today {
                    settled.tallies[usize::from(candidate.section)].newest(today);
                }
                &mut settled.changed
            }
        };
        sample.add_with(candidate.named, || url_of(arrivals.row(candidate.place)).to_owned());
    }
}

/// Adds a candidate for each strand that an entry stands in besides that of the pages.
fn strands(settled: &mut Settled, remembered: &Remembered, terms: &Terms<'_>) {
    if settled.candidates.iter().all(|candidate| candidate.own_strands == 0) {
        return;
    }
    let known = remembered.lane_of(|strand| strand != Strand::Pages);
    let known: HashMap<(u128, Strand), u32> =
        known.map(|(at, strand, entry)| ((entry.key, strand), at as u32)).collect();
    let more = settled.candidates.iter().filter(|candidate| candidate.own_strands != 0).flat_map(|page| {
        let strands = Strand::ALL.into_iter().filter(|strand| page.own_strands & bit(*strand) != 0);
        strands.map(|strand| {
            let prior = known.get(&(page.lane.key, strand)).copied().unwrap_or(UNKNOWN);
            let mut candidate = Candidate {
                strand,
                prior,
                bytes: 0,
                media: 0,
                group: NO_GROUP,
                own_strands: 0,
                news: News::None,
                changefreq: None,
                priority: None,
                date_policy: DatePolicy::None,
                ..page.clone()
            };
            candidate.lane =
                LaneEntry { observed: NEVER, page: 0, declared: 0, changed: 0, from_page: false, ..page.lane };
            candidate.lane.written = candidate.written(terms.settings, 0);
            candidate.same = remembered.lane.get(prior as usize).is_some_and(|prior| *prior == candidate.lane);
            candidate
        })
    });
    let mut more: Vec<Candidate> = more.collect();
    settled.candidates.append(&mut more);
}

/// The bit of a strand in [`Candidate::own_strands`].
fn bit(strand: Strand) -> u8 {
    1 << strand as u8
}

/// Choosing the entries of one block.
struct Choosing<'a> {
    arrivals: &'a Arrivals,
    lane: &'a [LaneEntry],
    terms: &'a Terms<'a>,
    scratch: Vec<u8>,
    out: Settled,
}

impl<'a> Choosing<'a> {
    fn new(arrivals: &'a Arrivals, lane: &'a [LaneEntry], terms: &'a Terms<'a>) -> Self {
        let tallies = vec![Tally::default(); terms.chooser.sections.list().len()];
        Self { arrivals, lane, terms, scratch: Vec::new(), out: Settled { tallies, ..Settled::default() } }
    }

    fn run<'s>(mut self, standing: impl Iterator<Item = Stand<'s>>, most: usize) -> Settled {
        self.out.candidates.reserve(most);
        for stand in standing {
            let said = Said::read(self.arrivals.row(stand.place));
            let verdict = stand.choose(&said, self.terms.chooser, self.arrivals);
            self.tally_sources(&stand, matches!(verdict, Verdict::Kept(_)));
            match verdict {
                Verdict::LeftOut(reason) => self.left_out(&said, reason, &stand),
                Verdict::Kept(kept) => self.kept(&said, kept, &stand),
            }
        }
        self.out
    }

    fn tally_sources(&mut self, stand: &Stand<'_>, kept: bool) {
        let alone = [self.arrivals.source_of(stand.place) as u16];
        for &source in stand.origin.map_or(&alone[..], |origin| &origin.sources) {
            let tallies = &mut self.out.sources;
            tallies.resize(tallies.len().max(usize::from(source) + 1), SourceTally::default());
            let tally = &mut tallies[usize::from(source)];
            if kept { tally.kept += 1 } else { tally.left_out += 1 }
        }
    }

    fn left_out(&mut self, said: &Said<'_>, reason: Reason, stand: &Stand<'_>) {
        self.out.left_out.entry(reason).or_default().add(stand.named, &said.url);
        let origin = address::origin(&said.url);
        if reason == Reason::OtherHost && origin != self.terms.chooser.site.root().origin() {
            self.out.elsewhere.entry(origin.to_owned()).or_default().add(stand.named, &said.url);
        }
        if let (Reason::Scheduled, Some(published)) = (reason, said.published) {
            self.out.due.add(published, &said.url, DueTo::GoIn);
        }
        if stand.prior != UNKNOWN {
            let told = (reason == Reason::Redirect).then_some(Change::Redirected);
            self.out.gone.push(Gone { prior: stand.prior, change: told, reason: Some(reason) });
        }
    }

    fn kept(&mut self, said: &Said<'_>, kept: Kept, stand: &Stand<'_>) {
        let &Stand { place, named, prior, origin } = stand;
        let mark = self.arrivals.mark(place);
        let (key, sum) = (mark.key, origin.map_or(mark.said, |origin| origin.sum));
        let prints = Prints::of(said, &mut self.scratch);
        let remembered = self.lane.get(prior as usize);
        let content_moved = remembered.is_some_and(|known| known.page != prints.page);
        let declared_moved = remembered.is_some_and(|known| known.declared != prints.declared);
        let from_page = said.digest.is_some();
        if from_page && remembered.is_some_and(|known| known.from_page) {
            self.out.pages_known += 1;
            self.out.contents_moved += u64::from(content_moved);
            self.out.dates_moved += u64::from(content_moved && declared_moved);
        }
        if self.terms.same_reader
            && from_page
            && remembered.is_some_and(|known| known.from_page)
            && said.modified.is_some()
        {
            match (content_moved, declared_moved) {
                (true, false) => self.out.content_alone.add(named, &said.url),
                (false, true) => self.out.date_alone.add(named, &said.url),
                _ => {}
            }
        }
        if said.no_head {
            self.out.headless.add(named, &said.url);
        }
        let section = said.own_section.as_deref();
        if let Some(section) = section.filter(|name| self.terms.chooser.sections.named(name).is_none()) {
            self.out.unknown_sections.add_with(named, || format!("{}\n“{section}”", said.url));
        }
        let observed = remembered.map_or(NEVER, |known| known.observed);
        let tally = &mut self.out.tallies[kept.section];
        tally.entries += 1;
        let shape = self.terms.shape;
        let (images, videos) = shape.media(said, kept.section);
        tally.images += images;
        tally.videos += videos;
        tally.newest(shape::lastmod(said, Some(observed).filter(|day| *day != NEVER), kept.date_policy));
        let own_strands = shape.own_strands(said, kept.section).fold(0, |bits, strand| bits | bit(strand));
        tally.news += u64::from(own_strands & bit(Strand::News) != 0);
        for video in said.videos.iter().filter(|_| shape.of(kept.section).videos != Media::Off) {
            let lacks = video.lacks(&said.url);
            if !lacks.is_empty() {
                self.out.incomplete.push((named, IncompleteVideo { page: said.url.to_string(), lacks }));
            }
        }
        if let Some(expires) = said.expires {
            self.out.due.add(expires, &said.url, DueTo::Leave);
        }
        let (bytes, media, frame): (_, _, Frame) =
            if prior == UNKNOWN { self.measure(said, kept) } else { Default::default() };
        self.out.candidates.push(Candidate {
            lane: LaneEntry {
                key,
                written: 0,
                page: prints.page,
                declared: prints.declared,
                observed: NEVER,
                changed: self.terms.run,
                from_page,
            },
            place,
            named,
            prior,
            age: said.age().unwrap_or(i64::MAX),
            bytes,
            media,
            frame: frame.bits(),
            section: kept.section as u16,
            strand: Strand::Pages,
            group: NO_GROUP,
            speaks_of_others: !said.alternates.is_empty() || said.language_group.is_some(),
            has_videos: !said.videos.is_empty(),
            own_strands,
            changefreq: kept.changefreq,
            priority: kept.priority,
            date_policy: kept.date_policy,
            same: false,
            news: if prior == UNKNOWN { News::Added } else { News::None },
            content_moved,
            declared_moved,
            dated: said.modified.is_some(),
            said: sum,
        });
    }

    /// A new entry will be placed by its size: it is rendered while its row is at hand.
    fn measure(&mut self, said: &Said<'_>, kept: Kept) -> (u32, u32, Frame) {
        let entry = self.terms.shape.entry(said, kept, None, &[], Strand::Pages);
        self.scratch.clear();
        write_url(&mut self.scratch, &entry);
        (u32::try_from(self.scratch.len()).unwrap_or(u32::MAX), entry.media(), Frame::of(&entry))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_candidate_is_small() {
        // There is one for each entry: 16 bytes more are 16 MB of a million.
        assert!(size_of::<Candidate>() <= 112, "{}", size_of::<Candidate>());
    }
}
