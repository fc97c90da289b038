//! `announce`: tells the engines what changed.

use std::fs;
use std::path::Path;

use atlas_core::announce::indexnow::Key;
use atlas_io::announce::{Engine, Told, all_pending, announce, left_alone};
use atlas_store::disk;
use atlas_store::error::StoreError;
use atlas_store::ledger::Ledger;

use super::open_ledger;
use crate::config::Settings;
use crate::config::meaning::{self, EngineSettings};
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::view::build::Engines;
use crate::{args, view};

/// The longest key file, in bytes: a key has at most 128 characters.
const LONGEST_KEY_FILE: u64 = 200;
/// The key that was made, as a fact of the ledger.
const KEY: &str = "indexnow-key";

pub fn run(settings: &Settings, arguments: &args::Announce, screen: &Screen) -> Result<Exit, Failure> {
    if settings.engines.is_empty() {
        return Err(Failure::said(
            "the configuration names no engine; add one:\n\n[[engine]]\nname     = \"all-indexnow\"\nvia      = \"indexnow\"\nendpoint = \"https://api.indexnow.org/indexnow\"",
        ));
    }
    let mut ledger = open_ledger(settings, screen)?;
    if arguments.key_file {
        return write_key_files(settings, &ledger, screen);
    }
    if ledger.last_run()? == 0 {
        return Err(Failure::said("there is no build yet to announce; build first: idle-atlas build"));
    }
    if arguments.dry_run {
        return dry_run(settings, &ledger, arguments.all, screen);
    }
    let now = meaning::now().as_second();
    let mut results = Vec::new();
    for engine in &settings.engines {
        let engine = with_key(settings, &ledger, engine)?;
        results.push(announce(&mut ledger, &engine, now, arguments.all)?);
    }
    let sum = |of: fn(&Told) -> u64| results.iter().map(of).sum::<u64>();
    screen.count(&[
        ("taken", sum(|told| told.taken)),
        ("refused", sum(|told| told.refused)),
        ("kept", sum(|told| told.kept)),
    ]);
    screen.show(&results, || view::announce::told(&results, &screen.layout(settings)))?;
    Ok(Exit::in_part(results.iter().any(|told| told.refused + told.kept > 0)))
}

fn dry_run(settings: &Settings, ledger: &Ledger, all: bool, screen: &Screen) -> Result<Exit, Failure> {
    let mut plans = Vec::new();
    let now = meaning::now().as_second();
    for engine in &settings.engines {
        let pending = all_pending(ledger, &engine.name, all)?;
        let not_before = left_alone(ledger, &engine.name, now)?;
        let has_key = key_of(settings, ledger, engine)?.is_some();
        plans.push(view::announce::Plan::new(&engine.name, &pending, not_before, has_key));
    }
    screen.show(&plans, || view::announce::plans(&plans, &screen.layout(settings)))?;
    Ok(Exit::Done)
}

fn with_key(settings: &Settings, ledger: &Ledger, engine: &EngineSettings) -> Result<Engine, Failure> {
    let key = key_of(settings, ledger, engine)?.ok_or_else(|| {
        Failure::said(format!(
            "engine {} has no key yet; make one and publish its file with: idle-atlas announce --key-file",
            engine.name
        ))
    })?;
    let key_location = settings.site.of_file(&key.file_name()).as_str().to_owned();
    Ok(Engine { name: engine.name.clone(), endpoint: engine.endpoint.clone(), key, key_location, wait: engine.wait })
}

/// What there is to be done about the engines after a build.
pub fn after_a_build(settings: &Settings, ledger: &Ledger) -> Result<Engines, Failure> {
    if settings.engines.is_empty() {
        return Ok(Engines::None);
    }
    let mut waiting = false;
    for engine in &settings.engines {
        if key_of(settings, ledger, engine)?.is_none() {
            return Ok(Engines::WithoutKey);
        }
        waiting |= ledger.engine(&engine.name)?.is_some_and(|state| state.target.is_some());
    }
    Ok(Engines::Ready { waiting })
}

/// The key of the configuration, else the one that was made, else the one whose file lies in the web root: a ledger that was lost
/// does not make another.
fn key_of(settings: &Settings, ledger: &Ledger, engine: &EngineSettings) -> Result<Option<Key>, Failure> {
    if let Some(key) = &engine.key {
        return Ok(Some(key.clone()));
    }
    if let Some(key) = ledger.fact(KEY)?.and_then(|text| Key::parse(&text).ok()) {
        return Ok(Some(key));
    }
    let key = published_key(&settings.web_root);
    if let Some(key) = &key {
        ledger.set_fact(KEY, Some(key.as_str()))?;
    }
    Ok(key)
}

/// The key whose file lies in a folder: a text file that holds its own name (IndexNow). Of several, the first by name.
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

fn write_key_files(settings: &Settings, ledger: &Ledger, screen: &Screen) -> Result<Exit, Failure> {
    let mut written = Vec::new();
    for engine in &settings.engines {
        let key = match key_of(settings, ledger, engine)? {
            Some(key) => key,
            None => {
                let key = Key::from_random(random()?);
                ledger.set_fact(KEY, Some(key.as_str()))?;
                key
            }
        };
        let path = settings.web_root.join(key.file_name());
        let address = settings.site.of_file(&key.file_name()).as_str().to_owned();
        let is_there = fs::read(&path).is_ok_and(|bytes| bytes == key.as_str().as_bytes());
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
    let untold = settings.engines.iter().map(|engine| Ok(ledger.engine(&engine.name)?.is_none()));
    let untold = untold.collect::<Result<Vec<bool>, StoreError>>()?.contains(&true);
    let next = match (ledger.last_run()?, untold) {
        (0, _) => "idle-atlas build",
        (_, true) => "idle-atlas announce --all, which tells the whole site once",
        (_, false) => "idle-atlas announce",
    };
    screen.show(&written, || view::announce::key_files(&written, next, &screen.layout(settings)))?;
    Ok(Exit::Done)
}

/// 16 bytes that nobody can guess.
fn random() -> Result<[u8; 16], Failure> {
    let mut bytes = [0; 16];
    getrandom::fill(&mut bytes).map_err(|error| {
        Failure::said(format!("cannot make a key: {error}; write one of your own into the configuration: key = \"…\""))
    })?;
    Ok(bytes)
}
