//! IndexNow keys: the configured one, or one that is made, published and renewed here.

use std::fs;
use std::path::Path;

use atlas_core::announce::indexnow::Key;
use atlas_core::announce::live::ExpectedLive;
use atlas_io::engines::EngineSettings;
use atlas_io::live::LiveSite;
use atlas_store::destination::{of_web_root, replace};
use atlas_store::error::StoreError;
use atlas_store::ledger::Ledger;
use atlas_store::model::Fact;

use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::session::Session;
use crate::view;

/// The longest key file in bytes. A key has at most 128 characters.
const LONGEST_KEY_FILE: u64 = 200;
/// For how many seconds both key files stand after a renewal: two weeks.
const OVERLAP: i64 = 14 * 86_400;

/// The published key for an engine.
pub fn published(
    settings: &Settings,
    ledger: &dyn Ledger,
    engine: &EngineSettings,
    live: Option<&dyn LiveSite>,
) -> Result<Key, Failure> {
    let key = of(settings, ledger, engine)?.ok_or_else(|| {
        Failure::said(format!(
            "engine {} has no key yet; make one and publish its file with: idle-atlas announce --key-file",
            engine.name
        ))
    })?;
    // Until the file of a renewed key is live, the one before serves.
    let former = former(ledger)?.filter(|_| engine.key.is_none() && engine.waits_until_live);
    let (Some(Former { key: former, .. }), Some(live)) = (former, live) else { return Ok(key) };
    let address = settings.site.of_file(&key.file_name()).as_str().to_owned();
    let seen = live.look(&[ExpectedLive::Key { address, text: key.as_str().to_owned() }])?;
    Ok(if seen.iter().any(Option::is_some) { former } else { key })
}

/// The configured key, else the one that was made before, else one whose file is in the web root, so that a lost ledger
/// does not lead to another key.
pub fn of(settings: &Settings, ledger: &dyn Ledger, engine: &EngineSettings) -> Result<Option<Key>, Failure> {
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

pub fn write_files(settings: &Settings, ledger: &dyn Ledger, renew: bool, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let now = session.now().as_second();
    if renew {
        begin_renewal(settings, ledger, now)?;
    }
    let former = end_renewal(settings, ledger, now)?;
    let (destination, _) = settings.destination();
    let mut written = Vec::new();
    for engine in settings.engines.iter().filter(|engine| engine.on && engine.via.wants_key) {
        let key = match of(settings, ledger, engine)? {
            Some(key) => key,
            None => {
                let key = Key::from_random(random()?);
                ledger.set_fact(Fact::IndexNowKey, Some(key.as_str()))?;
                key
            }
        };
        let file = of_web_root(&key.file_name());
        let address = settings.site.of_file(&key.file_name()).as_str().to_owned();
        let there = destination.read(&file)?.map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
        let is_there = there.as_deref() == Some(key.as_str());
        if there.is_some_and(|text| text.trim() != key.as_str()) {
            return Err(Failure::said(format!(
                "{} is there already and is not the file of this key; move it away, or set another key for the engine {}",
                destination.shown(&file),
                engine.name
            )));
        }
        if !is_there {
            replace(destination, &file, key.as_str().as_bytes())?;
            destination.publish()?;
        }
        let file = view::announce::KeyFile {
            engine: engine.name.clone(),
            path: destination.shown(&file),
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
    screen.show(&written, || view::announce::key_files(&written, former.as_deref(), next, &screen.layout(settings)))?;
    Ok(Exit::Done)
}

/// A key that was renewed, and when.
struct Former {
    key: Key,
    /// In seconds since 1970.
    at: i64,
}

fn former(ledger: &dyn Ledger) -> Result<Option<Former>, StoreError> {
    let text = ledger.fact(Fact::FormerKey)?;
    let parts = text.as_deref().and_then(|text| text.split_once(' '));
    Ok(parts.and_then(|(key, at)| Some(Former { key: Key::parse(key).ok()?, at: at.parse().ok()? })))
}

/// Makes another key. The file of the one before stays for some days.
fn begin_renewal(settings: &Settings, ledger: &dyn Ledger, now: i64) -> Result<(), Failure> {
    if let Some(engine) = settings.engines.iter().find(|engine| engine.key.is_some()) {
        return Err(Failure::said(format!(
            "the key of the engine {} is in the configuration: write another there; its file is then written by: idle-atlas announce --key-file",
            engine.name
        )));
    }
    if let Some(Former { at, .. }) = former(ledger)?.filter(|former| now - former.at < OVERLAP) {
        let until = crate::screen::instant(at + OVERLAP, settings.timezone());
        return Err(Failure::said(format!(
            "the key was renewed a short time ago, and both key files stand until {until}; renew it again after that"
        )));
    }
    let Some(known) = ledger.fact(Fact::IndexNowKey)? else {
        return Err(Failure::said("there is no key to renew; make one: idle-atlas announce --key-file"));
    };
    ledger.set_fact(Fact::FormerKey, Some(&format!("{known} {now}")))?;
    ledger.set_fact(Fact::IndexNowKey, Some(Key::from_random(random()?).as_str()))?;
    Ok(())
}

/// Removes the file of the former key once the overlap is over. Returns its name as long as it stands.
pub fn end_renewal(settings: &Settings, ledger: &dyn Ledger, now: i64) -> Result<Option<String>, Failure> {
    let Some(Former { key, at }) = former(ledger)? else { return Ok(None) };
    if now - at < OVERLAP {
        return Ok(Some(key.file_name()));
    }
    let (file, (destination, _)) = (of_web_root(&key.file_name()), settings.destination());
    // A file of that name with other contents is not ours.
    if destination.read(&file)?.is_some_and(|bytes| bytes.trim_ascii() == key.as_str().as_bytes()) {
        destination.remove(&file)?;
        destination.publish()?;
    }
    ledger.set_fact(Fact::FormerKey, None)?;
    Ok(None)
}

/// 16 random bytes.
fn random() -> Result<[u8; 16], Failure> {
    let mut bytes = [0; 16];
    getrandom::fill(&mut bytes).map_err(|error| {
        Failure::said(format!("cannot make a key: {error}; write one of your own into the configuration: key = \"…\""))
    })?;
    Ok(bytes)
}
