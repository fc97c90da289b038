//! Surveys: what would be listed, and what is left out. Nothing of the site is written.

use std::collections::BTreeSet;

use atlas_core::report::Notice;

use super::Purpose;
use super::found::RunFindings;
use super::job::Job;
use super::pipeline::find;
use super::remember::learn;
use super::report::report;
use crate::diagnostics::{self, Listed, Listing, about_robots, notice};
use crate::error::StoreError;
use crate::guard::{foreign, guard};
use crate::ledger::Ledger;
use crate::report::{FileFate, Survey};

/// Gathers entries and reports which would be listed, and why the others are left out. Writes nothing except what was
/// learnt about files.
///
/// # Errors
///
/// Returns an error if a source or the ledger cannot be read, or the run is interrupted.
pub fn survey(job: &Job<'_>, ledger: &mut dyn Ledger) -> Result<Survey, StoreError> {
    let found = find(job, ledger, Purpose::Look)?;
    learn(job, &found, ledger)?;
    surveyed(job, &found, ledger)
}

/// As [`survey`], with all entries, including those that are left out.
///
/// # Errors
///
/// As [`survey`].
pub fn survey_closely(job: &Job<'_>, ledger: &mut dyn Ledger) -> Result<(Survey, Vec<Listed>), StoreError> {
    let found = find(job, ledger, Purpose::Look)?;
    learn(job, &found, ledger)?;
    let survey = surveyed(job, &found, ledger)?;
    let (entries, _) = listed(job, &found, ledger, &Listing::default())?;
    Ok((survey, entries))
}

/// The survey of what was found.
fn surveyed(job: &Job<'_>, found: &RunFindings, ledger: &dyn Ledger) -> Result<Survey, StoreError> {
    let plan = &found.plan;
    let derived = (&found.alternates, job.extras.structured_data);
    let (settled, outcomes) = (&found.settled, &found.outcomes);
    let mut notices = notice(&found.arrivals, settled, (job.sources, outcomes), derived, job.telling);
    let form = job.names.form(plan.files.len(), found.was_index);
    let fates = plan.files.iter().map(|file| match (file.id, file.is_touched()) {
        (None, _) => FileFate::New,
        (_, true) => FileFate::Changed,
        (_, false) => FileFate::Unchanged,
    });
    let fates: Vec<FileFate> = fates.collect();
    let sizes: Vec<u64> = plan.files.iter().map(|file| file.size(job.names.style)).collect();
    found.arrivals.check(&job.scratch)?;
    let publisher = found.publisher(job, &[]);
    let foreign = foreign(&publisher, &publisher.names_at_stake(&[]), &job.choices.site, ledger)?;
    let held = guard(&found.guard_input(job, &foreign));
    let (robots, other_sitemaps) = found.robots(job, ledger)?;
    let files = plan.files.iter().map(|file| job.names.listed_name(&file.name(), form));
    let files = files.chain([job.names.main.clone()]).filter_map(|name| job.names.address_of(&name));
    let files: Vec<String> = files.collect::<BTreeSet<String>>().into_iter().collect();
    let destination = (job.destination, job.names);
    notices.extend(about_robots(destination, found.chooser(), &files, &other_sitemaps, job.telling)?);
    let unmet = job.telling.accepted.unmet();
    let unmet = unmet.filter(|(_, code)| Notice::ALL.iter().any(|notice| notice.code() == *code));
    let accepted_in_vain = unmet.map(|(line, code)| (line, code.to_owned())).collect();
    let moved = diagnostics::compare_move(&found.arrivals, settled, job.sources, job.telling);
    Ok(Survey {
        moved,
        notices,
        accepted_in_vain,
        held,
        robots,
        other_sitemaps,
        ..report(job, found, form, &fates, &sizes)
    })
}

/// Gathers and lists entries, including those that are left out. Returns the list and the total number.
///
/// # Errors
///
/// As [`survey`].
pub fn list(job: &Job<'_>, ledger: &mut dyn Ledger, listing: &Listing) -> Result<(Vec<Listed>, u64), StoreError> {
    let found = find(job, ledger, Purpose::LookCloser)?;
    learn(job, &found, ledger)?;
    listed(job, &found, ledger, listing)
}

/// A list of what was found.
fn listed(
    job: &Job<'_>,
    found: &RunFindings,
    ledger: &dyn Ledger,
    listing: &Listing,
) -> Result<(Vec<Listed>, u64), StoreError> {
    let files = found.files(job, ledger)?;
    let candidates =
        diagnostics::list(listing, &found.arrivals, &found.settled, &found.remembered, &found.outcomes, &files);
    found.arrivals.check(&job.scratch)?;
    Ok(candidates)
}
