//! The build: writes the files, the index and robots.txt, and updates the ledger.

use std::collections::BTreeSet;
use std::thread;
use std::time::Instant;

use atlas_core::page;

use super::found::Departed;
use super::job::Job;
use super::overwritten::keep_files;
use super::pipeline::find;
use super::remember::{keep_derived, keep_memories, keep_sections, restate};
use super::report::{report, run_row};
use super::run_urls::{run_urls, title_gone};
use super::{Purpose, preview};
use crate::arrival::RowId;
use crate::arrival::incremental::keep_chunks;
use crate::destination::MainFile;
use crate::error::StoreError;
use crate::guard::{self, foreign, guard, is_behind};
use crate::ledger::Ledger;
use crate::model::{Fact, LeftOutBefore};
use crate::report::{Built, Guard, LastBuild, Preview, RobotsFate, Survey, in_brief};
use crate::settle::EXAMPLES;

/// How a build ended.
#[derive(Debug, Clone, PartialEq)]
pub enum Ended {
    /// The files are written.
    Built(Box<Built>),
    /// A guard held it back. Nothing was written; this is what would have happened.
    Held(Box<Preview>),
}

/// If the last run had a clock that was ahead, and that is known: what it recorded as later than now is now. Rows are read
/// again, because dates that were written may follow from this.
fn lower_dates(job: &Job<'_>, ledger: &mut dyn Ledger) -> Result<(), StoreError> {
    let now = job.now.as_second();
    let is_ahead = ledger.runs(1)?.first().is_some_and(|last| is_behind(now, last.at));
    if is_ahead && !job.is_instant_set && job.allow.contains(&Guard::Clock) {
        let writing = ledger.transaction()?;
        writing.lower_dates(now, job.policy.calendar.today())?;
        writing.set_fact(Fact::Choices, None)?;
        writing.commit()?;
    }
    Ok(())
}

/// Gathers, chooses, writes the files, the index and robots.txt, and updates the ledger.
///
/// # Errors
///
/// Returns a [`StoreError`] if a source, a file or the ledger fails, or if it was asked to stop. The site and the
/// ledger are then as before, or the next build finishes or undoes what was begun. A build that a guard holds back is
/// not an error: see [`Ended::Held`].
pub fn build(job: &Job<'_>, ledger: &mut dyn Ledger) -> Result<Ended, StoreError> {
    let started = Instant::now();
    lower_dates(job, ledger)?;
    let mut found = find(job, ledger, Purpose::Write)?;
    title_gone(&mut found.gone, &found.memories);
    let lines = (!found.extra_files_stand).then(|| found.lines(job));
    let extra_files = found.extra_files(job, lines.as_ref());
    let publisher = found.publisher(job, &extra_files);
    let form = publisher.form;
    let stale = publisher.stale_extra_files();
    let at_stake = publisher.names_at_stake(&stale);
    let foreign = foreign(&publisher, &at_stake, &job.choices.site, ledger)?;
    if !guard(&found.guard_input(job, &foreign)).is_empty() {
        return Ok(Ended::Held(Box::new(preview::of(job, ledger, &found)?)));
    }
    job.stop.check()?;
    keep_files(job.destination, &foreign, &job.scratch)?;
    job.stop.set_writing(true);
    if !publisher.is_settled() || !stale.is_empty() {
        ledger.plan(&at_stake)?;
    }
    let (_, other_sitemaps) = found.robots(job, ledger)?;
    let last = ledger.run(found.run - 1)?;
    let last =
        last.and_then(|(_, report)| LastBuild::of_report(&report, &format!("{:016x}", job.configuration_print())));
    let undelivered = ledger.fact(Fact::Undelivered)?;
    let folder = job.scratch.as_path();
    let (shares, archives) = found.shares(job)?;
    let writing = ledger.transaction()?;
    let published = publisher.publish(&*writing, &stale, || {
        let stands = |place| found.settled.entry_rows.is_entry(place);
        let share = |print| shares.get(print).map_err(StoreError::io("cannot read temporary data in", folder));
        keep_chunks(&found.reuse, &found.arrivals, stands, share, &*writing, folder)
    })?;
    if form == MainFile::Index {
        writing.set_fact(Fact::MainFile, Some("index"))?;
    }
    let extras = job.extras.print(&job.context()).to_string();
    // Those that lack what could not be read are made again when it can be.
    writing.set_fact(Fact::Extras, Some(extras.as_str()).filter(|_| !found.failing.is_any()))?;
    found.failing.remember(&*writing)?;
    found.increments.remember(job, &found.outcomes, &found.settled, &*writing)?;
    writing.set_fact(Fact::Choices, found.choices.map(|choices| choices.to_string()).as_deref())?;
    restate(&found, &*writing)?;
    keep_derived(&found, &*writing)?;
    let (first, added) = archives.added();
    writing.keep_archives(first, added)?;
    keep_sections(&found, &*writing)?;
    writing.keep_left_out(&LeftOutBefore::of(found.settled.left_out.clone()))?;
    writing.keep_provenances(&found.provenances.added())?;
    writing.set_fact(Fact::Reader, Some(&page::VERSION.to_string()))?;
    guard::remember(&found.guard_input(job, &foreign), &*writing)?;
    keep_memories(job, &found, &*writing)?;
    for tombstone in found.tombstones() {
        writing.add_tombstone(&tombstone, found.run)?;
    }
    for Departed { key, departure, .. } in &found.gone {
        writing.add_departure(*key, *departure, found.run)?;
    }
    if !found.first {
        let (mut added, rows): (Vec<u128>, Vec<RowId>) = found.added().into_iter().unzip();
        writing.add_run_urls(found.run, &run_urls(&found, &rows))?;
        added.sort_unstable();
        let news: Vec<u128> = added.iter().copied().filter(|key| !found.returned.contains_key(key)).collect();
        writing.record_additions(&added, &news, found.run)?;
        writing.forget_progress()?;
    }
    found.arrivals.check(folder)?;
    let run = found.run;
    let robots = published.robots.unwrap_or(RobotsFate::Unnamed);
    let survey = Survey { robots, other_sitemaps, ..report(job, &found, form, &published.fates, &published.sizes) };
    let configuration = format!("{:016x}", job.configuration_print());
    let changed = if survey.changes.redesign { 0 } else { survey.changes.changed.count };
    let to_announce = match found.first {
        true => 0,
        false => {
            let added = survey.changes.added.count - found.returned.len() as u64;
            added + changed + found.tombstones().filter(|one| one.change.is_some()).count() as u64
        }
    };
    let built = Built {
        run,
        written: published.written,
        retired: published.retired,
        removed: published.to_remove.clone(),
        kept: foreign,
        moved_main: published.moved_main.and_then(|name| job.names.address_of(&name)),
        to_announce,
        last,
        configuration,
        survey,
    };
    let brief = Built { survey: in_brief(&built.survey, EXAMPLES), last: None, ..built.clone() };
    if job.delivers {
        let names: BTreeSet<&str> = undelivered
            .iter()
            .flat_map(|names| names.lines())
            .chain(built.written.iter().chain(&built.removed).map(String::as_str))
            .collect();
        let names: Vec<&str> = names.into_iter().collect();
        writing.set_fact(Fact::Undelivered, Some(names.join("\n")).as_deref().filter(|names| !names.is_empty()))?;
    }
    writing.add_run(&run_row(job, &built, started.elapsed()), &serde_json::to_string(&brief).unwrap_or_default())?;
    writing.forget_history(job.now.as_second(), job.keep_days)?;
    if published.to_remove.is_empty() {
        writing.finish_plan()?;
    }
    drop(extra_files);
    drop(lines);
    // Freeing a million rows takes as long as syncing the ledger.
    thread::scope(|scope| {
        scope.spawn(|| drop(found));
        writing.commit()
    })?;
    job.destination.publish()?;
    if !published.to_remove.is_empty() {
        published.to_remove.iter().try_for_each(|name| job.destination.remove(name))?;
        job.destination.publish()?;
        let writing = ledger.transaction()?;
        writing.finish_plan()?;
        writing.commit()?;
    }
    job.stop.set_writing(false);
    Ok(Ended::Built(Box::new(built)))
}
