//! `announce --by-hand` and `--done`: what is worth submitting in a console, and what has been.

use std::collections::HashSet;

use atlas_core::announce::EngineState;
use atlas_core::fingerprint;
use atlas_io::engines::EngineSettings;
use atlas_store::consoles::{consoles, sitemap_files};
use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger, lists, worth_submitting};
use atlas_store::model::{SubmittedFile, SubmittedUrl};
use serde_json::json;

use super::{open_ledger, uptake};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::count;
use crate::session::Session;
use crate::view::by_hand::{self as view, ByHandList, SubmittableUrl};

/// Prints what is worth submitting.
pub fn list(settings: &Settings, most: usize, session: &Session) -> Result<Exit, Failure> {
    let none = || Failure::said("there is no build yet; build first: idle-atlas build");
    let ledger = ledger::open_for_reading(&settings.ledger)?.ok_or_else(none)?;
    if ledger.last_run()? == 0 {
        return Err(none());
    }
    let is_of_urls = |engine: &&EngineSettings| !engine.tells.of_files();
    let engines = settings.engines.iter().filter(is_of_urls).map(|engine| ledger.engine(&engine.name));
    let engines = engines.collect::<Result<Vec<Option<EngineState>>, StoreError>>()?;
    let engines: Vec<EngineState> = engines.into_iter().flatten().collect();
    let origin = settings.site.root().origin();
    let not_picked_up = match uptake::is_known(&*ledger)? {
        true => uptake::with(settings, &*ledger, &[], session, |overlaid| Ok(overlaid.not_picked_up()))?,
        false => HashSet::new(),
    };
    let urls = worth_submitting(&*ledger, &engines, &not_picked_up, most)?.into_iter().map(|worth| SubmittableUrl {
        path: worth.url.strip_prefix(origin).unwrap_or(&worth.url).to_owned(),
        why: worth.why,
        words: worth.why.words(),
        url: worth.url,
    });
    let list = ByHandList {
        urls: urls.collect(),
        main: settings.main_address(),
        consoles: consoles(&*ledger, &settings.names)?,
    };
    session.screen.show(&list, || view::list(&list, &session.screen.layout(settings)))?;
    Ok(Exit::Done)
}

/// Ticks off URLs, or sitemap files in a console.
pub fn done(settings: &Settings, done: &[String], console: Option<&str>, session: &Session) -> Result<Exit, Failure> {
    let mut ledger = open_ledger(settings, &session.screen)?;
    let now = session.now().as_second();
    match console {
        Some(console) => files(settings, &mut *ledger, (console, now), done, session),
        None => urls(settings, &mut *ledger, now, done, session),
    }
}

fn urls(
    settings: &Settings,
    ledger: &mut dyn Ledger,
    now: i64,
    done: &[String],
    session: &Session,
) -> Result<Exit, Failure> {
    let files = sitemap_files(ledger, &settings.names)?;
    let (seed, run) = (ledger.seed()?, ledger.last_run()?);
    let mut submitted = Vec::new();
    for url in done {
        let address = settings.site.address(url).map_err(|error| Failure::said(error.to_string()))?;
        if files.contains(&file_address(settings, url)) {
            return Err(Failure::said(format!(
                "{url} is a sitemap file; say in which console it was submitted: idle-atlas announce --done {url} --in NAME"
            )));
        }
        let url = address.as_str().to_owned();
        submitted.push((fingerprint::key(seed, &url), SubmittedUrl { url, at: now, run }));
    }
    let known = lists(ledger, &submitted.iter().map(|(key, _)| *key).collect())?;
    if let Some((_, unknown)) = submitted.iter().find(|(key, _)| !known.contains(key)) {
        return Err(Failure::said(format!(
            "{}: no build has listed it, so nothing was ticked off; see why: idle-atlas why {}",
            unknown.url, unknown.url
        )));
    }
    let writing = ledger.transaction()?;
    submitted.iter().try_for_each(|(key, submitted)| writing.submit_url(*key, submitted))?;
    writing.commit()?;
    let urls: Vec<&str> = submitted.iter().map(|(_, submitted)| submitted.url.as_str()).collect();
    let words = format!(
        "Ticked off {}. {} comes up again only after a change.\n",
        count(urls.len() as u64, "URL", "URLs"),
        if urls.len() == 1 { "It" } else { "Each" }
    );
    session.screen.show(&json!({ "urls": urls }), || words)?;
    Ok(Exit::Done)
}

fn files(
    settings: &Settings,
    ledger: &mut dyn Ledger,
    (console, now): (&str, i64),
    done: &[String],
    session: &Session,
) -> Result<Exit, Failure> {
    let current = sitemap_files(ledger, &settings.names)?;
    let known: Vec<SubmittedFile> =
        ledger.submitted_files()?.into_iter().filter(|file| file.console == console).collect();
    let (mut submitted, mut removed) = (Vec::new(), Vec::new());
    for file in done {
        let address = file_address(settings, file);
        match (current.contains(&address), known.iter().any(|known| known.address == address)) {
            (true, _) => submitted.push(address),
            (false, true) => removed.push(address),
            (false, false) => {
                return Err(Failure::said(format!(
                    "{address} is neither a sitemap file of this site nor one that was submitted in {console}, so nothing was ticked off; the files: idle-atlas build --dry-run"
                )));
            }
        }
    }
    let writing = ledger.transaction()?;
    for address in &submitted {
        writing.submit_file(&SubmittedFile { console: console.to_owned(), address: address.clone(), at: now })?;
    }
    removed.iter().try_for_each(|address| writing.withdraw_file(console, address))?;
    writing.commit()?;
    let todo = consoles(ledger, &settings.names)?;
    let document = json!({ "console": console, "submitted": submitted, "removed": removed, "consoles": todo });
    session.screen.show(&document, || {
        let part = |files: &[String], words: &str| match files.len() {
            0 => String::new(),
            number => {
                format!("Ticked off {}: {words} {console}.\n", count(number as u64, "sitemap file", "sitemap files"))
            }
        };
        part(&submitted, "submitted in") + &part(&removed, "removed from") + &view::in_consoles(&todo)
    })?;
    Ok(Exit::Done)
}

/// The address of a sitemap file by its name or address.
fn file_address(settings: &Settings, file: &str) -> String {
    match file.contains("://") {
        true => file.to_owned(),
        false => format!("{}{}", settings.folder_address(), file.trim_start_matches('/')),
    }
}
