//! The user's own programs around a build: before it, when files changed, and when it was held back or failed.

use std::io::Write;
use std::path::Path;

use atlas_io::program::ProgramInput;
use atlas_store::error::StoreError;
use atlas_store::ledger::Ledger;
use atlas_store::model::Fact;
use serde_json::Value;

use crate::config::Settings;
use crate::exit::Failure;
use crate::screen::count;
use crate::session::Session;

/// The environment variable with the name of a file that lists the changed files.
const CHANGED: &str = "IDLE_ATLAS_CHANGED";

/// Runs the programs that come before a build. If one fails, nothing is built.
pub fn before_build(settings: &Settings, session: &Session) -> Result<(), Failure> {
    for program in &settings.programs.before_build {
        let output = program.output(ProgramInput::default(), &session.stop);
        session.stop.check()?;
        output.map_err(|why| {
            Failure::said(format!(
                "before_build “{}”: {why}. Nothing was built, and the files are as before",
                program.shown()
            ))
        })?;
    }
    Ok(())
}

/// Runs the programs that deal with changed files, if there are any that have not been dealt with. Returns whether
/// nothing is left to do; if one fails, all of them run again the next time.
pub fn when_built(settings: &Settings, ledger: &mut dyn Ledger, session: &Session) -> Result<bool, Failure> {
    let Some(names) = ledger.fact(Fact::Undelivered)? else { return Ok(true) };
    let programs = &settings.programs.when_built;
    let list = changed_files(settings, &names);
    let in_ledger = |error| StoreError::io("cannot write a list of files to", &settings.ledger)(error);
    let mut file = tempfile::NamedTempFile::new_in(&settings.ledger).map_err(in_ledger)?;
    file.write_all(list.as_bytes()).and_then(|()| file.flush()).map_err(in_ledger)?;
    let path = file.path().canonicalize().unwrap_or_else(|_| file.path().to_owned());
    let path = path.to_string_lossy();
    for program in programs {
        let input = ProgramInput { text: list.as_bytes(), variables: &[(CHANGED, &path)] };
        if let Err(why) = program.output(input, &session.stop) {
            let message = format!(
                "“{}”: {why}. Nothing is announced until it succeeds; it runs again at the next build or announce",
                program.shown()
            );
            session.screen.complain("when_built", &message);
            when_failed(settings, session, &serde_json::json!({ "error": format!("when_built {message}"), "exit": 1 }));
            return Ok(false);
        }
        let files = count(list.lines().count() as u64, "changed file", "changed files");
        session.screen.say(&format!("\nwhen_built  {}: done, for {files}\n", program.shown()))?;
    }
    let writing = ledger.transaction()?;
    writing.set_fact(Fact::Undelivered, None)?;
    writing.commit()?;
    Ok(true)
}

/// The changed files, one per line: below the web root, or in full if they are elsewhere.
fn changed_files(settings: &Settings, names: &str) -> String {
    let (destination, _) = settings.destination();
    let paths = names.lines().map(|name| {
        let path = destination.shown(name);
        let below = Path::new(&path).strip_prefix(&settings.web_root).map(|below| below.display().to_string());
        below.unwrap_or(path) + "\n"
    });
    paths.collect()
}

/// Runs the programs that are told of a build that was held back or failed, with its JSON document. That one of them
/// fails, too, is only said.
pub fn when_failed(settings: &Settings, session: &Session, document: &Value) {
    let text = format!("{document:#}\n");
    for program in &settings.programs.when_failed {
        let input = ProgramInput { text: text.as_bytes(), ..ProgramInput::default() };
        if let Err(why) = program.output(input, &session.stop) {
            session.screen.complain("when_failed", &format!("“{}”: {why}", program.shown()));
        }
    }
}
