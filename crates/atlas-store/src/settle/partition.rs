//! Joining the rows of one partition: which of them name the same URL, and what happened to the entries that the ledger
//! remembers. Rows are read only if several have to be merged.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::sync::atomic::{AtomicU8, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use atlas_core::contribution::{Contribution, url_of};
use atlas_core::fingerprint::{self, Prints};

use super::assignment::Assignment;
use super::entry_rows::SourceSets;
use super::expected::Expected;
use super::fate::{EntryFate, GroupsBefore};
use super::merged_rows::{Merged, MergedPart, MergedRows};
use super::shared_rows::RowsOfPart;
use super::{ReportLimits, Sample};
use crate::arrival::{Arrivals, Block, KeyedRow, RowFlag, RowId, RowSummary};
use crate::ledger::Remembered;
use crate::model::{KnownEntry, UNKNOWN};
use crate::provenance::{Provenances, Standing, Unchanged};
use atlas_core::report::Notice;

/// What reading rows told.
#[derive(Debug, Default)]
pub(super) struct Sure {
    pub(super) has_moved: bool,
    pub(super) pages_known: u64,
}

/// A field, and the two sources that disagree on it.
pub(crate) type Odds = (&'static str, u16, u16);

/// A remembered entry that stays as it was written.
#[derive(Debug, Clone)]
pub(crate) struct StandingEntry {
    /// Its position in the ledger.
    pub(crate) at: u32,
    /// The sources that named it and could not be read.
    pub(crate) sources: Vec<u16>,
}

pub(super) struct Joining<'a> {
    pub(super) arrivals: &'a Arrivals,
    pub(super) remembered: Option<&'a Remembered>,
    pub(super) expected: Option<&'a Expected>,
    pub(super) provenances: &'a Provenances,
    /// The provenances of one source alone, by the index of the source.
    pub(super) single: Vec<u16>,
    pub(super) settings: u64,
    pub(super) sets: Mutex<SourceSets>,
    pub(super) merged: MergedRows,
    /// With this, it is found out whether anything moved.
    pub(super) watch: Option<&'a GroupsBefore>,
    pub(super) telling: ReportLimits<'a>,
    pub(super) assignment: Assignment,
    pub(super) fates: Vec<AtomicU8>,
    pub(super) written: Vec<AtomicU64>,
}

/// The result of one partition.
pub(super) struct JoinedPartition {
    pub(super) merged: MergedPart,
    /// The fingerprints that merged rows would have if nothing about their sources had changed, by their first rows.
    pub(super) as_before: Vec<(RowId, Prints)>,
    pub(super) duplicates: Sample,
    pub(super) at_odds: BTreeMap<Odds, Sample>,
    pub(super) pages_known: u64,
    pub(super) has_moved: bool,
    /// Remembered entries that stay as they were because sources could not be read: their positions and keys, and the
    /// sources.
    pub(super) standing: Vec<StandingEntry>,
    /// Remembered entries that stay as they were because nothing about them changed.
    pub(super) unchanged: Unchanged,
    /// Whether an entry can be told only by reading all sources in full.
    pub(super) is_unclear: bool,
    /// Rows about which nothing can be told without reading them: those of new entries, and those that every build
    /// reads, with what the ledger knows of their entries.
    pub(super) unsure: Vec<(RowId, Option<KnownEntry>)>,
}

/// The rows of a partition that were merged so far, with the provenance of the last.
struct Merging {
    rows: Block,
    merged: Vec<Merged>,
    provenance: u16,
}

impl Joining<'_> {
    /// Joins one partition; `read` are the rows of it that have to be read, if they were read before.
    pub(super) fn partition(
        &self,
        mut rows: Vec<KeyedRow>,
        mut known: Vec<KnownEntry>,
        read: &RowsOfPart,
    ) -> io::Result<JoinedPartition> {
        rows.sort_unstable_by_key(|row| (row.key, row.row_id));
        known.sort_unstable_by_key(|known| known.key);
        let mut part = JoinedPartition {
            merged: MergedPart::new(),
            as_before: Vec::new(),
            duplicates: Sample::default(),
            at_odds: BTreeMap::new(),
            pages_known: 0,
            has_moved: false,
            standing: Vec::new(),
            unchanged: Unchanged::new(),
            is_unclear: false,
            unsure: Vec::new(),
        };
        let mut merging =
            Merging { rows: Block::new(self.arrivals.decider()), merged: Vec::new(), provenance: UNKNOWN };
        let derived = self.single.last().copied();
        let counts = |known: &KnownEntry| Some(known.provenance) != derived;
        let mut known = known.into_iter().peekable();
        for group in rows.chunk_by(|one, other| one.key == other.key) {
            let key = group[0].key;
            while let Some(gone) = known.next_if(|known| known.key < key) {
                part.has_moved |= !part.stands(self, &gone, &[]) && counts(&gone);
            }
            let known = known.next_if(|known| known.key == key);
            if known.is_some_and(|known| part.stands(self, &known, group)) {
                continue;
            }
            let prior = known.map(|known| known.at);
            let misses_page = self.misses_page(group, read);
            let alone = group.len() == 1 && !misses_page;
            if alone {
                self.assignment.set(group[0].row_id, prior);
            } else {
                part.merge(self, group, known.as_ref(), misses_page, read, &mut merging);
            }
            let Some(known) = known else {
                match group {
                    _ if self.watch.is_none() => {}
                    [row] if alone => part.unsure.push((row.row_id, None)),
                    _ => part.has_moved |= merging.last().kept().is_some(),
                }
                continue;
            };
            let fate = match group {
                [row] if alone && row.unread && row.print == known.raw => EntryFate::Untouched,
                // A row that every build reads may say what it said before.
                [row] if alone && row.unread && known.raw == 0 && self.watch.is_some() => {
                    part.unsure.push((row.row_id, Some(known)));
                    continue;
                }
                [row] if alone && row.unread => EntryFate::Met,
                [row] if alone => {
                    let provenance = self.single_provenance(row.row_id);
                    self.fate(row.print, row.from_page, provenance, &known, &mut part.pages_known)
                }
                _ => {
                    let summary = merging.last();
                    let from_page = summary.has(RowFlag::FromPage);
                    self.fate(summary.decided(), from_page, merging.provenance, &known, &mut part.pages_known)
                }
            };
            part.has_moved |= fate == EntryFate::Met && counts(&known);
            self.fates[known.at as usize].store(fate as u8, Ordering::Relaxed);
        }
        for gone in known {
            part.has_moved |= !part.stands(self, &gone, &[]) && counts(&gone);
        }
        part.merged = self.merged.take(&merging.rows, &merging.merged)?;
        Ok(part)
    }

    /// Reads rows, in the order of arrival, and sets the fates of their entries.
    pub(super) fn make_sure(&self, unsure: Vec<(RowId, Option<KnownEntry>)>) -> Sure {
        let row_ids: Vec<RowId> = unsure.iter().map(|(row_id, _)| *row_id).collect();
        let mut sure = Sure::default();
        for ((row_id, known), summary) in unsure.into_iter().zip(self.arrivals.summaries_of(&row_ids)) {
            let Some(known) = known else {
                sure.has_moved |= summary.kept().is_some();
                continue;
            };
            let (page, provenance) = (summary.has(RowFlag::FromPage), self.single_provenance(row_id));
            let fate = self.fate(summary.decided(), page, provenance, &known, &mut sure.pages_known);
            sure.has_moved |= fate == EntryFate::Met && Some(known.provenance) != self.single.last().copied();
            self.fates[known.at as usize].store(fate as u8, Ordering::Relaxed);
        }
        sure
    }

    /// The provenance of an entry that only the source of this row names.
    fn single_provenance(&self, row_id: RowId) -> u16 {
        self.single.get(usize::from(self.arrivals.source_of(row_id))).copied().unwrap_or(UNKNOWN)
    }

    /// The bytes of a row.
    fn row<'r>(&'r self, row_id: RowId, read: &'r RowsOfPart) -> Cow<'r, [u8]> {
        read.get(&row_id).map_or_else(|| self.arrivals.row(row_id), |(_, row)| Cow::Borrowed(row))
    }

    /// [`RowSummary::row_print`](crate::arrival::RowSummary::row_print).
    fn row_print(&self, row_id: RowId, read: &RowsOfPart) -> u64 {
        read.get(&row_id).map_or_else(|| self.arrivals.summary(row_id).row_print, |(print, _)| *print)
    }

    /// What each of these rows says, with its source, the most credible first: sources count in their own order, and the
    /// rows of one source by [`Contribution::precedence`].
    fn said(&self, group: &[KeyedRow], read: &RowsOfPart) -> Vec<(u16, RowId, Contribution<'static>)> {
        let read = |row: &KeyedRow| {
            let contribution = Contribution::read(&self.row(row.row_id, read)).into_owned();
            (self.arrivals.source_of(row.row_id), row.row_id, contribution)
        };
        let mut said: Vec<_> = group.iter().map(read).collect();
        said.sort_by_cached_key(|(source, _, contribution)| (*source, contribution.precedence()));
        said
    }

    /// The fate of an entry whose row has this `decided` fingerprint.
    fn fate(
        &self,
        decided: u64,
        from_page: bool,
        provenance: u16,
        known: &KnownEntry,
        pages_known: &mut u64,
    ) -> EntryFate {
        *pages_known += u64::from(known.from_page && from_page);
        let observed = self.remembered.and_then(|remembered| remembered.observed(known.at));
        let may_be_same = decided != 0 && known.from_page == from_page && known.provenance == provenance;
        if !may_be_same {
            return EntryFate::Met;
        }
        let is_written = |group| fingerprint::written(decided, self.settings, observed, group) == known.written;
        if is_written(0) || self.watch.and_then(|groups| groups.of(known.key)).is_some_and(is_written) {
            return EntryFate::Same;
        }
        // It may have been in a group of translations, which is not known yet.
        self.written[known.at as usize].store(known.written, Ordering::Relaxed);
        EntryFate::Met
    }

    /// Whether these rows name an entry that lacks the page it should have.
    fn misses_page(&self, group: &[KeyedRow], read: &RowsOfPart) -> bool {
        self.expected.is_some_and(|expected| {
            let sources = group.iter().map(|row| self.arrivals.source_of(row.row_id));
            expected.misses(sources, group[0].key, || url_of(&self.row(group[0].row_id, read)).to_owned())
        })
    }
}

impl JoinedPartition {
    /// Whether a remembered entry that these rows name stays as it was written, because a source that named it before
    /// could not be read or was asked for changes alone. Then its rows do not count.
    fn stands(&mut self, joining: &Joining<'_>, known: &KnownEntry, group: &[KeyedRow]) -> bool {
        if !joining.provenances.any_stands() {
            return false;
        }
        let named: Vec<u16> = group.iter().map(|row| joining.arrivals.source_of(row.row_id)).collect();
        match joining.provenances.stands(known.provenance, |source| named.contains(&source)) {
            Standing::No => return false,
            Standing::CouldNotBeRead(sources) => {
                self.standing.push(StandingEntry { at: known.at, sources });
            }
            Standing::Unchanged => *self.unchanged.entry(known.provenance).or_default() += 1,
            Standing::Unclear => self.is_unclear = true,
        }
        joining.fates[known.at as usize].store(EntryFate::Untouched as u8, Ordering::Relaxed);
        true
    }

    fn merge(
        &mut self,
        joining: &Joining<'_>,
        group: &[KeyedRow],
        known: Option<&KnownEntry>,
        misses_page: bool,
        read: &RowsOfPart,
        merging: &mut Merging,
    ) {
        let first = group[0].row_id;
        let mut said = joining.said(group, read).into_iter();
        let Some((own, _, mut contribution)) = said.next() else { return };
        let mut sources = vec![own];
        let mut earlier = vec![(own, contribution.clone())];
        for (source, row_id, other) in said {
            if sources.contains(&source) {
                self.duplicates.add(joining.telling.examples, row_id, || contribution.url.to_string());
            } else {
                sources.push(source);
                // What entries say of their archive's page does not contradict a source.
                let fields = if other.archive.is_some() { Vec::new() } else { contribution.at_odds(&other) };
                let told = |_: &&str| joining.telling.wants(Notice::AtOdds, &contribution.url);
                for field in fields.into_iter().filter(told) {
                    let entry_rows = word(&contribution, field);
                    // The value comes from the first source that gave one.
                    let owner =
                        earlier.iter().find(|(_, one)| word(one, field) == entry_rows).map_or(own, |(owner, _)| *owner);
                    let sample = self.at_odds.entry((field, owner, source)).or_default();
                    sample.add(joining.telling.examples, first, || {
                        format!("{}\n{entry_rows}\n{}", contribution.url, word(&other, field))
                    });
                }
                earlier.push((source, other.clone()));
            }
            contribution.merge(other);
        }
        // A row that comes again says nothing new.
        let print = |row: &KeyedRow| (joining.arrivals.source_of(row.row_id), joining.row_print(row.row_id, read));
        let prints: BTreeSet<(u16, u64)> = group.iter().map(print).collect();
        let sum = prints.into_iter().fold(0u64, |sum, (_, print)| sum.wrapping_add(print));
        contribution.not_in_folder = misses_page;
        merging.rows.push_merged(&contribution, sum, &sources);
        let (set, provenance) = {
            let mut sets = joining.sets.lock().unwrap_or_else(PoisonError::into_inner);
            sets.number(&sources, joining.provenances)
        };
        let before = known.filter(|known| ![UNKNOWN, provenance].contains(&known.provenance));
        self.as_before.extend(before.map(|known| {
            let comparison = joining.provenances.comparison(known.provenance, &sources);
            let mut heard = Contribution::default();
            for (source, _, one) in joining.said(group, read) {
                heard.merge(comparison.select(source, &one).into_owned());
            }
            (first, Prints::of(&heard, &mut Vec::new()))
        }));
        merging.merged.push(Merged { first, prior: known.map(|known| known.at), set });
        merging.provenance = provenance;
    }
}

impl Merging {
    /// The summary of the row that was merged last.
    fn last(&self) -> RowSummary {
        self.rows.summary(self.rows.len() - 1)
    }
}

/// The value of a field, in words.
fn word(contribution: &Contribution<'_>, field: &str) -> String {
    contribution
        .words()
        .into_iter()
        .find(|(name, _)| *name == field)
        .map(|(_, word)| word.replace('\n', " "))
        .unwrap_or_default()
}
