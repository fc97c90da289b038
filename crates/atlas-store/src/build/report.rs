//! The report on the findings of a run.

use std::time::Duration;

use atlas_core::report::{Counted, Outcome};

use super::found::RunFindings;
use super::job::Job;
use crate::destination::MainFile;
use crate::diagnostics::notice_while_building;
use crate::model::{RunCounts, RunRow};
use crate::report::{
    Built, ChangeReport, DueReport, FileFate, FileReport, LeftOut, Remapped, RobotsFate, SectionReport, SourceReport,
    Survey,
};

/// The report, for files with these fates and sizes.
pub(super) fn report(job: &Job<'_>, found: &RunFindings, form: MainFile, fates: &[FileFate], sizes: &[u64]) -> Survey {
    let (settled, plan) = (&found.settled, &found.plan);
    let sections =
        found.chooser().sections.list().iter().zip(&settled.counts.tallies).filter(|(_, tally)| tally.entries > 0);
    let sections = sections.map(|(section, tally)| SectionReport {
        name: section.name.clone(),
        entries: tally.entries,
        images: tally.images,
        videos: tally.videos,
        news: tally.news,
        newest: tally.newest,
        files: (plan.files.iter().zip(fates).zip(sizes))
            .filter(|((file, _), _)| file.section == section.name)
            .map(|((file, fate), bytes)| FileReport {
                address: format!("{}{}", job.names.address, job.names.listed_name(&file.name(), form)),
                kind: file.kind,
                entries: file.urls(),
                bytes: *bytes,
                fate: *fate,
            })
            .collect(),
    });
    let left_out = settled.counts.left_out.iter().map(|(reason, sample)| LeftOut {
        reason: *reason,
        words: reason.words(),
        counted: sample.counted(),
    });
    let counted = |known: bool| {
        let urls =
            || found.gone.iter().filter(move |one| one.gone.reason.is_some() == known).map(|one| one.url.clone());
        Counted { count: urls().count() as u64, examples: urls().take(job.telling.examples).collect() }
    };
    let changes = ChangeReport {
        first: found.first,
        added: settled.counts.added.counted(),
        changed: settled.changed.counted(),
        removed: counted(false),
        left_out: counted(true),
        redesign: settled.redesign,
        remapped: (settled.remapped.iter())
            .map(|((source, change), entries)| Remapped { source: source.clone(), change: *change, entries: *entries })
            .collect(),
    };
    let waiting = DueReport { count: settled.counts.due.count, soonest: settled.counts.due.first.clone() };
    let tallies = settled.counts.sources.clone();
    let with_tally = |(at, outcome): (usize, Outcome)| {
        let tally = tallies.get(at).copied().unwrap_or_default();
        SourceReport { outcome, kept: tally.kept, left_out: tally.left_out }
    };
    Survey {
        main: job.names.main_address(),
        more_indexes: job.names.index_addresses(plan.files.len()).split_off(1),
        sections: sections.collect(),
        left_out: left_out.collect(),
        changes,
        waiting,
        sources: found.outcomes.iter().cloned().enumerate().map(with_tally).collect(),
        notices: notice_while_building(settled),
        accepted: job.telling.accepted.counts(),
        accepted_in_vain: Vec::new(),
        moved: None,
        robots: RobotsFate::Unnamed,
        other_sitemaps: Vec::new(),
        held: Vec::new(),
    }
}

/// The summary of a run.
pub(super) fn run_row(job: &Job<'_>, built: &Built, took: Duration) -> RunRow {
    let survey = &built.survey;
    RunRow {
        run: built.run,
        at: job.now.as_second(),
        took_ms: took.as_millis() as u64,
        started_by: job.started_by,
        gzip: job.names.gzip.as_str().to_owned(),
        counts: RunCounts {
            entries: survey.sections.iter().map(|section| section.entries).sum(),
            added: survey.changes.added.count,
            changed: survey.changes.changed.count,
            removed: survey.changes.removed.count,
            left_out: survey.left_out.iter().map(|left_out| left_out.counted.count).sum(),
            files_written: built.written.len() as u64,
            files: survey.sections.iter().map(|section| section.files.len() as u64).sum(),
            bytes: survey.sections.iter().map(SectionReport::bytes).sum(),
            warnings: survey.failures().count() as u64
                + survey.sources.iter().map(|source| source.outcome.problem_count).sum::<u64>()
                + survey.notices.iter().map(|notice| notice.count).sum::<u64>(),
        },
    }
}
