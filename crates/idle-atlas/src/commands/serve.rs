//! The command `serve`: answers for the files that were published, where nothing is written into a web root.

use std::collections::{BTreeMap, BTreeSet};

use atlas_io::engines::{ToAnnounce, all_pending};
use atlas_io::serving::{EngineMetrics, ServeSettings, ServerAddresses, SiteMetrics, serve};
use atlas_store::destination::ServedReader;
use atlas_store::error::StoreError;
use atlas_store::ledger;
use atlas_store::stop::Stop;
use serde_json::json;

use crate::args::ServeArguments;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::STRONG;
use crate::session::Session;

/// How many connections are served at once, and as many for health.
const CONNECTIONS: usize = 1_024;
/// The most announcements that are counted by what became of them.
const MOST_COUNTED: usize = 10_000;

pub fn run(settings: &Settings, arguments: &ServeArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    session.stop.heed();
    let paths = match ServedReader::open(&settings.ledger)? {
        Some(reader) => to_pass_on(reader.files()?.into_iter().map(|file| file.name), settings.site.root().path()),
        None => BTreeSet::new(),
    };
    serving(settings, arguments, &session.stop, |addresses| {
        let document = json!({ "files": addresses.files, "health": addresses.health, "paths": paths });
        // Whoever reads it may be gone; the files are served all the same.
        let _ = screen.show(&document, || view(settings, addresses, &paths));
    })?;
    Ok(Exit::Done)
}

/// Serves until it is asked to stop.
pub fn serving(
    settings: &Settings,
    arguments: &ServeArguments,
    stop: &Stop,
    ready: impl FnOnce(ServerAddresses),
) -> Result<(), Failure> {
    if !settings.is_served {
        return Err(Failure::said(format!(
            "the web root is {}, and what is there is served by your web server; to keep files in the ledger and serve them from there: [site] web_root = \"ledger:\"",
            settings.web_root.display()
        )));
    }
    let metrics = || metrics(settings).ok();
    let serving = ServeSettings {
        connections: CONNECTIONS,
        folder: settings.ledger.clone(),
        site: settings.site.root().path().to_owned(),
        listen: arguments.listen,
        health: arguments.health,
        cache_control: settings.cache_control.clone(),
        metrics: &metrics,
    };
    serve(&serving, stop, ready)
        .map_err(|error| Failure::said(format!("{error}; choose another with --listen or --health")))
}

/// The state of the site.
fn metrics(settings: &Settings) -> Result<SiteMetrics, StoreError> {
    let Some(ledger) = ledger::open_for_reading(&settings.ledger)? else { return Ok(SiteMetrics::default()) };
    let ledger = &*ledger;
    let last = ledger.runs(1)?.into_iter().next();
    let announced = ledger.announcements(MOST_COUNTED)?;
    let engine = |engine: &atlas_io::engines::EngineSettings| {
        let mut outcomes = BTreeMap::new();
        for one in announced.iter().filter(|one| one.engine == engine.name) {
            *outcomes.entry(one.outcome.clone()).or_default() += 1;
        }
        let waiting = all_pending(ledger, engine, &settings.names, ToAnnounce::Due, 1)?.count;
        Ok(EngineMetrics { name: engine.name.clone(), waiting, outcomes: outcomes.into_iter().collect() })
    };
    let engines = settings.engines.iter().filter(|engine| engine.on).map(engine);
    Ok(SiteMetrics {
        entries: last.as_ref().map_or(0, |last| last.counts.entries),
        files: last.as_ref().map_or(0, |last| last.counts.files),
        last_build: last.map(|last| last.at),
        engines: engines.collect::<Result<_, StoreError>>()?,
    })
}

/// The paths that a web server in front has to pass on; those of files that come and go end in `*`. Nothing, if nothing is
/// published.
fn to_pass_on(names: impl Iterator<Item = String>, root: &str) -> BTreeSet<String> {
    let path = |name: String| match name.strip_prefix("atlas").and_then(|rest| rest.chars().next()) {
        Some(next @ ('-' | '.')) => format!("{root}atlas{next}*"),
        _ if name == "robots.txt" => "/robots.txt".to_owned(),
        _ => format!("{root}{name}"),
    };
    let mut paths: BTreeSet<String> = names.map(path).collect();
    if !paths.is_empty() {
        // As a site grows, files with such names are added.
        paths.extend([format!("{root}atlas-*"), format!("{root}atlas.*")]);
    }
    paths
}

fn view(settings: &Settings, addresses: ServerAddresses, paths: &BTreeSet<String>) -> String {
    let ServerAddresses { files, health } = addresses;
    let path = format!("{}{}", settings.site.root().path(), settings.names.main);
    let mut out = format!("Serving {}\n\n  {STRONG}http://{files}{path}{STRONG:#}\n", settings.site.root());
    if let Some(health) = health {
        out += &format!("  http://{health}/healthz\n  http://{health}/metrics\n");
    }
    out += &match paths.is_empty() {
        true => "\nNothing is published yet; build: idle-atlas build\n".to_owned(),
        false => {
            let paths: String = paths.iter().map(|path| format!("  {path}\n")).collect();
            format!("\nYour web server has to pass these paths on to it:\n\n{paths}")
        }
    };
    out + "\nStop it with Ctrl-C.\n"
}
