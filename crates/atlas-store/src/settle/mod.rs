//! Settling and choosing: one entry a URL, joined with what the ledger remembers of it.
//!
//! Rows are dealt into partitions by their key and each partition is joined with its share of the ledger's lane, in
//! parallel. Nothing is sorted by URL. What comes out is a candidate for each kept entry, a count for each reason, and the
//! remembered entries that are gone.
//!
//! `join` joins keys, `expected` tells which of them have no page where one should be, `assignment` and `standing` tell which
//! rows count, `choosing` asks about each, `latest` keeps old articles for when none is,
//! `remarks` is what there is to tell besides, `sample` counts.

mod sample;
mod assignment;
mod latest;
mod expected;
mod join;
mod remarks;
mod entry_rows;
mod choosing;

use std::collections::{BTreeMap, HashMap};
use std::io;

use atlas_core::choose::{Chooser, Kept, Reason};
use atlas_core::entry::{Changefreq, DatePolicy, Priority};
use atlas_core::fingerprint;
use atlas_core::lastmod::Lastmod;
use atlas_core::output_policy::OutputPolicy;
use atlas_core::placement::FileKind;
use rayon::prelude::*;

pub(crate) use self::assignment::Role;
use self::choosing::Choosing;
pub(crate) use self::entry_rows::{EntryRow, EntryRows};
pub use self::expected::Expected;
pub(crate) use self::join::{EntryFate, Odds, join};
use self::latest::Latest;
use self::remarks::Remarks;
pub use self::sample::ReportLimits;
pub(crate) use self::sample::{Sample, Soonest};
use crate::arrival::{Arrivals, RowFlag, RowId, RowSummary};
use crate::ledger::Remembered;
use crate::model::{ContentCounts, NEVER, NO_GROUP, RememberedEntry, UNKNOWN};
use crate::provenance::Provenances;
use crate::report::SourceChange;
use atlas_core::announce::Change;
use atlas_core::report::Problem;

/// How many blocks are counted before what came of them is put together: that would else stand in memory twice.
const BLOCKS_AT_A_TIME: usize = 16;
/// How many examples are shown of anything that is counted.
pub const EXAMPLES: usize = 5;
/// An entry that is looked at closely: the ledger knows it and it is not as it was, or it stands in a kind of file of its own. What is
/// new has none: its summary says all.
#[derive(Debug, Clone)]
pub struct Candidate {
    /// What the ledger will remember of it.
    pub entry: RememberedEntry,
    /// By which its row may be known unread; 0 where it may not.
    pub raw: u64,
    /// Where its row is.
    pub row_id: RowId,
    /// Where it was named first: the source order, which a row merged from several no longer has.
    pub named: RowId,
    /// Where the ledger remembers it, if it does.
    pub prior: Option<u32>,
    /// When it came to be, in seconds since 1970; far in the future where nobody says.
    pub age: i64,
    /// Its section.
    pub section: u16,
    /// The kind of file of that section.
    pub kind: FileKind,
    /// Its group of translations, or `NO_GROUP`.
    pub group: u32,
    changefreq: Option<Changefreq>,
    priority: Option<Priority>,
    pub(crate) date_policy: DatePolicy,
    /// It changed since the last build.
    pub news: Novelty,
    pub(crate) dated: bool,
    pub(crate) decided: u64,
}

impl Candidate {
    /// An entry in a pages file; its prints are to be taken.
    pub(crate) fn of_page(summary: &RowSummary, kept: Kept, row_id: RowId, named: RowId, prior: Option<u32>) -> Self {
        Self {
            entry: RememberedEntry {
                key: summary.key(),
                written: 0,
                page: summary.page,
                declared: summary.declared,
                observed: NEVER,
                changed: 0,
                from_page: summary.has(RowFlag::FromPage),
                provenance: UNKNOWN,
            },
            raw: summary.raw,
            row_id,
            named,
            prior,
            age: summary.age,
            section: kept.section,
            kind: FileKind::Pages,
            group: NO_GROUP,
            changefreq: kept.changefreq,
            priority: kept.priority,
            date_policy: kept.date_policy,
            news: Novelty::None,
            dated: summary.has(RowFlag::Dated),
            decided: summary.decided(),
        }
    }

    /// An article that is no longer news, as it stands in the file of news where no other is.
    fn of_old_news(summary: &RowSummary, kept: Kept, row_id: RowId, named: RowId) -> Self {
        let news = Self::of_kind(summary, kept, row_id, named, FileKind::News);
        Self { decided: !news.decided, ..news }
    }

    /// An entry in another kind of file: no date and no hint is written there.
    pub(crate) fn of_kind(summary: &RowSummary, kept: Kept, row_id: RowId, named: RowId, kind: FileKind) -> Self {
        let kept = Kept { changefreq: None, priority: None, date_policy: DatePolicy::None, ..kept };
        let page = Self::of_page(summary, kept, row_id, named, None);
        let decided = fingerprint::decided(summary.row_print, &kept, kind);
        Self {
            kind,
            decided,
            raw: 0,
            entry: RememberedEntry { page: 0, declared: 0, from_page: false, ..page.entry },
            ..page
        }
    }
}

/// What an entry is to those who read about changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Novelty {
    /// Its page changed.
    Changed,
    /// No news.
    None,
}

impl Candidate {
    /// How it goes in.
    pub fn kept(&self) -> Kept {
        Kept {
            section: self.section,
            changefreq: self.changefreq,
            priority: self.priority,
            date_policy: self.date_policy,
        }
    }

    /// The day on which its content was last seen to change.
    pub fn observed(&self) -> Option<i32> {
        Some(self.entry.observed).filter(|day| *day != NEVER)
    }

    /// The fingerprint of what is written of it.
    pub(crate) fn written(&self, settings: u64, group: u64) -> u64 {
        fingerprint::written(self.decided, settings, self.observed(), group)
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
    pub policy: &'a OutputPolicy,
    /// The day of this run, counted from 1970-01-01.
    pub today: i32,
    /// A fingerprint of the settings that have a say in what is written.
    pub settings: u64,
    /// The page reader that the ledger's prints were taken with is this one.
    pub same_reader: bool,
    /// Where entries came from, and where they come from now.
    pub(crate) provenances: &'a Provenances,
    /// How much is told.
    pub telling: ReportLimits<'a>,
}

/// Counts of one section.
#[derive(Debug, Clone, Copy, Default)]
pub struct SectionTally {
    /// Entries.
    pub entries: u64,
    /// Of these, such as were not in before.
    pub added: u64,
    /// Pictures that were said of them.
    pub images: u64,
    /// Videos that can be written.
    pub videos: u64,
    /// Articles that are news.
    pub news: u64,
    /// The newest date.
    pub newest: Option<Lastmod>,
}

impl SectionTally {
    /// Adds what entries hold whose rows were not read.
    pub(crate) fn add(&mut self, facts: &ContentCounts) {
        self.images += facts.images;
        self.videos += facts.videos;
        self.newest(facts.newest);
    }

    fn join(&mut self, other: &Self) {
        self.entries += other.entries;
        self.added += other.added;
        self.images += other.images;
        self.videos += other.videos;
        self.news += other.news;
        self.newest(other.newest);
    }

    pub(crate) fn newest(&mut self, date: Option<Lastmod>) {
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

impl SourceTally {
    fn count(&mut self, kept: bool) {
        if kept { self.kept += 1 } else { self.left_out += 1 }
    }

    fn join(&mut self, other: Self) {
        self.kept += other.kept;
        self.left_out += other.left_out;
    }
}

/// What is counted of entries.
#[derive(Debug, Default)]
pub struct Counts {
    /// By section.
    pub tallies: Vec<SectionTally>,
    /// By source; an entry of several counts for each.
    pub sources: Vec<SourceTally>,
    /// Entries that go in and say what may make them one of a group of translations.
    pub(crate) speakers: u64,
    /// Entries left out.
    pub(crate) left_out: BTreeMap<Reason, Sample>,
    /// Entries that were not in before.
    pub(crate) added: Sample,
    /// Entries that go in or leave by themselves when their time comes.
    pub(crate) due: Soonest,
    /// What is to be told of entries although they go in, or of their sources.
    pub(crate) remarks: Remarks,
}

impl Counts {
    fn source(&mut self, source: u16) -> &mut SourceTally {
        let source = usize::from(source);
        self.sources.resize(self.sources.len().max(source + 1), SourceTally::default());
        &mut self.sources[source]
    }

    fn join(&mut self, most: usize, other: Self) {
        for (mine, theirs) in self.tallies.iter_mut().zip(&other.tallies) {
            mine.join(theirs);
        }
        (0u16..).zip(other.sources).for_each(|(source, tally)| self.source(source).join(tally));
        self.speakers += other.speakers;
        for (reason, sample) in other.left_out {
            self.left_out.entry(reason).or_default().join(most, sample);
        }
        self.added.join(most, other.added);
        self.due.join(other.due);
        self.remarks.join(most, other.remarks);
    }
}

/// What came of the rows of one block.
#[derive(Debug, Default)]
struct SettledBlock {
    counts: Counts,
    candidates: Vec<Candidate>,
    own_files: Vec<Candidate>,
    latest: Latest,
    gone: Vec<Gone>,
    problems: Vec<(u16, Problem)>,
    doubtful: Vec<RowId>,
}

/// What came of settling.
#[derive(Debug, Default)]
pub struct Settled {
    /// Which rows count.
    pub(crate) entry_rows: EntryRows,
    /// For each remembered entry: its [`EntryFate`].
    pub(crate) fates: Vec<u8>,
    /// What was counted.
    pub counts: Counts,
    /// Entries that are looked at closely, in the order in which the ledger remembers them; once judged, those that turned out
    /// to be as they were are not among them.
    pub(crate) candidates: Vec<Candidate>,
    pub(crate) own_files: Vec<Candidate>,
    /// Of each section, the newest articles that are no longer news.
    pub(crate) latest: Latest,
    /// Where the rows of entries are that stand in a kind of file of their own as they did, by where the ledger remembers them.
    pub(crate) same_own_files: HashMap<u32, RowId>,
    /// Remembered entries that are no longer in.
    pub gone: Vec<Gone>,
    /// Entries whose page changed.
    pub(crate) changed: Sample,
    /// The day on which the content of entries was seen to change in this run, by where the ledger remembers them.
    pub(crate) edited: HashMap<u32, i32>,
    /// What was found wrong with rows that were read late, by source.
    pub(crate) problems: Vec<(u16, Problem)>,
    /// Rows that were read late and that the next build has to read again.
    pub(crate) doubtful: Vec<RowId>,
    /// Entries whose rows came in another form and say the same: by where the ledger remembers them, and how their rows are known
    /// from now on.
    pub(crate) restated: Vec<(u32, u64)>,
    /// Entries that are taken as they are, because something about their sources changed.
    pub(crate) remapped: BTreeMap<(String, SourceChange), u64>,
    /// Most pages changed at once without a declared date.
    pub redesign: bool,
    pub(crate) pages_known: u64,
}

impl Settled {
    /// The day on which the content of an entry was last seen to change.
    pub(crate) fn observed(&self, remembered: &Remembered, prior: Option<u32>) -> Option<i32> {
        self.edited.get(&prior?).copied().or_else(|| remembered.observed(prior?))
    }

    /// How many entries go in.
    pub(crate) fn entries(&self) -> u64 {
        self.counts.tallies.iter().map(|tally| tally.entries).sum()
    }

    fn join(&mut self, most: usize, mut part: SettledBlock) {
        self.counts.join(most, part.counts);
        self.candidates.append(&mut part.candidates);
        self.own_files.append(&mut part.own_files);
        self.latest.join(part.latest);
        self.gone.append(&mut part.gone);
        self.problems.append(&mut part.problems);
        self.doubtful.append(&mut part.doubtful);
    }
}

/// Settles all arrivals. Rows that had to be merged are added to the arrivals as blocks of their own.
///
/// First the keys alone are joined, partition by partition; then the summaries are counted in the order of the rows. What is news is
/// decided later, once the groups of translations are known.
pub fn settle(
    arrivals: &mut Arrivals,
    remembered: &Remembered,
    expected: Option<&Expected>,
    terms: &Terms<'_>,
) -> io::Result<Settled> {
    let joined = join(arrivals, Some(remembered), expected, (terms.provenances, terms.settings), terms.telling)?;
    let (assignment, origins, fates) = (joined.assignment, joined.origins, joined.fates);
    let entry_rows = EntryRows { assignment, origins, single: joined.single };
    let counts = Counts {
        tallies: vec![SectionTally::default(); terms.chooser.sections.list().len()],
        remarks: Remarks { at_odds: joined.at_odds, ..Remarks::default() },
        ..Counts::default()
    };
    let mut settled = Settled { counts, pages_known: joined.pages_known, ..Settled::default() };
    let blocks: Vec<usize> = (0..arrivals.blocks()).collect();
    for some in blocks.chunks(BLOCKS_AT_A_TIME) {
        let parts = some.par_iter().map(|&at| {
            let choosing = Choosing::new(arrivals, remembered, &fates, terms, at);
            choosing.run(&entry_rows, arrivals, at)
        });
        let parts: Vec<SettledBlock> = parts.collect();
        parts.into_iter().for_each(|part| settled.join(terms.telling.examples, part));
    }
    let pages = remembered.segments(|kind| kind == FileKind::Pages).flat_map(|(_, segment)| segment.range());
    let gone = pages.filter(|at| fates[*at] == EntryFate::Gone as u8);
    settled.gone.extend(gone.map(|at| Gone { prior: at as u32, change: Some(Change::Removed), reason: None }));
    // Entries whose rows were not read are counted where they stand.
    for (file, segment) in remembered.segments(|kind| kind == FileKind::Pages) {
        let untouched = fates[segment.range()].iter().filter(|fate| **fate == EntryFate::Untouched as u8).count();
        if let Some(section) = terms.chooser.sections.named(&file.section) {
            settled.counts.tallies[section].entries += untouched as u64;
        }
    }
    (settled.entry_rows, settled.fates) = (entry_rows, fates);
    settled.counts.left_out.extend(joined.duplicates.map(|sample| (Reason::Duplicate, sample)));
    for (source, rows) in (0u16..).zip(arrivals.all_let_go()) {
        settled.counts.source(source).kept += rows;
    }
    Ok(settled)
}
