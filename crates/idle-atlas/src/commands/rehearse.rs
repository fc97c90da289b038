//! `announce --rehearse`: tells a test engine on this machine, lets it crawl the site, and shows what it has seen.
//!
//! It works on a copy of the ledger, so nothing is recorded, and nothing leaves this machine.

use std::collections::HashMap;

use atlas_io::engines::{EngineReport, EngineSettings, Telling, meet};
use atlas_io::round::{self, Event, Round};
use atlas_io::secret::Secret;
use atlas_io::test_engine::{TestEngine, TestEngineSettings, serve};

use super::announce::{Choice, connect};
use super::{LookedAt, open_ledger};
use crate::args;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::session::Session;
use crate::view::rehearsal::{self as view, Rehearsal};

pub fn run(settings: &Settings, arguments: &args::AnnounceArguments, session: &Session) -> Result<Exit, Failure> {
    session.stop.heed();
    let held = open_ledger(settings, &session.screen)?;
    let mut copy = LookedAt::copy(settings)?;
    drop(held);
    let ledger = &mut *copy.ledger;
    if ledger.last_run()? == 0 {
        return Err(Failure::said("there is no build yet to rehearse with; build first: idle-atlas build"));
    }
    let on_loopback = |error: std::io::Error| Failure::said(format!("cannot serve on loopback: {error}"));
    let reached = settings.reached_on_loopback();
    let served = match reached {
        Some(_) => None,
        None if settings.is_elsewhere => {
            return Err(Failure::said(
                "the web root is not a folder of this machine, and a rehearsal needs the site on this machine; name a server that serves it here: [site] reached_at",
            ));
        }
        None => Some(serve::folder(&settings.web_root).map_err(on_loopback)?),
    };
    let host = settings.site.root().host().to_owned();
    let address = reached.or(served.as_ref().map(serve::Served::address));
    let reach = HashMap::from_iter(address.map(|address| (host, address)));
    let engine = TestEngine::start(TestEngineSettings { reach, ..TestEngineSettings::fair() }).map_err(on_loopback)?;
    let told = tell(settings, arguments, (ledger, &engine), session)?;
    let seen = engine.crawl(settings.site.root(), &session.stop);
    session.stop.check()?;
    let seen = seen.map_err(|error| Failure::said(format!("the test engine cannot crawl: {error}")))?;
    let folder = served.is_some().then(|| settings.web_root.display().to_string());
    let rehearsal = Rehearsal { site: settings.site.root().as_str().to_owned(), folder, told, seen };
    session.screen.show(&rehearsal, || view::rehearsal(&rehearsal, &session.screen.layout(settings)))?;
    Ok(Exit::Done)
}

/// Tells the test engine what each engine would be told.
fn tell(
    settings: &Settings,
    arguments: &args::AnnounceArguments,
    (ledger, engine): (&mut dyn atlas_store::ledger::Ledger, &TestEngine),
    session: &Session,
) -> Result<Vec<EngineReport>, Failure> {
    meet(ledger, &settings.engines)?;
    let chosen = Choice::of(settings, ledger, arguments)?;
    let (mut engines, mut told) = (Vec::new(), Vec::new());
    for one in chosen.engines() {
        match connect(settings, ledger, &in_place_of(one, engine), (None, &session.stop)) {
            Ok(connected) => engines.push(connected),
            Err(failure) => told.push(EngineReport::of_trouble(one, 0, failure.to_string())),
        }
    }
    let telling = Telling { wanted: chosen.wanted(), at_once: true, ..Telling::due(&settings.names) };
    let round = Round { job: None, engines: &engines, telling };
    round::run(&round, ledger, (&*session.clock, &session.stop), |event| {
        if let Event::Told(report) = event {
            told.push(*report);
        }
    })?;
    Ok(told)
}

/// The settings of an engine, with the test engine in its place.
fn in_place_of(engine: &EngineSettings, test: &TestEngine) -> EngineSettings {
    let query = || engine.endpoint.expose().split_once('?').map(|(_, query)| format!("?{query}")).unwrap_or_default();
    let endpoint = match engine.via.word {
        "indexnow" => test.endpoint(),
        "websub" => test.hub(),
        "sitemap-ping" => test.ping(),
        _ => test.call() + &query(),
    };
    // The command that prints a token may ask somebody else for it.
    let call = engine.call.clone().map(|call| atlas_io::engines::CallSettings { token: None, ..call });
    EngineSettings { endpoint: Secret::new("", endpoint), call, ..engine.clone() }
}
