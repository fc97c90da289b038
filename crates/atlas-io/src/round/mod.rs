//! A round: builds, and tells the engines what changed. What happens in it comes out as events, for whoever shows or keeps them.

use atlas_store::build::{Ended, Job, build};
use atlas_store::clock::Clock;
use atlas_store::error::StoreError;
use atlas_store::ledger::Ledger;
use atlas_store::report::{Built, Preview};
use atlas_store::stop::Stop;
use serde::Serialize;

use crate::engines::{Engine, EngineReport, tell};

/// What is to be done in a round.
pub struct Round<'r> {
    /// The build; none where only engines are told.
    pub job: Option<&'r Job<'r>>,
    /// The engines to tell; none where only files are written.
    pub engines: &'r [Engine],
    /// The address of the main file.
    pub main: &'r str,
    /// Engines are told of the whole site.
    pub all: bool,
}

/// Something that happened in a round.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Event {
    /// The files are written.
    Built(Box<Built>),
    /// A guard held the build back: nothing was written, and nobody is told.
    Held(Box<Preview>),
    /// An engine was told.
    EngineReport(EngineReport),
}

/// Carries a round out; `hear` is called with each event as it happens. A build that is held back ends it, and so does a stop: after
/// the message that is under way.
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
    for engine in round.engines {
        let told = tell(ledger, engine, round.main, round.all, (clock, stop))?;
        let is_stopped = told.stopped.is_some();
        hear(Event::EngineReport(told));
        if is_stopped {
            return Ok(());
        }
    }
    Ok(())
}
