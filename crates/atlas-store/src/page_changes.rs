//! Page changes: which entries are announced and have to be rewritten, decided once all entries are known together.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use atlas_core::contribution::{Contribution, url_of};
use atlas_core::fingerprint::{self, PARTS, PageField, Prints};
use atlas_core::judge::{Moved, Movement, Sight, dates_hold, is_silent, judge};
use atlas_core::lastmod::Lastmod;
use atlas_core::output_policy;
use atlas_core::placement::FileKind;
use rayon::prelude::*;

use crate::arrival::{Arrivals, RowId};
use crate::derive::Alternates;
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered};
use crate::model::{NEVER, RememberedEntry, UNKNOWN};
use crate::provenance::Comparison;
use crate::settle::{Candidate, EntryFate, Novelty, Settled, Terms};
use atlas_core::report::Notice;

impl Settled {
    /// Decides which changes are announced, and which entries have to be rewritten.
    pub(crate) fn judge(
        &mut self,
        arrivals: &Arrivals,
        ledger: &dyn Ledger,
        remembered: &Remembered,
        alternates: &Alternates,
        terms: &Terms<'_>,
    ) -> Result<(), StoreError> {
        let mut candidates = std::mem::take(&mut self.candidates);
        candidates.par_sort_unstable_by_key(|candidate| candidate.prior);
        let remembered_entries =
            remembered_of(ledger, remembered, candidates.iter().filter_map(|candidate| candidate.prior))?;
        candidates.par_iter_mut().for_each(|candidate| {
            candidate.entry.provenance = self.entry_rows.provenance(arrivals, candidate.row_id);
        });
        let moved = self.moved(arrivals, &candidates, &remembered_entries, terms);
        self.compare(arrivals, &candidates, &remembered_entries, &moved, terms);
        let (redesign, settings) = (self.redesign, terms.settings);
        candidates.par_iter_mut().zip(&remembered_entries).zip(&moved).for_each(|((candidate, known), moved)| {
            let sight = Sight {
                was_recalled: known.is_recalled(),
                was_from_page: known.from_page,
                is_from_page: candidate.entry.from_page,
            };
            let outcome = judge(*moved, is_silent(sight, redesign, terms.same_reader));
            candidate.entry.observed = if outcome.edited { terms.today } else { known.observed };
            candidate.entry.changed = if outcome.changed { terms.run } else { known.changed };
            candidate.entry.text_changed = match outcome.changed {
                true => is_other_text(known, &candidate.entry),
                false => known.text_changed,
            };
            if outcome.changed {
                candidate.news = Novelty::Changed;
            }
            candidate.group = alternates.group_of(candidate.row_id);
            candidate.entry.written = candidate.written(settings, alternates.print(candidate.group));
        });
        let today = Lastmod::from_epoch_day(terms.today);
        for candidate in candidates.iter().filter(|candidate| candidate.news == Novelty::Changed) {
            if candidate.entry.observed == terms.today {
                self.edited.extend(candidate.prior.map(|prior| (prior, terms.today)));
                if !candidate.dated {
                    self.counts.tallies[usize::from(candidate.section)].newest(today);
                }
            }
            self.changed
                .add(terms.telling.examples, candidate.named, || url_of(&arrivals.row(candidate.row_id)).to_owned());
        }
        let mut known = remembered_entries.into_iter();
        candidates.retain(|candidate| {
            let (same, Some(prior)) = (known.next() == Some(candidate.entry), candidate.prior) else { return true };
            let fate = if same { EntryFate::Same } else { EntryFate::Met };
            self.fates[prior as usize] = fate as u8;
            if same && candidate.raw != 0 {
                self.restated.push((prior, candidate.raw));
            }
            !same
        });
        self.candidates = candidates;
        self.kinds(ledger, remembered, terms)
    }

    /// Counts the changes and decides whether they are a redesign.
    fn compare(
        &mut self,
        arrivals: &Arrivals,
        candidates: &[Candidate],
        remembered_entries: &[RememberedEntry],
        moved: &[Moved],
        terms: &Terms<'_>,
    ) {
        let mut movement = Movement::default();
        for ((candidate, known), moved) in candidates.iter().zip(remembered_entries).zip(moved) {
            if !(candidate.entry.from_page && known.from_page) {
                continue;
            }
            movement.contents += u64::from(moved.content);
            movement.dated += u64::from(moved.content && moved.declared);
            if terms.same_reader && candidate.dated && moved.content != moved.declared {
                let notice = if moved.content { Notice::ContentAlone } else { Notice::DateAlone };
                let url = url_of(&arrivals.row(candidate.row_id)).to_owned();
                if terms.telling.wants(notice, &url) {
                    self.counts.remarks.of(notice).add(terms.telling.examples, candidate.named, || url);
                }
            }
        }
        self.redesign = dates_hold(movement, self.pages_known);
    }

    /// Compares the entries in files of their own. Those in news files all become candidates, because such files are
    /// filled anew by each build.
    fn kinds(&mut self, ledger: &dyn Ledger, remembered: &Remembered, terms: &Terms<'_>) -> Result<(), StoreError> {
        let mut own = std::mem::take(&mut self.own_files);
        self.keep_standing(ledger, remembered, terms)?;
        self.keep_news(&mut own, ledger, remembered, terms)?;
        if own.is_empty() {
            return Ok(());
        }
        let mut known: HashMap<(u128, FileKind), (u32, RememberedEntry)> = HashMap::new();
        for (file, segment) in remembered.segments(|kind| !matches!(kind, FileKind::Pages | FileKind::News)) {
            let remembered_entries = ledger.entries_of(file.id, segment)?;
            known.extend(
                segment.range().zip(remembered_entries).map(|(at, entry)| ((entry.key, file.kind), (at as u32, entry))),
            );
        }
        own.retain_mut(|candidate| {
            candidate.entry.written = candidate.written(terms.settings, 0);
            let Some((prior, entry)) = known.get(&(candidate.entry.key, candidate.kind)) else { return true };
            candidate.prior = Some(*prior);
            let same = *entry == candidate.entry;
            self.fates[*prior as usize] = if same { EntryFate::Same } else { EntryFate::Met } as u8;
            if same {
                self.same_own_files.insert(*prior, candidate.row_id);
            }
            !same
        });
        self.candidates.append(&mut own);
        Ok(())
    }

    /// Entries that stay as they were also stay in files of pictures, videos and news.
    fn keep_standing(
        &mut self,
        ledger: &dyn Ledger,
        remembered: &Remembered,
        terms: &Terms<'_>,
    ) -> Result<(), StoreError> {
        if !terms.provenances.any_stands() {
            return Ok(());
        }
        let mut own = HashSet::new();
        for (file, segment) in remembered.segments(|kind| kind != FileKind::Pages) {
            own.extend(ledger.entries_of(file.id, segment)?.into_iter().map(|entry| entry.key));
        }
        if own.is_empty() {
            return Ok(());
        }
        let mut standing: HashSet<u128> = HashSet::new();
        for (file, segment) in remembered.segments(|kind| kind == FileKind::Pages) {
            let is_untouched = |at: usize| self.fates[at] == EntryFate::Untouched as u8;
            if segment.range().any(is_untouched) {
                let untouched = segment.range().zip(ledger.entries_of(file.id, segment)?);
                let untouched = untouched.filter(|(at, _)| is_untouched(*at)).map(|(_, entry)| entry.key);
                standing.extend(untouched.filter(|key| own.contains(key)));
            }
        }
        for (file, segment) in remembered.segments(|kind| kind != FileKind::Pages) {
            for (at, entry) in segment.range().zip(ledger.entries_of(file.id, segment)?) {
                if !standing.contains(&entry.key) {
                    continue;
                }
                if file.kind != FileKind::News {
                    self.fates[at] = EntryFate::Untouched as u8;
                    continue;
                }
                self.fates[at] = EntryFate::Same as u8;
                if let Some(section) = terms.chooser.sections.named(&file.section).filter(|_| segment.frame.news) {
                    self.counts.tallies[section].news += 1;
                }
            }
        }
        Ok(())
    }

    /// If no article of a section is news, its news file lists the newest articles instead: those that it listed
    /// before, as long as they are kept, else the newest that were read. An article that was news at the last build is
    /// always read by this one.
    fn keep_news(
        &mut self,
        own: &mut Vec<Candidate>,
        ledger: &dyn Ledger,
        remembered: &Remembered,
        terms: &Terms<'_>,
    ) -> Result<(), StoreError> {
        let with_news: HashSet<u16> = own
            .iter()
            .filter(|candidate| candidate.kind == FileKind::News)
            .map(|candidate| candidate.section)
            .collect();
        let without = (0u16..).zip(terms.chooser.sections.list());
        let without: Vec<(u16, &str)> = without
            .filter(|(at, _)| terms.policy.of(usize::from(*at)).news.is_some() && !with_news.contains(at))
            .map(|(at, section)| (at, section.name.as_str()))
            .collect();
        for (at, name) in without {
            let files = || remembered.files.iter().filter(|file| file.kind == FileKind::News && file.section == name);
            let was_news = files().any(|file| file.segments.iter().any(|segment| segment.frame.news));
            let mut kept = 0;
            if !was_news {
                let left = self.left(ledger, remembered, at)?;
                for segment in files().flat_map(|file| file.segments.iter().map(move |segment| (file, segment))) {
                    let (file, segment) = segment;
                    for (at, entry) in segment.range().zip(ledger.entries_of(file.id, segment)?) {
                        if !left.contains(&entry.key) {
                            self.fates[at] = EntryFate::Same as u8;
                            kept += 1;
                        }
                    }
                }
            }
            if kept == 0 {
                // Of those that were not read, some may be newer.
                self.lacks_latest |= files().next().is_some() && terms.provenances.any_increments();
                own.extend(self.latest.take(at));
            }
        }
        Ok(())
    }

    /// The keys of entries that were listed in a section before and no longer are.
    fn left(&self, ledger: &dyn Ledger, remembered: &Remembered, section: u16) -> Result<HashSet<u128>, StoreError> {
        let mut gone: Vec<u32> = self.gone.iter().map(|gone| gone.prior).collect();
        gone.sort_unstable();
        let gone = remembered_of(ledger, remembered, gone.into_iter())?;
        let elsewhere = self.candidates.iter().filter(|candidate| candidate.section != section);
        Ok(gone.into_iter().map(|entry| entry.key).chain(elsewhere.map(|candidate| candidate.entry.key)).collect())
    }

    /// Adds unchanged entries to the candidates because they have to move; returns their indexes. `wanted` are their
    /// positions in the ledger, in order. Entries whose rows were skipped are not found.
    pub(crate) fn recall(
        &mut self,
        wanted: &[u32],
        arrivals: &Arrivals,
        ledger: &dyn Ledger,
        remembered: &Remembered,
        alternates: &Alternates,
    ) -> Result<Vec<u32>, StoreError> {
        if wanted.is_empty() {
            return Ok(Vec::new());
        }
        let known = self.entry_rows.assignment.all().filter_map(|(row_id, role)| Some((role.prior()??, row_id)));
        let pages = known.filter(|(prior, _)| wanted.binary_search(prior).is_ok());
        let mut row_ids: HashMap<u32, RowId> = pages.collect();
        row_ids.extend(wanted.iter().filter_map(|prior| Some((*prior, *self.same_own_files.get(prior)?))));
        let remembered_entries = remembered_of(ledger, remembered, wanted.iter().copied())?;
        let kinds: HashMap<u32, FileKind> = wanted
            .iter()
            .filter(|prior| self.same_own_files.contains_key(prior))
            .map(|prior| (*prior, remembered.kind_of_file(*prior)))
            .collect();
        let mut candidates = Vec::new();
        for (prior, entry) in wanted.iter().zip(remembered_entries) {
            let Some(&row_id) = row_ids.get(prior) else { continue };
            let summary = arrivals.summary(row_id);
            let Some(kept) = summary.kept() else { continue };
            let named = self.entry_rows.named(row_id);
            let mut candidate = match kinds.get(prior) {
                Some(kind) => Candidate::of_kind(&summary, kept, row_id, named, *kind),
                None => Candidate::of_page(&summary, kept, row_id, named, Some(*prior)),
            };
            candidate.prior = Some(*prior);
            candidate.entry = entry;
            candidate.group = if kinds.contains_key(prior) { candidate.group } else { alternates.group_of(row_id) };
            candidates.push(self.candidates.len() as u32);
            self.candidates.push(candidate);
        }
        Ok(candidates)
    }
}

impl Settled {
    /// What changed about each candidate. If something about the sources of an entry changed, only what is comparable
    /// is compared, and the entry is counted.
    fn moved(
        &mut self,
        arrivals: &Arrivals,
        candidates: &[Candidate],
        remembered_entries: &[RememberedEntry],
        terms: &Terms<'_>,
    ) -> Vec<Moved> {
        let mut comparisons: HashMap<(u16, u16), Arc<Comparison>> = HashMap::new();
        for (candidate, known) in
            candidates.iter().zip(remembered_entries).filter(|(candidate, known)| is_remapped(candidate, known))
        {
            let comparison = comparisons.entry((known.provenance, candidate.entry.provenance)).or_insert_with(|| {
                terms.provenances.comparison(known.provenance, &self.entry_rows.sources(arrivals, candidate.row_id))
            });
            for (change, source) in &comparison.changes {
                *self.remapped.entry((source.clone(), *change)).or_default() += 1;
            }
        }
        let both = candidates.par_iter().zip(remembered_entries);
        let mut moved: Vec<Moved> = both.map(|(candidate, known)| moved_as_ever(&candidate.entry, known)).collect();
        let compared =
            |at: usize| comparisons.get(&(remembered_entries[at].provenance, candidates[at].entry.provenance));
        let closely: Vec<usize> = (0..candidates.len())
            .filter(|at| remembered_entries[*at].is_recalled() || compared(*at).is_some())
            .collect();
        let row_ids: Vec<RowId> = closely.iter().map(|at| candidates[*at].row_id).collect();
        let looked = arrivals.read_each(&row_ids, |nth, row| {
            let (candidate, known) = (&candidates[closely[nth]], &remembered_entries[closely[nth]]);
            let Some(comparison) = compared(closely[nth]).filter(|_| !known.is_recalled()) else {
                return recalled(row, candidate, known, terms);
            };
            let merged = self.entry_rows.origins.as_before(candidate.row_id);
            let as_before = merged.unwrap_or_else(|| {
                let heard = comparison.select(arrivals.source_of(candidate.row_id), &Contribution::read(row));
                Prints::of(&heard, &mut Vec::new())
            });
            remapped(as_before, known, comparison)
        });
        closely.iter().zip(looked).for_each(|(at, one)| moved[*at] = one);
        moved
    }
}

/// What changed about an entry whose sources are the same.
fn moved_as_ever(now: &RememberedEntry, known: &RememberedEntry) -> Moved {
    Moved { content: known.page != now.page, declared: known.declared != now.declared }
}

/// What changed about a recalled entry, of which only the written date is known.
fn recalled(row: &[u8], candidate: &Candidate, known: &RememberedEntry, terms: &Terms<'_>) -> Moved {
    let observed = Some(known.observed).filter(|day| *day != NEVER);
    let (policy, calendar) = (candidate.date_policy, &terms.chooser.calendar);
    let date = output_policy::lastmod(&Contribution::read(row), observed, policy, calendar);
    Moved { content: false, declared: fingerprint::written_date(date) != known.declared }
}

/// What changed about an entry whose sources or their mapping changed; `now` is what it would say otherwise.
fn remapped(now: Prints, known: &RememberedEntry, comparison: &Comparison) -> Moved {
    let differs = |part: usize| comparison.parts[part] && !Prints::same_part(known.page, now.page, part);
    Moved { content: (0..PARTS).any(differs), declared: comparison.dates && known.declared != now.declared }
}

/// Whether an entry comes from other sources than before, or from the same ones under another mapping.
fn is_remapped(candidate: &Candidate, known: &RememberedEntry) -> bool {
    known.provenance != candidate.entry.provenance && known.provenance != UNKNOWN
}

/// What the ledger remembers of these entries, which are given in its order.
fn remembered_of(
    ledger: &dyn Ledger,
    remembered: &Remembered,
    wanted: impl Iterator<Item = u32>,
) -> Result<Vec<RememberedEntry>, StoreError> {
    let mut wanted = wanted.peekable();
    let mut found = Vec::new();
    for (file, segment) in remembered.segments(|_| true) {
        let range = segment.range();
        if wanted.peek().is_none_or(|at| !range.contains(&(*at as usize))) {
            continue;
        }
        let remembered_entries = ledger.entries_of(file.id, segment)?;
        while let Some(at) = wanted.next_if(|at| range.contains(&(*at as usize))) {
            found.push(remembered_entries[at as usize - range.start]);
        }
    }
    Ok(found)
}

/// Whether the text of a page differs from what it was; both times its HTML was read.
fn is_other_text(before: &RememberedEntry, now: &RememberedEntry) -> bool {
    let part = PageField::Content.part().unwrap_or_default();
    before.from_page && now.from_page && !Prints::same_part(before.page, now.page, part)
}
