//! A round: a build, followed by announcements. Its progress is reported as events, to be shown or stored.

use atlas_store::build::{Ended, Job, build};
use atlas_store::clock::Clock;
use atlas_store::error::StoreError;
use atlas_store::ledger::Ledger;
use atlas_store::report::{Built, Preview};
use atlas_store::stop::Stop;
use serde::Serialize;

use crate::engines::{Engine, EngineReport, Telling, tell};

/// What to do in a round.
pub struct Round<'r> {
    /// The build; `None` to announce only.
    pub job: Option<&'r Job<'r>>,
    /// The engines to tell; empty to build only.
    pub engines: &'r [Engine],
    /// What to tell them.
    pub telling: Telling<'r>,
}

/// An event in a round.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Event {
    /// The files are written.
    Built(Box<Built>),
    /// A guard held the build back. Nothing was written, and no engine is told.
    Held(Box<Preview>),
    /// An engine was told.
    Told(Box<EngineReport>),
}

/// The engines, those last that failed the last time, so that they hold up no other.
fn healthy_first<'e>(engines: &'e [Engine], ledger: &dyn Ledger) -> Result<Vec<&'e Engine>, StoreError> {
    let failures = |engine: &Engine| Ok(ledger.engine(&engine.name)?.map_or(0, |state| state.failures));
    let failures = engines.iter().map(failures).collect::<Result<Vec<u32>, StoreError>>()?;
    let mut order: Vec<(u32, &Engine)> = failures.into_iter().zip(engines).collect();
    order.sort_by_key(|(failures, _)| *failures);
    Ok(order.into_iter().map(|(_, engine)| engine).collect())
}

/// Runs a round and calls `hear` with each event as it happens. The round ends if the build is held back, or if it is
/// asked to stop: then after the message under way.
///
/// # Errors
///
/// Returns a [`StoreError`] if the build or the ledger fails.
pub fn run(
    round: &Round<'_>,
    ledger: &mut dyn Ledger,
    (clock, stop): (&dyn Clock, &Stop),
    mut hear: impl FnMut(Event),
) -> Result<(), StoreError> {
    if let Some(job) = round.job {
        match build(job, ledger)? {
            Ended::Built(built) => hear(Event::Built(built)),
            Ended::Held(preview) => {
                hear(Event::Held(preview));
                return Ok(());
            }
        }
    }
    for engine in healthy_first(round.engines, ledger)? {
        let told = tell(ledger, engine, round.telling, (clock, stop))?;
        let is_stopped = told.stopped.is_some();
        hear(Event::Told(Box::new(told)));
        if is_stopped {
            return Ok(());
        }
    }
    Ok(())
}
