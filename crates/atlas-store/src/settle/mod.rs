//! Settling and choosing: one entry per URL, joined with what the ledger remembers of it.
//!
//! Rows are divided into partitions by key, and each partition is joined with its share of the remembered entries, in
//! parallel. Nothing is sorted by URL. The result is a candidate for each kept entry that may have changed, a count for
//! each reason, and the remembered entries that are gone.
//!
//! | file | contents |
//! |---|---|
//! | `join`, `partition` | joining rows by key |
//! | `shared_rows`, `merged_rows` | what joining reads and merges, in memory or on disk |
//! | `fate` | what happened to remembered entries |
//! | `expected` | entries that lack a page where they should have one |
//! | `assignment`, `entry_rows` | which rows represent entries |
//! | `choosing` | the verdict on each entry |
//! | `latest` | older articles, for when none is news |
//! | `remarks` | what to report besides |
//! | `sample` | counts with examples |

mod sample;
mod assignment;
mod latest;
mod expected;
mod entry_rows;
mod fate;
mod shared_rows;
mod merged_rows;
mod partition;
mod join;
mod remarks;
mod choosing;

use std::collections::{BTreeMap, HashMap};

use atlas_core::choose::{Chooser, Kept, Reason};
use atlas_core::entry::{Changefreq, DatePolicy, Priority};
use atlas_core::fingerprint;
use atlas_core::lastmod::Lastmod;
use atlas_core::output_policy::OutputPolicy;
use atlas_core::placement::FileKind;
use rayon::prelude::*;

use self::choosing::{Choosing, KnownFates};
pub(crate) use self::entry_rows::{EntryRow, EntryRows};
pub use self::expected::Expected;
pub(crate) use self::fate::{EntryFate, GroupsBefore};
pub(crate) use self::join::{Joined, join};
use self::latest::Latest;
pub(crate) use self::partition::{Odds, StandingEntry};
use self::remarks::Remarks;
pub use self::sample::ReportLimits;
pub(crate) use self::sample::{Sample, Soonest};
use crate::arrival::{Arrivals, RowFlag, RowId, RowSummary};
use crate::ledger::Remembered;
use crate::model::{ContentCounts, NEVER, NO_GROUP, RememberedEntry, UNKNOWN};
use crate::provenance::Provenances;
use crate::report::SourceChange;
use atlas_core::announce::Change;
use atlas_core::report::{Notice, Problem};

/// How many blocks are counted before their results are combined. Otherwise all results would be in memory twice.
const BLOCKS_AT_A_TIME: usize = 16;
/// How many examples are shown of anything that is counted.
pub const EXAMPLES: usize = 5;
/// An entry that is compared closely: the ledger knows it and it may have changed, or it is in a file of pictures,
/// videos or news. New entries have none, because their summary says everything.
#[derive(Debug, Clone)]
pub(crate) struct Candidate {
    /// What the ledger will remember of it.
    pub entry: RememberedEntry,
    /// The fingerprint by which its row may be recognised unread, or 0.
    pub raw: u64,
    /// Its row.
    pub row_id: RowId,
    /// The row that first named it. It gives the order of sources, which a merged row no longer has.
    pub named: RowId,
    /// The position where the ledger remembers it, if it does.
    pub prior: Option<u32>,
    /// When it was created, in seconds since 1970; far in the future if unknown.
    pub age: i64,
    /// Its section.
    pub section: u16,
    /// The kind of file that contains it.
    pub kind: FileKind,
    /// Its group of translations, or `NO_GROUP`.
    pub group: u32,
    changefreq: Option<Changefreq>,
    priority: Option<Priority>,
    pub(crate) date_policy: DatePolicy,
    /// Whether it changed since the last build.
    pub news: Novelty,
    pub(crate) dated: bool,
    pub(crate) decided: u64,
}

impl Candidate {
    /// A candidate in a pages file. Its prints are still to be taken.
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
                untold: !kept.announce,
                text_changed: false,
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

    /// An article that is no longer news, for a news file without others.
    fn of_old_news(summary: &RowSummary, kept: Kept, row_id: RowId, named: RowId) -> Self {
        let news = Self::of_kind(summary, kept, row_id, named, FileKind::News);
        Self { decided: !news.decided, ..news }
    }

    /// A candidate in a file of another kind, where no dates and hints are written.
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

/// Whether a candidate's change is news to engines.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Novelty {
    /// Its page changed.
    Changed,
    /// Nothing to announce.
    None,
}

impl Candidate {
    /// How it is written.
    pub fn kept(&self) -> Kept {
        Kept {
            section: self.section,
            changefreq: self.changefreq,
            priority: self.priority,
            date_policy: self.date_policy,
            announce: !self.entry.untold,
        }
    }

    /// The day on which its content was last seen to change.
    pub fn observed(&self) -> Option<i32> {
        Some(self.entry.observed).filter(|day| *day != NEVER)
    }

    /// The fingerprint of what is written for it.
    pub(crate) fn written(&self, settings: u64, group: u64) -> u64 {
        fingerprint::written(self.decided, settings, self.observed(), group)
    }
}

/// The settings of settling.
#[derive(Debug)]
pub struct Terms<'a> {
    /// Decides about each entry.
    pub chooser: &'a Chooser,
    /// The number of this run.
    pub run: u32,
    /// What is written for an entry.
    pub policy: &'a OutputPolicy,
    /// The day of this run, counted from 1970-01-01.
    pub today: i32,
    /// A fingerprint of the settings that affect what is written.
    pub settings: u64,
    /// Whether the ledger's prints were taken with the same version of the page reader.
    pub same_reader: bool,
    /// The provenances of entries before and now.
    pub(crate) provenances: &'a Provenances,
    /// How much is reported.
    pub telling: ReportLimits<'a>,
}

/// Counts of one section.
#[derive(Debug, Clone, Copy, Default)]
pub struct SectionTally {
    /// Entries.
    pub entries: u64,
    /// Those that were not listed before.
    pub added: u64,
    /// Pictures that they name.
    pub images: u64,
    /// Videos that can be written.
    pub videos: u64,
    /// Articles that are news.
    pub news: u64,
    /// The newest date.
    pub newest: Option<Lastmod>,
}

impl SectionTally {
    /// Adds the contents of entries whose rows were not read.
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

/// A remembered entry that is no longer listed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Gone {
    /// Its position among the remembered entries.
    pub prior: u32,
    /// What engines are told about it, if anything.
    pub change: Option<Change>,
    /// Why it is left out; `None` if no source names it any more.
    pub reason: Option<Reason>,
}

/// The numbers of entries of one source.
#[derive(Debug, Clone, Copy, Default)]
pub struct SourceTally {
    /// Those that are kept.
    pub kept: u64,
    /// Those that are left out.
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

/// The counts of entries.
#[derive(Debug, Default)]
pub struct Counts {
    /// By section.
    pub tallies: Vec<SectionTally>,
    /// By source. An entry with several sources counts for each.
    pub sources: Vec<SourceTally>,
    /// Kept entries that may belong to a group of translations.
    pub(crate) speakers: u64,
    /// Entries left out.
    pub(crate) left_out: BTreeMap<Reason, Sample>,
    /// Entries that were not listed before.
    pub(crate) added: Sample,
    /// Entries that will be listed, or will leave, at a known time.
    pub(crate) due: Soonest,
    /// Remarks on kept entries and on their sources.
    pub(crate) remarks: Remarks,
}

impl Counts {
    /// Counts entries that a source did not name and that stand as they were.
    pub(crate) fn stand(&mut self, source: u16, entries: u64) {
        self.source(source).kept += entries;
    }

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

/// The result of one block.
#[derive(Debug, Default)]
struct SettledBlock {
    counts: Counts,
    candidates: Vec<Candidate>,
    own_files: Vec<Candidate>,
    latest: Latest,
    /// When the first of the articles is no longer news, in seconds since 1970.
    news_until: Option<i64>,
    gone: Vec<Gone>,
    problems: Vec<(u16, Problem)>,
    doubtful: Vec<RowId>,
    /// Fates that depend on groups of translations.
    fates: Vec<(u32, EntryFate)>,
    left_out: Vec<(u64, Reason)>,
}

/// The result of settling.
#[derive(Debug, Default)]
pub struct Settled {
    /// Which rows represent entries.
    pub(crate) entry_rows: EntryRows,
    /// The [`EntryFate`] of each remembered entry.
    pub(crate) fates: Vec<u8>,
    /// The counts.
    pub counts: Counts,
    /// The candidates, in the order of the ledger. After judging, unchanged ones are removed.
    pub(crate) candidates: Vec<Candidate>,
    pub(crate) own_files: Vec<Candidate>,
    /// The newest articles of each section that are no longer news.
    pub(crate) latest: Latest,
    /// The rows of unchanged entries in files of pictures, videos or news, by their position in the ledger.
    pub(crate) same_own_files: HashMap<u32, RowId>,
    /// Remembered entries that are no longer listed.
    pub gone: Vec<Gone>,
    /// Remembered entries that stay as they were because sources could not be read, in the order of the ledger.
    pub(crate) standing: Vec<StandingEntry>,
    /// All entries that are left out, by the [`tag`](crate::model::tag)s of their keys.
    pub(crate) left_out: Vec<(u64, Reason)>,
    /// Entries whose page changed.
    pub(crate) changed: Sample,
    /// The day on which the content of entries was seen to change in this run, by their position in the ledger.
    pub(crate) edited: HashMap<u32, i32>,
    /// Problems with rows that were read late, by source.
    pub(crate) problems: Vec<(u16, Problem)>,
    /// Rows that were read late and that the next build has to read again.
    pub(crate) doubtful: Vec<RowId>,
    /// Entries whose rows came in another form and say the same: their position in the ledger, and the new fingerprint
    /// of their rows.
    pub(crate) restated: Vec<(u32, u64)>,
    /// Entries that are accepted as they are, because something about their sources changed.
    pub(crate) remapped: BTreeMap<(String, SourceChange), u64>,
    /// Whether most pages changed at once without a declared date.
    pub redesign: bool,
    pub(crate) pages_known: u64,
    /// Whether a news file lists the newest articles of those that were read, but not all were.
    pub(crate) lacks_latest: bool,
    /// When the first of the articles that were read is no longer news, in seconds since 1970.
    pub(crate) news_until: Option<i64>,
}

impl Settled {
    /// The day on which the content of an entry was last seen to change.
    pub(crate) fn observed(&self, remembered: &Remembered, prior: Option<u32>) -> Option<i32> {
        self.edited.get(&prior?).copied().or_else(|| remembered.observed(prior?))
    }

    /// Notes sections that rows made in this run.
    pub(crate) fn note_new_sections<'n>(&mut self, names: impl Iterator<Item = &'n str>, telling: ReportLimits<'_>) {
        for (name, nth) in names.zip(0..) {
            if telling.wants(Notice::NewSection, name) {
                self.counts.remarks.of(Notice::NewSection).add(telling.examples, RowId(nth), || name.to_owned());
            }
        }
    }

    /// The number of kept entries.
    pub(crate) fn entries(&self) -> u64 {
        self.counts.tallies.iter().map(|tally| tally.entries).sum()
    }

    fn join(&mut self, most: usize, mut part: SettledBlock) {
        self.counts.join(most, part.counts);
        self.candidates.append(&mut part.candidates);
        self.own_files.append(&mut part.own_files);
        self.latest.join(part.latest);
        self.news_until = self.news_until.into_iter().chain(part.news_until).min();
        self.gone.append(&mut part.gone);
        self.problems.append(&mut part.problems);
        self.doubtful.append(&mut part.doubtful);
        self.left_out.append(&mut part.left_out);
    }
}

/// Settles all arrivals. Merged rows are added to the arrivals as blocks of their own.
///
/// The keys have been joined, and the groups of translations are known: `group_print` returns the fingerprint of what
/// the group of a row lists, or 0. Here the summaries are counted in the order of rows. What is announced is decided
/// later.
pub(crate) fn settle(
    joined: Joined,
    arrivals: &Arrivals,
    remembered: &Remembered,
    group_print: &(dyn Fn(RowId) -> u64 + Sync),
    terms: &Terms<'_>,
) -> Settled {
    let Joined { entry_rows, mut fates, written, standing, .. } = joined;
    let counts = Counts {
        tallies: vec![SectionTally::default(); terms.chooser.sections.list().len()],
        remarks: Remarks { at_odds: joined.at_odds, ..Remarks::default() },
        ..Counts::default()
    };
    let mut settled = Settled { counts, pages_known: joined.pages_known, standing, ..Settled::default() };
    let blocks: Vec<usize> = (0..arrivals.blocks()).collect();
    for some in blocks.chunks(BLOCKS_AT_A_TIME) {
        let known = KnownFates { fates: &fates, written: &written, group_print };
        let parts = some.par_iter().map(|&at| {
            let choosing = Choosing::new(arrivals, remembered, known, terms, at);
            choosing.run(&entry_rows, arrivals, at)
        });
        let parts: Vec<SettledBlock> = parts.collect();
        for mut part in parts {
            part.fates.drain(..).for_each(|(at, fate)| fates[at as usize] = fate as u8);
            settled.join(terms.telling.examples, part);
        }
    }
    let pages = remembered.segments(|kind| kind == FileKind::Pages).flat_map(|(_, segment)| segment.range());
    let gone = pages.filter(|at| fates[*at] == EntryFate::Gone as u8);
    settled.gone.extend(gone.map(|at| Gone { prior: at as u32, change: Some(Change::Removed), reason: None }));
    // Entries whose rows were not read are counted by their files.
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
    settled
}
