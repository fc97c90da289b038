//! The pipeline: from sources to a plan of files.

use std::collections::{HashMap, HashSet};

use atlas_core::choose::Chooser;
use atlas_core::derive::alternates::AlternatesSettings;
use atlas_core::fingerprint::PageField;
use atlas_core::page;

use super::Purpose;
use super::departures::{gone, returned};
use super::failing::Failing;
use super::found::{RunFindings, standing_extra_files};
use super::gather::{Gathered, gather};
use super::increments::{Hindrance, Increments};
use super::job::Job;
use super::skipped::{SkippedRows, Skipping};
use crate::arrange::{self, Renderer, arrange};
use crate::arrival::incremental::{Reuse, ReuseConditions};
use crate::arrival::{Decider, Need};
use crate::derive::{ARCHIVES, Alternates, standing_rows};
use crate::destination::holds;
use crate::error::StoreError;
use crate::guard::Before;
use crate::ledger::Ledger;
use crate::model::Fact;
use crate::provenance::{Provenances, SourceMapping};
use crate::settle::{Expected, Terms, join, settle};

/// Gathers, settles, chooses, derives, judges and arranges.
pub(super) fn find(job: &Job<'_>, ledger: &mut dyn Ledger, purpose: Purpose) -> Result<RunFindings, StoreError> {
    job.stop.heed();
    let mut chooser = job.chooser()?;
    let wants_all = job.extras.wants_all();
    let by_row = job.sources.iter().all(|source| source.knows_rows());
    let has_archives = !chooser.archives.is_empty();
    let groups = |settings: &AlternatesSettings| Ok(!settings.paths.is_empty() || ledger.fact(Fact::Groups)?.is_some());
    let has_groups = job.alternates.as_ref().map_or(Ok::<_, StoreError>(false), groups)?;
    let choices = job.choices_print(&chooser);
    let mut increments = Increments::default();
    if purpose == Purpose::Write && Increments::are_possible(job) {
        let is_mixed = !by_row && (has_archives || has_groups);
        let by_the_instant = choices.is_none().then_some(Hindrance::Instant);
        increments = Increments::of(job, ledger, is_mixed.then_some(Hindrance::Mixed).or(by_the_instant))?;
    }
    let conditions = ReuseConditions {
        is_build: purpose == Purpose::Write,
        choices: choices.filter(|_| by_row || !has_archives),
        by_row,
        derives: by_row && (has_archives || has_groups),
        groups: has_groups,
        yields_once: job.sources.iter().any(|source| source.yields_once()),
        wants_all,
        same_extras: wants_all && same_extras_settings(job, ledger)?,
        is_fresh: job.fresh,
        by_changes: Increments::are_possible(job).then(|| increments.is_any()),
    };
    let mut reuse = Reuse::of(&conditions, ledger)?;
    if reuse.need != Need::Moved {
        increments = increments.reading_all(None);
    }
    chooser.sections.make(made_sections(ledger)?.iter().map(String::as_str));
    let wants_more = |found: &RunFindings| found.reuse.need == Need::Moved && wants_all && !found.extra_files_stand;
    let mut reads_all = false;
    loop {
        let hindrance = match find_with(job, ledger, (purpose, chooser.clone()), reuse.clone(), increments.clone())? {
            Attempt::Found(found) if !wants_more(&found) => return Ok(*found),
            Attempt::NewSections(names) => {
                chooser.sections.make(names.iter().map(String::as_str));
                continue;
            }
            Attempt::Found(_) => Some(Hindrance::MadeFromAll),
            Attempt::ReadAll(hindrance) => hindrance,
        };
        if reads_all {
            return Err(StoreError::LedgerDamaged("entries are remembered twice"));
        }
        reads_all = true;
        reuse = reuse.reading_all(wants_all);
        if increments.is_any() {
            increments = increments.reading_all(hindrance);
        }
    }
}

/// Of one in this many entries, changes are many.
const MANY: usize = 10;

/// The result of an attempt to make findings.
enum Attempt {
    /// The findings.
    Found(Box<RunFindings>),
    /// More rows have to be read than planned; this is why changes alone are not enough, if that is not for once.
    ReadAll(Option<Hindrance>),
    /// Rows make these sections.
    NewSections(Vec<String>),
}

/// The sections that rows have made before.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn made_sections(ledger: &dyn Ledger) -> Result<Vec<String>, StoreError> {
    let known = ledger.fact(Fact::MadeSections)?.unwrap_or_default();
    Ok(known.lines().map(str::to_owned).collect())
}

/// Tries to make the findings.
fn find_with(
    job: &Job<'_>,
    ledger: &mut dyn Ledger,
    (purpose, mut chooser): (Purpose, Chooser),
    mut reuse: Reuse,
    increments: Increments,
) -> Result<Attempt, StoreError> {
    let choices = job.choices_print(&chooser);
    let seed = ledger.seed()?;
    let mut remembered = ledger.remembered()?;
    let last_run = ledger.last_run()?;
    let run = last_run + 1;
    chooser.own_files.others.extend(remembered.outputs.keys().filter_map(|name| job.names.address_of(name)));
    let settings = job.settings_print();
    let decider = Decider::new(seed, chooser, job.policy.clone()).recognising(reuse.by_row, reuse.chunks.clone());
    let gathered = gather(job, ledger, decider.clone(), purpose, (&reuse, &increments));
    job.sources.iter().for_each(|source| source.release());
    let Gathered { mut arrivals, mut outcomes, memories, live_robots, mut mappings } = gathered?;
    let made = || Some(decider.new_sections()).filter(|names| !names.is_empty());
    if let Some(names) = made() {
        return Ok(Attempt::NewSections(names));
    }
    let ledger = &*ledger;
    let _reading = ledger.snapshot()?;
    let folder = job.scratch.as_path();
    let failed = || StoreError::io("cannot read temporary data in", folder);
    // Pages of archives are always derived in the same way.
    mappings.push(SourceMapping {
        source: ARCHIVES.to_owned(),
        fields: PageField::ALL.iter().map(|field| (*field, 0)).collect(),
    });
    let failing = Failing::of(job, &mut outcomes, ledger)?;
    let provenances = Provenances::new(ledger.provenances()?, mappings)
        .standing(&failing.standing)
        .incremental(&increments.read(&outcomes));
    let changed: HashSet<u64> = arrivals.changed().iter().copied().collect();
    let expected = Expected::of(job.sources, &outcomes, &arrivals);
    let same_reader = ledger.fact(Fact::Reader)?.as_deref() == Some(&page::VERSION.to_string());
    let today = job.policy.calendar.today();
    let skipping = Skipping {
        job,
        ledger,
        failing: &failing,
        expected: expected.as_ref(),
        provenances: &provenances,
        settings,
        seed,
    };
    let decided = skipping.decide(decider.chooser(), &mut arrivals, &mut remembered, &mut reuse, &mut outcomes)?;
    let why = match reuse.derives || job.extras.wants_all() {
        true => Hindrance::MadeFromAll,
        false => Hindrance::Shared,
    };
    // It is for once if a source fails, or after very many changes, when reading everything costs no more.
    let why = Some(why).filter(|_| !failing.is_any() && changed.len() <= remembered.entries() / MANY);
    let Some(SkippedRows { derivation, groups, archives: counted }) = decided else {
        return Ok(Attempt::ReadAll(why));
    };
    let (in_part, stands) = (derivation.is_in_part(), derivation.stands());
    let mut derived = None;
    if !decider.chooser().archives.is_empty() {
        let pages =
            skipping.archives(derivation, &mut arrivals, &remembered, &reuse, Some(today).filter(|_| same_reader))?;
        let Some(pages) = pages else { return Ok(Attempt::ReadAll(Some(Hindrance::MadeFromAll))) };
        outcomes.push(pages.outcome);
        derived = Some(pages.rows);
    }
    job.stop.check()?;
    let blocks = arrivals.blocks();
    let terms = Terms {
        chooser: decider.chooser(),
        run: run as u32,
        policy: &job.policy,
        today,
        settings,
        same_reader,
        provenances: &provenances,
        telling: job.telling,
    };
    job.telling.accepted.forget_counts();
    let joining = (&provenances, settings);
    let joined = join(&mut arrivals, Some(&remembered), expected.as_ref(), joining, groups.as_ref(), job.telling);
    let mut joined = joined.map_err(failed())?;
    if joined.is_unclear {
        return Ok(Attempt::ReadAll(Some(Hindrance::Shared)));
    }
    arrivals.drop_partitions(folder);
    remembered.drop_known();
    // If no entry has moved, all groups are as before, and no entry has to be written anew because of its group.
    let wanted = job.alternates.as_ref().filter(|_| !stands);
    let blocks_so_far = arrivals.blocks();
    let standing: Vec<u32> = joined.standing.iter().map(|standing| standing.at).collect();
    let standing_rows = match wanted.filter(|_| !standing.is_empty()) {
        Some(_) => standing_rows(ledger, &remembered, &standing, &mut arrivals)?,
        None => Vec::new(),
    };
    let alternates = Alternates::find(&joined, &arrivals, &standing_rows, wanted, job.telling);
    arrivals.truncate(blocks_so_far);
    let skips_rows = reuse.skips_rows() || increments.is_any();
    if alternates.any && skips_rows && !(in_part && reuse.groups) {
        // A row that was skipped may belong to a group.
        return Ok(Attempt::ReadAll(Some(Hindrance::MadeFromAll)));
    }
    let group_print = |row_id| alternates.print(alternates.group_of(row_id));
    let unchanged =
        if joined.unchanged.is_empty() { &remembered.unchanged } else { &std::mem::take(&mut joined.unchanged) };
    let mut settled = settle(joined, &arrivals, &remembered, &group_print, &terms);
    let standing = (unchanged, &remembered.untouched);
    increments.complete(ledger, &mut settled, &mut outcomes, standing, (&provenances, &changed), seed)?;
    increments.tell(job, &mut outcomes);
    for (source, problem) in std::mem::take(&mut settled.problems) {
        outcomes[usize::from(source)].late_problem(problem);
    }
    // Some rows were only read just now.
    if let Some(names) = made() {
        return Ok(Attempt::NewSections(names));
    }
    let known: HashSet<String> = made_sections(ledger)?.into_iter().collect();
    let new = decider.chooser().sections.made().filter(|name| !known.contains(*name));
    settled.note_new_sections(new, job.telling);
    settled.judge(&arrivals, ledger, &remembered, &alternates, &terms)?;
    if settled.lacks_latest {
        return Ok(Attempt::ReadAll(Some(Hindrance::MadeFromAll)));
    }
    job.stop.check()?;
    let renderer =
        Renderer { arrivals: &arrivals, policy: &job.policy, alternates: &alternates, style: job.names.style };
    let sections = &decider.chooser().sections;
    let site = arrange::ArrangedSite { ledger, remembered: &remembered, sections, cut: &job.cut, renderer };
    for standing in &settled.standing {
        for source in &standing.sources {
            if let Some(failure) = &mut outcomes[usize::from(*source)].failure {
                failure.stand += 1;
            }
        }
    }
    let Some(plan) = arrange(&site, &mut settled)? else { return Ok(Attempt::ReadAll(why)) };
    arrivals.check(folder)?;
    arrivals.doubt(&settled.doubtful);
    let gone = gone(ledger, &remembered, &settled, &provenances)?;
    let was_index = ledger.fact(Fact::MainFile)?.is_some();
    let first = last_run == 0;
    let mut found = RunFindings {
        arrivals,
        blocks,
        remembered,
        reuse,
        settled,
        alternates,
        derived: derived.filter(|_| !stands),
        counted,
        in_part,
        stands,
        plan,
        outcomes,
        memories,
        live_robots,
        first,
        run,
        was_index,
        settings,
        choices,
        before: Before::read(ledger)?,
        extra_files_stand: false,
        gone,
        returned: HashMap::new(),
        provenances,
        failing,
        increments,
    };
    found.returned = returned(&found, ledger)?;
    let entry_row = |name: String| {
        let output = found.remembered.outputs.get(&name);
        output.is_some_and(|output| holds(job.destination, &name, &output.on_disk))
    };
    // They are made from all rows, some of which could not be read.
    let must_stand = !found.failing.standing.is_empty();
    found.extra_files_stand = found.remembered.planned.is_empty()
        && !found.first
        && (must_stand || (found.is_unmoved() && same_extras_settings(job, ledger)?))
        && standing_extra_files(&found.remembered).all(entry_row);
    Ok(Attempt::Found(Box::new(found)))
}

/// Whether the files for visitors and templates would be made in the same way as before.
pub(super) fn same_extras_settings(job: &Job<'_>, ledger: &dyn Ledger) -> Result<bool, StoreError> {
    Ok(ledger.fact(Fact::Extras)?.as_deref() == Some(&job.extras.print(&job.context()).to_string()))
}
