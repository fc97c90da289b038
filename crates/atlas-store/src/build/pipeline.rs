//! The pipeline: from sources to a plan of files.

use std::collections::HashMap;

use atlas_core::choose::Chooser;
use atlas_core::fingerprint::PageField;
use atlas_core::page;

use super::Purpose;
use super::departures::{gone, returned};
use super::found::{RunFindings, standing_extra_files};
use super::gather::{Gathered, gather};
use super::job::Job;
use crate::arrange::{self, Renderer, arrange};
use crate::arrival::incremental::{Reuse, ReuseConditions, remember_entries};
use crate::arrival::{Decider, Need};
use crate::derive::{ARCHIVES, Alternates, archives};
use crate::destination::holds;
use crate::error::StoreError;
use crate::guard::Before;
use crate::ledger::Ledger;
use crate::model::Fact;
use crate::provenance::{Provenances, SourceMapping};
use crate::settle::{Expected, Terms, settle};

/// Gathers, settles, chooses, derives, judges and arranges.
pub(super) fn find(job: &Job<'_>, ledger: &mut dyn Ledger, purpose: Purpose) -> Result<RunFindings, StoreError> {
    job.stop.heed();
    let chooser = job.chooser();
    let wants_all = job.extras.wants_all();
    let conditions = ReuseConditions {
        is_build: purpose == Purpose::Write,
        choices: job.choices_print(&chooser).filter(|_| chooser.archives.is_empty()),
        by_chunk: job.sources.iter().all(|source| source.knows_rows()),
        wants_all,
        same_extras: wants_all && same_extras_settings(job, ledger)?,
        is_fresh: job.fresh,
    };
    let reuse = Reuse::of(&conditions, ledger)?;
    let enough = |found: &RunFindings| reuse.need != Need::Moved || !wants_all || found.extra_files_stand;
    if let Some(found) = find_with(job, ledger, (purpose, chooser.clone()), reuse.clone())?.filter(enough) {
        return Ok(found);
    }
    let found = find_with(job, ledger, (purpose, chooser), reuse.reading_all(wants_all))?;
    found.ok_or(StoreError::LedgerDamaged("entries are remembered twice"))
}

/// Makes the findings; `None` if it turns out that more rows have to be read than planned.
fn find_with(
    job: &Job<'_>,
    ledger: &mut dyn Ledger,
    (purpose, mut chooser): (Purpose, Chooser),
    reuse: Reuse,
) -> Result<Option<RunFindings>, StoreError> {
    let choices = job.choices_print(&chooser);
    let seed = ledger.seed()?;
    let mut remembered = ledger.remembered()?;
    let last_run = ledger.last_run()?;
    let run = last_run + 1;
    chooser.own_files.others.extend(remembered.outputs.keys().filter_map(|name| job.names.address_of(name)));
    let settings = job.settings_print();
    let decider = Decider::new(seed, chooser, job.policy.clone(), reuse.chunks.clone());
    let Gathered { mut arrivals, mut outcomes, memories, live_robots, mut mappings } =
        gather(job, ledger, decider.clone(), purpose, reuse.need)?;
    let ledger = &*ledger;
    let _reading = ledger.snapshot()?;
    if !remember_entries(ledger, &mut remembered, &arrivals, &reuse, (&job.scratch, job.memory))? {
        return Ok(None);
    }
    let folder = job.scratch.as_path();
    let failed = || StoreError::io("cannot read temporary data in", folder);
    // Pages of archives are always derived in the same way.
    mappings.push(SourceMapping {
        source: ARCHIVES.to_owned(),
        fields: PageField::ALL.iter().map(|field| (*field, 0)).collect(),
    });
    let provenances = Provenances::new(ledger.provenances()?, mappings);
    let pages_known = job.sources.iter().any(|source| source.reads_pages());
    let expected = Expected::of(job.sources, &arrivals);
    let same_reader = ledger.fact(Fact::Reader)?.as_deref() == Some(&page::VERSION.to_string());
    let today = job.policy.calendar.today();
    if !decider.chooser().archives.is_empty() {
        let before = archives::PagesBefore::read(ledger, &remembered, Some(today).filter(|_| same_reader))?;
        let derived = archives::archives(&mut arrivals, pages_known, expected.as_ref(), &provenances, before);
        outcomes.extend(derived.map_err(failed())?);
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
    let mut settled = settle(&mut arrivals, &remembered, expected.as_ref(), &terms).map_err(failed())?;
    for (source, problem) in std::mem::take(&mut settled.problems) {
        outcomes[usize::from(source)].late_problem(problem);
    }
    arrivals.drop_partitions(folder);
    remembered.drop_known();
    let alternates = Alternates::find(&settled, &arrivals, job.alternates.as_ref(), job.telling);
    settled.judge(&arrivals, ledger, &remembered, &alternates, &terms)?;
    job.stop.check()?;
    let renderer =
        Renderer { arrivals: &arrivals, policy: &job.policy, alternates: &alternates, style: job.names.style };
    let sections = &decider.chooser().sections;
    let site = arrange::ArrangedSite { ledger, remembered: &remembered, sections, cut: &job.cut, renderer };
    let Some(plan) = arrange(&site, &mut settled)? else { return Ok(None) };
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
    };
    found.returned = returned(&found, ledger)?;
    let entry_row = |name: String| {
        let output = found.remembered.outputs.get(&name);
        output.is_some_and(|output| holds(job.destination, &name, &output.on_disk))
    };
    found.extra_files_stand = found.remembered.planned.is_empty()
        && !found.first
        && found.is_unmoved()
        && same_extras_settings(job, ledger)?
        && standing_extra_files(&found.remembered).all(entry_row);
    Ok(Some(found))
}

/// Whether the files for visitors and templates would be made in the same way as before.
pub(super) fn same_extras_settings(job: &Job<'_>, ledger: &dyn Ledger) -> Result<bool, StoreError> {
    Ok(ledger.fact(Fact::Extras)?.as_deref() == Some(&job.extras.print(&job.context()).to_string()))
}
