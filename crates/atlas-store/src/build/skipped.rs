//! Rows that were skipped: whether they have to be read after all. If nothing has moved, what was derived from entries
//! stands. Otherwise only what depends on a change is derived again, as far as the ledger knows enough for that.

use std::collections::HashSet;

use atlas_core::choose::Chooser;
use atlas_core::report::Outcome;

use super::failing::Failing;
use super::found::SOUND;
use super::job::Job;
use crate::arrival::incremental::{Reuse, remember_entries};
use crate::arrival::{Arrivals, AskedRows, Need, ProblemsBySource};
use crate::derive::archives::{DerivedPages, PagesBefore, archives, archives_as_before};
use crate::derive::{Affected, ArchiveNumbers, DerivedRows, affected};
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered, lookup};
use crate::model::{DerivedBefore, Fact, Untouched};
use crate::provenance::Provenances;
use crate::settle::{Expected, GroupsBefore, ReportLimits, join};

/// What is derived, and how.
#[derive(Debug, Default)]
pub(super) enum Derivation<'c> {
    /// Everything, from all rows; or nothing is derived at all.
    #[default]
    FromAll,
    /// What depends on a change.
    InPart(Affected<'c>),
    /// Nothing has moved: the rows of archives are as before.
    AsBefore(DerivedRows),
}

impl<'c> Derivation<'c> {
    /// Whether only what depends on a change is derived.
    pub(super) fn is_in_part(&self) -> bool {
        matches!(self, Self::InPart(_))
    }

    /// Whether nothing is derived anew, because no entry has moved.
    pub(super) fn stands(&self) -> bool {
        matches!(self, Self::AsBefore(_))
    }
}

/// What was decided about skipped rows.
#[derive(Debug, Default)]
pub(super) struct SkippedRows<'c> {
    pub(super) derivation: Derivation<'c>,
    /// While nothing has moved, entries are recognised with the groups that they had.
    pub(super) groups: Option<GroupsBefore>,
    /// The archives that the shares of chunks count.
    pub(super) archives: ArchiveNumbers,
}

/// What a run has gathered, and what it knows of the one before.
pub(super) struct Skipping<'a> {
    pub(super) job: &'a Job<'a>,
    pub(super) ledger: &'a dyn Ledger,
    pub(super) failing: &'a Failing,
    pub(super) expected: Option<&'a Expected>,
    pub(super) provenances: &'a Provenances,
    pub(super) settings: u64,
    pub(super) seed: u64,
}

impl Skipping<'_> {
    /// Decides, and reads skipped rows again as far as necessary. Returns `None` if the sources have to be asked again.
    pub(super) fn decide<'c>(
        &self,
        chooser: &'c Chooser,
        arrivals: &mut Arrivals,
        remembered: &mut Remembered,
        reuse: &mut Reuse,
        outcomes: &mut [Outcome],
    ) -> Result<Option<SkippedRows<'c>>, StoreError> {
        let Self { job, ledger, .. } = *self;
        let space = (job.scratch.as_path(), job.memory);
        if reuse.need != Need::Moved {
            remember_entries(ledger, remembered, arrivals, (reuse, &[], self.provenances), space)?;
            return Ok(Some(SkippedRows::default()));
        }
        let DerivedBefore { rows, groups } = ledger.derived()?;
        let derived = DerivedRows(rows);
        let keys = derived.keys(self.seed);
        if remember_entries(ledger, remembered, arrivals, (reuse, &keys, self.provenances), space)? {
            let wants_all = job.extras.wants_all() && reuse.retains;
            if !reuse.derives && !wants_all {
                give_up_texts(arrivals, outcomes);
                return Ok(Some(SkippedRows::default()));
            }
            let archives = ArchiveNumbers::known(ledger.archives()?);
            let groups = GroupsBefore::read(&groups);
            let is_sound = !reuse.derives || ledger.fact(Fact::Derived)?.as_deref() == Some(SOUND);
            let has_moved = self.has_moved(arrivals, remembered, &groups)?;
            if is_sound && !has_moved {
                give_up_texts(arrivals, outcomes);
                let derivation = if reuse.derives { Derivation::AsBefore(derived) } else { Derivation::FromAll };
                return Ok(Some(SkippedRows { derivation, groups: Some(groups), archives }));
            }
            let alternates = job.alternates.as_ref().filter(|_| reuse.groups);
            if is_sound
                && !self.failing.is_any()
                && !self.provenances.any_increments()
                && !job.extras.wants_all()
                && let Some(found) = affected(ledger, arrivals, &archives, chooser.archives.tally(), alternates)?
            {
                let decision = |found| SkippedRows { derivation: Derivation::InPart(found), groups: None, archives };
                // Archives count rows as they came; in groups, every row of a changed chunk may be new.
                if alternates.is_none() {
                    give_up_texts(arrivals, outcomes);
                    return Ok(Some(decision(found)));
                }
                remembered.drop_known();
                let read = self.read_again(arrivals, Some(&found.asked), reuse, outcomes)?;
                // The rows that were asked for are compared with what is remembered of them.
                let is_known =
                    read && remember_entries(ledger, remembered, arrivals, (reuse, &keys, self.provenances), space)?;
                return Ok(is_known.then(|| decision(found)));
            }
        }
        if self.provenances.any_increments() {
            return Ok(None);
        }
        *reuse = reuse.clone().reading_all(job.extras.wants_all());
        remembered.drop_known();
        if !self.read_again(arrivals, None, reuse, outcomes)? {
            return Ok(None);
        }
        remember_entries(ledger, remembered, arrivals, (reuse, &[], self.provenances), space)?;
        Ok(Some(SkippedRows::default()))
    }

    /// The pages of archives. `today` is `None` if what pages were like before says nothing about now. Returns `None` if
    /// the sources have to be asked again.
    pub(super) fn archives(
        &self,
        derivation: Derivation<'_>,
        arrivals: &mut Arrivals,
        remembered: &Remembered,
        reuse: &Reuse,
        today: Option<i32>,
    ) -> Result<Option<DerivedPages>, StoreError> {
        let Self { job, ledger, expected, provenances, .. } = *self;
        let tally = match derivation {
            // They cannot be counted as long as some of their entries are not read.
            Derivation::FromAll if !self.failing.standing.is_empty() => {
                let rows = DerivedRows(ledger.derived()?.rows);
                return Ok(Some(archives_as_before(arrivals, rows, false)));
            }
            Derivation::FromAll => None,
            Derivation::InPart(affected) => Some(affected.tally),
            Derivation::AsBefore(rows) => {
                let untouched = matches!(remembered.untouched, Untouched::All);
                return Ok(Some(archives_as_before(arrivals, rows, untouched)));
            }
        };
        let pages_known = job.sources.iter().any(|source| source.reads_pages());
        let before = PagesBefore::read((ledger, !reuse.by_row), remembered, today)?;
        let pages = archives(arrivals, tally.as_ref(), pages_known, expected, provenances, before);
        let pages = pages.map_err(StoreError::io("cannot read temporary data in", &job.scratch))?;
        let is_unsure = tally.is_some() && self.names_skipped_entries(remembered, &pages.rows.keys(self.seed))?;
        Ok((!is_unsure).then_some(pages))
    }

    /// Whether a page of an archive is an entry whose row was skipped: then it is not one of its own entries.
    fn names_skipped_entries(&self, remembered: &Remembered, pages: &[u128]) -> Result<bool, StoreError> {
        let before: HashSet<u128> = DerivedRows(self.ledger.derived()?.rows).keys(self.seed).into_iter().collect();
        let new: HashSet<u128> = pages.iter().copied().filter(|key| !before.contains(key)).collect();
        Ok(!new.is_empty() && !lookup(self.ledger, remembered, &new)?.is_empty())
    }

    /// Whether an entry came, left or changed.
    fn has_moved(
        &self,
        arrivals: &mut Arrivals,
        remembered: &Remembered,
        groups: &GroupsBefore,
    ) -> Result<bool, StoreError> {
        let (blocks, quiet) = (arrivals.blocks(), ReportLimits { examples: 0, ..self.job.telling });
        let joining = (self.provenances, self.settings);
        let joined = join(arrivals, Some(remembered), self.expected, joining, Some(groups), quiet);
        let joined = joined.map_err(StoreError::io("cannot read temporary data in", &self.job.scratch))?;
        arrivals.truncate(blocks);
        Ok(joined.has_moved)
    }

    /// Reads retained texts again; `false` if there are none.
    fn read_again(
        &self,
        arrivals: &mut Arrivals,
        asked: Option<&AskedRows>,
        reuse: &Reuse,
        outcomes: &mut [Outcome],
    ) -> Result<bool, StoreError> {
        let Some(problems) = arrivals.read_again(asked, &self.job.scratch, reuse.need, self.job.memory / 2)? else {
            return Ok(false);
        };
        report(problems, outcomes);
        Ok(true)
    }
}

/// Gives up the texts of skipped rows, and reports what is wrong with those that were read.
fn give_up_texts(arrivals: &mut Arrivals, outcomes: &mut [Outcome]) {
    report(arrivals.give_up_texts(), outcomes);
}

fn report(problems: ProblemsBySource, outcomes: &mut [Outcome]) {
    problems.into_iter().for_each(|(source, problem)| outcomes[usize::from(source)].late_problem(problem));
}
