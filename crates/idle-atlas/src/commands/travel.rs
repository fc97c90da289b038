//! A ledger that travels: fetched before a command and put back after it.

use atlas_store::ledger::Ledger;

use crate::args::Command;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::session::Session;

/// What a command does with the ledger.
#[cfg(feature = "object-stores")]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum LedgerUse {
    Nothing,
    Looks,
    Writes,
}

#[cfg(feature = "object-stores")]
fn use_of(command: &Command) -> LedgerUse {
    let writes = |writes: bool| if writes { LedgerUse::Writes } else { LedgerUse::Looks };
    match command {
        Command::Build(build) => writes(!build.dry_run),
        Command::Announce(announce) => writes(!announce.dry_run && !announce.rehearse),
        Command::Uptake(uptake) => writes(!uptake.list),
        Command::Survey(_) | Command::Why(_) | Command::Check(_) | Command::History(_) | Command::Report(_) => {
            LedgerUse::Looks
        }
        _ => LedgerUse::Nothing,
    }
}

/// Runs a command about one site, with its ledger here.
#[cfg(feature = "object-stores")]
pub fn around(
    command: &Command,
    settings: &Settings,
    session: &Session,
    run: impl FnOnce() -> Result<Exit, Failure>,
) -> Result<Exit, Failure> {
    let Some(home) = &settings.ledger_home else { return run() };
    let waiting = |host: &str| {
        session.screen.complain(
            "waiting",
            &format!("another idle-atlas works with this ledger, on {host}; for a minute at most"),
        );
    };
    let trip = match use_of(command) {
        LedgerUse::Nothing => return run(),
        LedgerUse::Looks => home.look(&session.stop),
        LedgerUse::Writes => home.take(&session.stop, &waiting),
    };
    settings.trip.lock().unwrap_or_else(std::sync::PoisonError::into_inner).replace(trip.map_err(Failure::said)?);
    let ended = run();
    // What was done is put back, whatever became of the rest.
    let trip = settings.trip.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take();
    match trip.map_or(Ok(()), |trip| trip.put_back()) {
        Ok(()) => ended,
        Err(why) => {
            if let Err(failure) = ended {
                session.screen.fail(&failure);
            }
            Err(Failure::said(why))
        }
    }
}

#[cfg(not(feature = "object-stores"))]
pub fn around(
    _: &Command,
    _: &Settings,
    _: &Session,
    run: impl FnOnce() -> Result<Exit, Failure>,
) -> Result<Exit, Failure> {
    run()
}

/// Puts the ledger back before engines are told, and from then on what each of them answers.
#[cfg(feature = "object-stores")]
pub fn keep_answers(settings: &Settings, ledger: &mut dyn Ledger) -> Result<(), Failure> {
    let trip = settings.trip.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    trip.as_ref().map_or(Ok(()), |trip| trip.keep_answers(ledger)).map_err(Failure::said)
}

#[cfg(not(feature = "object-stores"))]
pub fn keep_answers(_: &Settings, _: &mut dyn Ledger) -> Result<(), Failure> {
    Ok(())
}
