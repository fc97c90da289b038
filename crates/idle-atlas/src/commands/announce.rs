//! The command `announce`: tells engines what changed.

use std::fs;
use std::path::Path;

use atlas_core::announce::EngineState;
use atlas_core::announce::indexnow::Key;
use atlas_io::engines::{Engine, EngineReport, EngineSettings, ToldSite, all_pending, left_alone, meet};
use atlas_io::round::{self, Event, Round};
use atlas_store::disk;
use atlas_store::error::StoreError;
use atlas_store::ledger::Ledger;
use atlas_store::model::Fact;

use super::{open_ledger, programs};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::{Screen, count};
use crate::session::Session;
use crate::view::build::Engines;
use crate::{args, view};

/// The most URLs that a dry run lists for an engine.
const MOST_LISTED: usize = 100_000;
/// The longest key file in bytes. A key has at most 128 characters.
const LONGEST_KEY_FILE: u64 = 200;

pub fn run(settings: &Settings, arguments: &args::AnnounceArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    if settings.engines.is_empty() {
        return Err(Failure::said(
            "the configuration names no engine; add one:\n\n[[engine]]\nname     = \"all-indexnow\"\nvia      = \"indexnow\"\nendpoint = \"https://api.indexnow.org/indexnow\"",
        ));
    }
    let mut ledger = open_ledger(settings, screen)?;
    if arguments.key_file {
        return write_key_files(settings, &*ledger, screen);
    }
    if ledger.last_run()? == 0 {
        return Err(Failure::said("there is no build yet to announce; build first: idle-atlas build"));
    }
    if arguments.dry_run {
        return dry_run(settings, &*ledger, arguments.all, session);
    }
    match programs::when_built(settings, &mut *ledger, session)? {
        true => tell_all(settings, &mut *ledger, arguments, session),
        false => Ok(Exit::InPart),
    }
}

/// Announces after a build, whatever became of it, once the programs that deal with changed files have done so.
pub fn after(settings: &Settings, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let mut ledger = open_ledger(settings, screen)?;
    if !programs::when_built(settings, &mut *ledger, session)? {
        return Ok(Exit::InPart);
    }
    if !settings.engines.iter().any(|engine| engine.on) {
        let words = if settings.engines.is_empty() { "names no engine" } else { "has switched every engine off" };
        screen.show(&Vec::<EngineReport>::new(), || format!("\nNothing is announced: the configuration {words}.\n"))?;
        return Ok(Exit::Done);
    }
    if ledger.last_run()? == 0 {
        // There is nothing to announce, and why has been said.
        return Ok(Exit::Done);
    }
    screen.say("\n")?;
    tell_all(settings, &mut *ledger, &args::AnnounceArguments::default(), session)
}

/// Tells all engines.
fn tell_all(
    settings: &Settings,
    ledger: &mut dyn Ledger,
    arguments: &args::AnnounceArguments,
    session: &Session,
) -> Result<Exit, Failure> {
    let screen = &session.screen;
    meet(ledger, &settings.engines)?;
    // An engine that cannot be told anything does not hold up the others.
    let (mut engines, mut results, mut failure) = (Vec::new(), Vec::new(), None);
    let on: Vec<&EngineSettings> = settings.engines.iter().filter(|engine| engine.on).collect();
    for engine in &on {
        match connect(settings, ledger, engine) {
            Ok(connected) => engines.push(connected),
            Err(error) => {
                let kept = all_pending(ledger, engine, &settings.names, arguments.all, 1)?.count;
                results.push(EngineReport::of_trouble(engine, kept, error.to_string()));
                failure = Some(error);
            }
        }
    }
    if let Some(failure) = failure.filter(|_| engines.is_empty() && on.len() == 1) {
        return Err(failure);
    }
    let round = Round { job: None, engines: &engines, names: &settings.names, all: arguments.all };
    round::run(&round, ledger, (&*session.clock, &session.stop), |event| {
        if let Event::Told(told) = event {
            results.push(*told);
        }
    })?;
    let sum = |of: fn(&EngineReport) -> u64| results.iter().map(of).sum::<u64>();
    screen.count(&[
        ("taken", sum(|told| told.taken)),
        ("refused", sum(|told| told.refused)),
        ("kept", sum(|told| told.kept)),
    ]);
    let off = off(settings);
    screen.show(&results, || view::announce::told(&results, &off, &screen.layout(settings)))?;
    if let Some((told, all)) = results.iter().find_map(|told| Some((told, told.stopped?))) {
        let done = told.messages.len();
        let message = format!(
            "after {done} of {}; the rest will be sent by the next: idle-atlas announce",
            count(all, "message", "messages")
        );
        screen.complain("stopped", &message);
        return Ok(Exit::Interrupted);
    }
    Ok(Exit::in_part(results.iter().any(|told| told.refused + told.kept > 0 || told.problem.is_some())))
}

fn dry_run(settings: &Settings, ledger: &dyn Ledger, all: bool, session: &Session) -> Result<Exit, Failure> {
    let mut plans = Vec::new();
    let (now, screen) = (session.now().as_second(), &session.screen);
    for engine in settings.engines.iter().filter(|engine| engine.on) {
        let pending = all_pending(ledger, engine, &settings.names, all, MOST_LISTED)?;
        let not_before = left_alone(ledger, &engine.name, now)?;
        let has_key = !engine.via.wants_key || key_of(settings, ledger, engine)?.is_some();
        plans.push(view::announce::AnnouncePlan::new(engine, pending, not_before, has_key));
    }
    let off = off(settings);
    screen.show(&plans, || view::announce::plans(&plans, &off, &screen.layout(settings)))?;
    Ok(Exit::Done)
}

/// The names of engines that are switched off.
fn off(settings: &Settings) -> Vec<&str> {
    settings.engines.iter().filter(|engine| !engine.on).map(|engine| engine.name.as_str()).collect()
}

/// Prepares to tell an engine.
fn connect(settings: &Settings, ledger: &dyn Ledger, engine: &EngineSettings) -> Result<Engine, Failure> {
    let key = if engine.via.wants_key { Some(published(settings, ledger, engine)?) } else { None };
    let site = ToldSite { site: &settings.site, names: &settings.names, key: key.as_ref() };
    Ok(Engine::connect(engine, &site)?)
}

/// The published key for an engine.
fn published(settings: &Settings, ledger: &dyn Ledger, engine: &EngineSettings) -> Result<Key, Failure> {
    key_of(settings, ledger, engine)?.ok_or_else(|| {
        Failure::said(format!(
            "engine {} has no key yet; make one and publish its file with: idle-atlas announce --key-file",
            engine.name
        ))
    })
}

/// What a build should say about engines.
pub fn after_a_build(settings: &Settings, ledger: &dyn Ledger) -> Result<Engines, Failure> {
    if !settings.engines.iter().any(|engine| engine.on) {
        return Ok(Engines::None);
    }
    let (mut waiting, last_run) = (false, ledger.last_run()?);
    for engine in settings.engines.iter().filter(|engine| engine.on) {
        if engine.via.wants_key && key_of(settings, ledger, engine)?.is_none() {
            return Ok(Engines::WithoutKey);
        }
        // Whether something is left from before the last build.
        let is_behind = |state: &EngineState| !state.runs.is_empty() || state.watermark < last_run - 1;
        if ledger.engine(&engine.name)?.as_ref().is_some_and(is_behind) {
            waiting |= all_pending(ledger, engine, &settings.names, false, 1)?.count > 0;
        }
    }
    Ok(Engines::Ready { waiting })
}

/// The configured key, else the one that was made before, else one whose file is in the web root, so that a lost ledger
/// does not lead to another key.
fn key_of(settings: &Settings, ledger: &dyn Ledger, engine: &EngineSettings) -> Result<Option<Key>, Failure> {
    if let Some(key) = &engine.key {
        return Ok(Some(key.clone()));
    }
    if let Some(key) = ledger.fact(Fact::IndexNowKey)?.and_then(|text| Key::parse(&text).ok()) {
        return Ok(Some(key));
    }
    let key = published_key(&settings.web_root);
    if let Some(key) = &key {
        ledger.set_fact(Fact::IndexNowKey, Some(key.as_str()))?;
    }
    Ok(key)
}

/// The key whose file is in a folder: a text file that contains its own name (IndexNow). If there are several, the
/// first by name.
fn published_key(folder: &Path) -> Option<Key> {
    let names = fs::read_dir(folder).ok()?.flatten().filter_map(|entry| entry.file_name().into_string().ok());
    let keys = names.filter_map(|name| {
        let key = Key::parse(name.strip_suffix(".txt")?).ok()?;
        let path = folder.join(&name);
        let is_short = fs::metadata(&path).is_ok_and(|file| file.len() <= LONGEST_KEY_FILE);
        let holds = is_short && fs::read_to_string(&path).is_ok_and(|text| text.trim() == key.as_str());
        holds.then_some(key)
    });
    keys.min_by(|one, other| one.as_str().cmp(other.as_str()))
}

fn write_key_files(settings: &Settings, ledger: &dyn Ledger, screen: &Screen) -> Result<Exit, Failure> {
    let mut written = Vec::new();
    for engine in settings.engines.iter().filter(|engine| engine.on && engine.via.wants_key) {
        let key = match key_of(settings, ledger, engine)? {
            Some(key) => key,
            None => {
                let key = Key::from_random(random()?);
                ledger.set_fact(Fact::IndexNowKey, Some(key.as_str()))?;
                key
            }
        };
        let path = settings.web_root.join(key.file_name());
        let address = settings.site.of_file(&key.file_name()).as_str().to_owned();
        let there = fs::read_to_string(&path).ok();
        let is_there = there.as_deref() == Some(key.as_str());
        if there.is_some_and(|text| text.trim() != key.as_str()) {
            return Err(Failure::said(format!(
                "{} is there already and is not the file of this key; move it away, or set another key for the engine {}",
                path.display(),
                engine.name
            )));
        }
        if !is_there {
            disk::replace(&path, key.as_str().as_bytes())?;
        }
        let file = view::announce::KeyFile {
            engine: engine.name.clone(),
            path: path.display().to_string(),
            address,
            written: !is_there,
        };
        written.push(file);
    }
    let untold =
        settings.engines.iter().map(|engine| Ok(!ledger.engine(&engine.name)?.is_some_and(|state| state.was_told)));
    let untold = untold.collect::<Result<Vec<bool>, StoreError>>()?.contains(&true);
    let next = match (ledger.last_run()?, untold) {
        (0, _) => "idle-atlas build",
        (_, true) => "idle-atlas announce --all, which announces the whole site once",
        (_, false) => "idle-atlas announce",
    };
    screen.show(&written, || view::announce::key_files(&written, next, &screen.layout(settings)))?;
    Ok(Exit::Done)
}

/// 16 random bytes.
fn random() -> Result<[u8; 16], Failure> {
    let mut bytes = [0; 16];
    getrandom::fill(&mut bytes).map_err(|error| {
        Failure::said(format!("cannot make a key: {error}; write one of your own into the configuration: key = \"…\""))
    })?;
    Ok(bytes)
}
