//! The findings of a run, before anything is written.

use std::collections::HashMap;

use atlas_core::choose::Chooser;
use atlas_core::contribution::url_of;
use atlas_core::placement::{FileKind, is_extra_file};
use atlas_core::report::Outcome;

use super::failing::Failing;
use super::increments::Increments;
use super::job::Job;
use crate::arrange::{MemberOrigin, Plan, Renderer, SegmentPlan};
use crate::arrival::incremental::Reuse;
use crate::arrival::{Arrivals, RowId};
use crate::derive::{Alternates, ArchiveNumbers, ChunkShares, DerivedRows, ShareMaker};
use crate::error::StoreError;
use crate::extras::{ExtraFile, VisitorLines};
use crate::guard::{Before, GuardInput};
use crate::ledger::{Ledger, Remembered};
use crate::model::{Departure, Fact, Memory, Tombstone};
use crate::provenance::Provenances;
use crate::publish::{Declaration, Publisher, SegmentRenderer};
use crate::report::{OtherSitemap, RobotsFate};
use crate::settle::{Gone, Settled};
use crate::source::LiveRobots;

/// The findings of a run, before anything is written.
pub(super) struct RunFindings {
    pub(super) arrivals: Arrivals,
    /// The number of blocks that come from sources.
    pub(super) blocks: usize,
    pub(super) remembered: Remembered,
    pub(super) reuse: Reuse,
    pub(super) settled: Settled,
    pub(super) alternates: Alternates,
    /// The rows that were derived from entries, unless they are as before.
    pub(super) derived: Option<DerivedRows>,
    /// The archives that the shares of chunks count.
    pub(super) counted: ArchiveNumbers,
    /// Whether only what depends on a change was derived.
    pub(super) in_part: bool,
    /// Whether nothing was derived anew, because no entry has moved.
    pub(super) stands: bool,
    /// The plan of the whole site.
    pub(super) plan: Plan,
    pub(super) outcomes: Vec<Outcome>,
    pub(super) memories: Vec<Memory>,
    pub(super) live_robots: Option<LiveRobots>,
    pub(super) first: bool,
    pub(super) run: i64,
    pub(super) was_index: bool,
    /// A fingerprint of the settings that affect what is written.
    pub(super) settings: u64,
    /// A fingerprint of everything that decides about a row; `None` if the instant decides, too.
    pub(super) choices: Option<u64>,
    /// The state after the last build.
    pub(super) before: Before,
    /// Whether the files beside the sitemaps are known to be up to date.
    pub(super) extra_files_stand: bool,
    /// The entries that are no longer listed.
    pub(super) gone: Vec<Departed>,
    /// Entries that are back unchanged before any engine was told that they had left, by key: the run in which each
    /// last changed.
    pub(super) returned: HashMap<u128, u32>,
    pub(super) provenances: Provenances,
    /// The sources that could not be read whole.
    pub(super) failing: Failing,
    /// Which sources were asked for changes alone.
    pub(super) increments: Increments,
}

/// An entry that is no longer listed.
#[derive(Debug, Clone)]
pub(super) struct Departed {
    pub(super) key: u128,
    pub(super) url: String,
    /// The section that it was in.
    pub(super) section: String,
    /// Its title, if a source remembers its page.
    pub(super) title: Option<String>,
    pub(super) gone: Gone,
    pub(super) departure: Departure,
}

/// What the ledger remembers if everything that was derived from entries was sound.
pub(super) const SOUND: &str = "sound";

impl RunFindings {
    /// The job's chooser, which now knows the tool's own files.
    pub(super) fn chooser(&self) -> &Chooser {
        self.arrivals.decider().chooser()
    }

    pub(super) fn publisher<'a>(&'a self, job: &'a Job<'_>, extra_files: &'a [ExtraFile<'a>]) -> Publisher<'a> {
        let Self { arrivals, alternates, plan, .. } = self;
        Publisher {
            destination: job.destination,
            names: job.names,
            plan,
            remembered: &self.remembered,
            segment_renderer: SegmentRenderer {
                candidates: &self.settled.candidates,
                entry_rows: &self.settled.entry_rows,
                renderer: Renderer { arrivals, policy: &job.policy, alternates, style: job.names.style },
                settings: self.settings,
                run: self.run as u32,
                returned: &self.returned,
            },
            extra_files,
            extra_files_stand: self.extra_files_stand,
            form: job.names.form(plan.files.len(), self.was_index),
            now: job.now.as_second(),
            live_robots: self.live_robots.as_ref(),
        }
    }

    /// Whether entries may be in groups of translations.
    pub(super) fn has_groups(&self) -> bool {
        self.alternates.any || (self.reuse.groups && (self.stands || self.in_part))
    }

    /// The shares of new chunks in what is derived, and the archives that they count.
    pub(super) fn shares(&self, job: &Job<'_>) -> Result<(ChunkShares, ArchiveNumbers), StoreError> {
        let (mut archives, chooser) = (self.counted.clone(), self.chooser());
        let alternates = job.alternates.as_ref().filter(|_| self.has_groups());
        if self.reuse.chunks.is_none() || (alternates.is_none() && chooser.archives.is_empty()) {
            return Ok((ChunkShares::new(&job.scratch), archives));
        }
        let Self { arrivals, settled, remembered, .. } = self;
        let shares = ShareMaker { arrivals, settled, remembered, chooser, alternates }.shares(&mut archives);
        Ok((shares.map_err(StoreError::io("cannot write temporary data to", &job.scratch))?, archives))
    }

    /// The input of the guards.
    pub(super) fn guard_input<'a>(&'a self, job: &'a Job<'_>, foreign: &'a [String]) -> GuardInput<'a> {
        GuardInput {
            allow: &job.allow,
            thresholds: &job.thresholds,
            chooser: self.chooser(),
            names: job.names,
            destination: job.destination,
            before: &self.before,
            remembered: &self.remembered,
            foreign,
            settled: &self.settled,
            now: (!job.is_instant_set).then(|| job.now.as_second()),
            part: self.failing.held.as_deref(),
        }
    }

    /// What would happen to robots.txt, and what else it declares.
    pub(super) fn robots(
        &self,
        job: &Job<'_>,
        ledger: &dyn Ledger,
    ) -> Result<(RobotsFate, Vec<OtherSitemap>), StoreError> {
        let declaration = self.declaration(job, ledger)?;
        Ok(declaration.map_or((RobotsFate::Unnamed, Vec::new()), |one| (one.fate(), one.others())))
    }

    /// The intended contents of robots.txt, if the configuration names one.
    pub(super) fn declaration(&self, job: &Job<'_>, ledger: &dyn Ledger) -> Result<Option<Declaration>, StoreError> {
        let declared = ledger.fact(Fact::Declared)?.unwrap_or_default();
        Declaration::of((job.destination, job.names), self.plan.files.len(), &declared, self.live_robots.as_ref())
    }

    /// Whether all entries are unchanged, so that files made from all of them are, too.
    pub(super) fn is_unmoved(&self) -> bool {
        let settled = &self.settled;
        // News files are filled anew each time.
        settled.candidates.iter().all(|candidate| candidate.kind == FileKind::News)
            && settled.counts.added.count() == 0
            && self.gone.is_empty()
            && settled.gone.is_empty()
    }

    /// The files beside the sitemaps.
    pub(super) fn extra_files<'a>(
        &'a self,
        job: &'a Job<'_>,
        lines: Option<&'a VisitorLines<'a>>,
    ) -> Vec<ExtraFile<'a>> {
        match lines {
            Some(lines) => lines.extra_files(&job.extras, job.context()),
            None => standing_extra_files(&self.remembered).map(ExtraFile::standing).collect(),
        }
    }

    pub(super) fn lines<'a>(&'a self, job: &'a Job<'_>) -> VisitorLines<'a> {
        VisitorLines::new(&job.extras, &self.arrivals, &self.settled, &self.remembered)
    }

    /// The name of the file that contains, or will contain, each entry, by key.
    pub(super) fn files(&self, job: &Job<'_>, ledger: &dyn Ledger) -> Result<HashMap<u128, String>, StoreError> {
        let plan = &self.plan;
        let form = job.names.form(plan.files.len(), self.was_index);
        let mut files = HashMap::new();
        for file in plan.files.iter().filter(|file| file.kind == FileKind::Pages) {
            let name = job.names.listed_name(&file.name(), form);
            for segment in &file.segments {
                let base = match segment {
                    SegmentPlan::Kept(row) => Some(row),
                    SegmentPlan::Made(made) => made.base.as_ref(),
                };
                let entries = base.zip(file.id).map(|(base, file)| ledger.entries_of(file, base));
                let entries = entries.transpose()?.unwrap_or_default();
                let keys: Vec<u128> = match segment {
                    SegmentPlan::Kept(_) => entries.iter().map(|entry| entry.key).collect(),
                    SegmentPlan::Made(made) => made
                        .members
                        .iter()
                        .map(|member| match member.from() {
                            MemberOrigin::Base(at) => entries[at as usize].key,
                            MemberOrigin::Candidate(at) => self.settled.candidates[at as usize].entry.key,
                            MemberOrigin::Row(row_id) => self.arrivals.summary(row_id).key(),
                        })
                        .collect(),
                };
                files.extend(keys.into_iter().map(|key| (key, name.clone())));
            }
        }
        Ok(files)
    }

    /// The new entries, in the order in which the sources name them: their keys and rows.
    pub(super) fn added(&self) -> Vec<(u128, RowId)> {
        let any = self.settled.counts.added.count() > 0;
        let rows = self.settled.entry_rows.new_rows().filter(|_| any);
        let kept =
            rows.map(|row_id| (row_id, self.arrivals.summary(row_id))).filter(|(_, summary)| summary.kept().is_some());
        let mut added: Vec<(RowId, u128, RowId)> =
            kept.map(|(row_id, summary)| (self.settled.entry_rows.named(row_id), summary.key(), row_id)).collect();
        added.sort_unstable();
        added.into_iter().map(|(_, key, row_id)| (key, row_id)).collect()
    }

    pub(super) fn url_of(&self, row_id: RowId) -> String {
        url_of(&self.arrivals.row(row_id)).to_owned()
    }

    /// What is remembered of entries that are no longer listed.
    pub(super) fn tombstones(&self) -> impl Iterator<Item = Tombstone> {
        self.gone.iter().map(|Departed { key, url, section, title, gone, .. }| Tombstone {
            key: *key,
            url: url.clone(),
            section: section.clone(),
            title: title.clone(),
            change: gone.change,
        })
    }
}

/// The names of the files beside the sitemaps, as last written.
pub(super) fn standing_extra_files(remembered: &Remembered) -> impl Iterator<Item = String> {
    let standing = remembered.outputs.iter().filter(|(name, output)| is_extra_file(name) && output.retired.is_none());
    standing.map(|(name, _)| name.clone())
}
