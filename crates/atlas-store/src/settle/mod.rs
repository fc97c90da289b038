//! Settling and choosing: one entry a URL, joined with what the ledger remembers of it.
//!
//! Rows are dealt into partitions by their key and each partition is joined with its share of the ledger's lane, in
//! parallel. Nothing is sorted by URL. What comes out is a candidate for each kept entry, a count for each reason, and the
//! remembered entries that are gone.
//!
//! `join` joins keys, `standing` tells which rows count, `choosing` asks about each, `judging` says what is news, `sample` counts.

mod choosing;
mod join;
mod judging;
mod sample;
mod standing;

use std::collections::BTreeMap;

use atlas_core::choose::{Chooser, Kept, Reason};
use atlas_core::entry::{Changefreq, DatePolicy, Priority};
use atlas_core::fingerprint;
use atlas_core::format::Frame;
use atlas_core::lastmod::Lastmod;
use atlas_core::shape::Shape;
use atlas_core::strand::Strand;
use rayon::prelude::*;

use self::choosing::Choosing;
use self::join::PASSED_OVER;
pub(crate) use self::join::{Odds, join};
pub(crate) use self::sample::{Sample, Soonest};
pub(crate) use self::standing::{Stand, Standing};
use crate::arrival::{Arrivals, Place};
use crate::ledger::{Change, LaneEntry, NEVER, Remembered};
use crate::report::IncompleteVideo;

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_candidate_is_small() {
        // There is one for each entry: 16 bytes more are 16 MB of a million.
        assert!(size_of::<Candidate>() <= 112, "{}", size_of::<Candidate>());
    }
}
