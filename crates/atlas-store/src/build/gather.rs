//! Gathering: all sources, one after the other.

use std::panic::{self, AssertUnwindSafe};

use atlas_core::report::Outcome;

use super::Purpose;
use super::increments::Increments;
use super::job::Job;
use crate::arrival::incremental::Reuse;
use crate::arrival::{Arrivals, Decider, Need};
use crate::destination::ROBOTS;
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::Memory;
use crate::provenance::SourceMapping;
use crate::publish::differs_from_live;
use crate::source::{Gathering, Left, LiveRobots, Source};

/// What the sources yielded.
pub(super) struct Gathered {
    pub(super) arrivals: Arrivals,
    pub(super) outcomes: Vec<Outcome>,
    pub(super) memories: Vec<Memory>,
    pub(super) live_robots: Option<LiveRobots>,
    pub(super) mappings: Vec<SourceMapping>,
}

/// Asks a source for all entries. If its code, or that of a library that it uses, panics, the source has failed.
fn ask(source: &dyn Source, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
    panic::catch_unwind(AssertUnwindSafe(|| source.gather(gathering))).unwrap_or_else(|panic| {
        let said = panic.downcast_ref::<&str>().copied().map(str::to_owned);
        let said = said.or_else(|| panic.downcast_ref::<String>().cloned()).unwrap_or_default();
        let why = format!("its reader broke off ({said}); report this as a bug, with the input if you can");
        Err(StoreError::Source { name: source.name(), why: why.into() })
    })
}

/// Gathers from all sources, which may share things until they are released.
pub(super) fn gather(
    job: &Job<'_>,
    ledger: &mut dyn Ledger,
    decider: Decider,
    purpose: Purpose,
    (reuse, increments): (&Reuse, &Increments),
) -> Result<Gathered, StoreError> {
    let mut arrivals = Arrivals::new(decider, &job.scratch, reuse.need, job.memory);
    if reuse.retains && reuse.need == Need::Moved {
        arrivals = arrivals.retaining(&job.scratch, job.memory);
    }
    let mut gathered =
        Gathered { arrivals, outcomes: Vec::new(), memories: Vec::new(), live_robots: None, mappings: Vec::new() };
    for (at, source) in job.sources.iter().enumerate() {
        job.stop.check()?;
        let (name, settings) = (source.name(), source.settings());
        let links = purpose == Purpose::Look || source.needs_links();
        let memory = if job.fresh { Memory::default() } else { ledger.memory(&name, settings, links)? };
        let memory = Memory { will_do: purpose == Purpose::LookCloser && !memory.known.is_empty(), ..memory };
        let mut keep = |memory: &Memory| {
            let writing = ledger.transaction()?;
            writing.learnt(&name, settings, memory)?;
            writing.commit()
        };
        let (arrivals, since) = (&mut gathered.arrivals, increments.since(at));
        let mut gathering = Gathering::new(&**source, since, memory, arrivals, (job.progress, &job.stop), &mut keep);
        let ended = ask(&**source, &mut gathering);
        // If it was asked to stop, that is what happened, whatever the source reports.
        job.stop.check()?;
        match ended {
            Err(StoreError::Source { why, .. }) => gathering.fail(why.to_string()),
            ended => ended?,
        }
        let Left { mut outcome, memory, live_robots, mapping } = gathering.finish();
        if let Some(failure) = outcome.failure.as_ref().filter(|_| job.strict) {
            return Err(StoreError::Source { name, why: failure.why.clone().into() });
        }
        gathered.arrivals.check(&job.scratch)?;
        if let Some(live) = &live_robots
            && differs_from_live(job.destination, job.names, live)
        {
            outcome.remarks.push(format!(
                "the live site's robots.txt and {} have different rules: copying this one to the server would undo changes there. Replace it with the live one and build again",
                job.destination.shown(ROBOTS)
            ));
        }
        gathered.outcomes.push(outcome);
        gathered.memories.push(memory);
        gathered.mappings.push(mapping);
        gathered.live_robots = live_robots.or(gathered.live_robots);
    }
    Ok(gathered)
}
