//! The preview of a build: which files would be written, grow, shrink or disappear, and which URLs would be added and
//! removed.

use std::collections::BTreeMap;

use atlas_core::placement::{FileKind, child_name};

use super::Purpose;
use super::found::{Departed, RunFindings};
use super::job::Job;
use super::pipeline::find;
use super::remember::learn;
use super::report::report;
use crate::arrange::FilePlan;
use crate::error::StoreError;
use crate::guard::{foreign, guard};
use crate::ledger::Ledger;
use crate::model::FileRow;
use crate::publish::Publisher;
use crate::report::{FileFate, FilePreview, Goes, Moves, Planned, Preview, Survey};
use crate::settle::Novelty;

/// The most URLs of one kind that are listed. All are counted.
const MOST_LISTED: usize = 10_000;

/// Gathers, chooses and arranges as a build does, but writes nothing except what was learnt about the sources' files.
///
/// # Errors
///
/// Returns an error if a source or the ledger cannot be read, or the run is interrupted.
pub fn preview(job: &Job<'_>, ledger: &mut dyn Ledger) -> Result<Preview, StoreError> {
    let found = find(job, ledger, Purpose::Write)?;
    learn(job, &found, ledger)?;
    of(job, ledger, &found)
}

/// The preview of the build from these findings.
pub(super) fn of(job: &Job<'_>, ledger: &dyn Ledger, found: &RunFindings) -> Result<Preview, StoreError> {
    let plan = &found.plan;
    let lines = (!found.extra_files_stand).then(|| found.lines(job));
    let extra_files = found.extra_files(job, lines.as_ref());
    let publisher = found.publisher(job, &extra_files);
    let extra_files =
        publisher.stale_extra_files().into_iter().map(|at| publisher.extra_files[at].name.clone()).collect();
    let before: BTreeMap<i64, &FileRow> = found.remembered.files.iter().map(|file| (file.id, file)).collect();
    let staying = plan.files.iter().enumerate().map(|(at, file)| {
        let row = file.id.and_then(|id| before.get(&id).copied());
        planned(&publisher, ledger, at, row)
    });
    let mut files: Vec<FilePreview> = staying.collect::<Result<_, _>>()?;
    let sizes: Vec<u64> = files.iter().map(|file| file.bytes).collect();
    files.extend(plan.folded.iter().filter_map(|id| before.get(id)).map(|file| FilePreview {
        address: format!("{}{}", job.names.address, child_name(&file.section, file.kind, file.number)),
        kind: file.kind,
        fate: Planned::Vanishes,
        entries_before: u64::from(file.urls()),
        entries: 0,
        bytes_before: file.digest.size,
        bytes: 0,
    }));
    let at_stake = publisher.names_at_stake(&publisher.stale_extra_files());
    let foreign = foreign(&publisher, &at_stake, &job.choices.site, ledger)?;
    let (held, comes, moves) = (guard(&found.guard_input(job, &foreign)), comes(found), moves(found));
    let goes = found.gone.iter().take(MOST_LISTED).map(goes).collect();
    let form = publisher.form;
    let fates = vec![FileFate::Unchanged; plan.files.len()];
    let (robots, other_sitemaps) = found.robots(job, ledger)?;
    let survey = Survey { held, robots, other_sitemaps, ..report(job, found, form, &fates, &sizes) };
    let edited = edited(found);
    let robots_txt = found.declaration(job, ledger)?.and_then(|declaration| declaration.change());
    Ok(Preview { survey, files, comes, edited, goes, moves, robots_txt, extra_files })
}

fn planned(
    publisher: &Publisher<'_>,
    ledger: &dyn Ledger,
    at: usize,
    row: Option<&FileRow>,
) -> Result<FilePreview, StoreError> {
    let file: &FilePlan = &publisher.plan.files[at];
    let (crc, bytes) = match file.before {
        Some(before) if !file.is_touched() => (before.crc, before.size),
        _ => publisher.will_be(at, ledger)?,
    };
    // The former main file gets a name of its own, so it is new to those who fetch it.
    let before = file.before.filter(|_| publisher.has_written(file));
    let (entries, entries_before) =
        (file.urls(), row.filter(|_| before.is_some()).map_or(0, |row| u64::from(row.urls())));
    let fate = match before {
        None => Planned::New,
        Some(before) if (before.crc, before.size) != (crc, bytes) => match entries.cmp(&entries_before) {
            std::cmp::Ordering::Greater => Planned::Grows,
            std::cmp::Ordering::Less => Planned::Shrinks,
            std::cmp::Ordering::Equal => Planned::Changes,
        },
        Some(_) if publisher.holds_all(file) => Planned::Stays,
        Some(_) => Planned::Restored,
    };
    Ok(FilePreview {
        address: format!("{}{}", publisher.names.address, publisher.names.listed_name(&file.name(), publisher.form)),
        kind: file.kind,
        fate,
        entries_before,
        entries,
        bytes_before: before.map_or(0, |before| before.size),
        bytes,
    })
}

fn comes(found: &RunFindings) -> Vec<String> {
    found.added().into_iter().take(MOST_LISTED).map(|(_, place)| found.url_of(place)).collect()
}

/// Changed entries, in the order in which the sources name them.
fn edited(found: &RunFindings) -> Vec<String> {
    let pages = found.settled.candidates.iter().filter(|candidate| candidate.kind == FileKind::Pages);
    let mut changed: Vec<_> = pages.filter(|candidate| candidate.news == Novelty::Changed).collect();
    changed.sort_unstable_by_key(|candidate| candidate.named);
    changed.iter().take(MOST_LISTED).map(|candidate| found.url_of(candidate.row_id)).collect()
}

fn goes(one: &Departed) -> Goes {
    let because = one.gone.reason.map_or("no source names it any more", |reason| reason.words());
    Goes { url: one.url.clone(), reason: one.gone.reason, because }
}

/// Entries that move to another section.
fn moves(found: &RunFindings) -> Vec<Moves> {
    let sections = found.chooser().sections.list();
    let files = found.remembered.files.iter();
    let mut starts: Vec<(usize, &str)> =
        files.flat_map(|file| file.segments.iter().map(|segment| (segment.first, file.section.as_str()))).collect();
    starts.sort_unstable();
    let was_in = |at: usize| {
        let segment = starts.partition_point(|(first, _)| *first <= at).checked_sub(1)?;
        starts.get(segment).map(|(_, section)| *section)
    };
    let pages = found.settled.candidates.iter().filter(|candidate| candidate.kind == FileKind::Pages);
    let moved = pages.filter_map(|candidate| {
        let from = was_in(candidate.prior? as usize)?;
        let to = sections[usize::from(candidate.section)].name.as_str();
        (from != to).then_some((candidate, from, to))
    });
    let mut moved: Vec<_> = moved.collect();
    moved.sort_unstable_by_key(|(candidate, ..)| candidate.named);
    let told = moved.iter().take(MOST_LISTED).map(|(candidate, from, to)| Moves {
        url: found.url_of(candidate.row_id),
        from: (*from).to_owned(),
        to: (*to).to_owned(),
    });
    told.collect()
}
