//! Running a command for one site, or for several sites one after the other. If it fails for one, the others go on.

use std::path::{Path, PathBuf};

use serde_json::json;

use crate::args::{Command, ListFormat, Shared};
use crate::config::{self, Settings};
use crate::exit::{Exit, Failure};
use crate::screen::STRONG;
use crate::session::Session;
use crate::view;
use crate::view::sites::SiteResult;

/// Runs a command for each configuration. The overall exit code is the gravest of all.
pub fn each(
    shared: &Shared,
    command: &Command,
    session: &Session,
    run: impl Fn(&Settings, &Session) -> Result<Exit, Failure>,
) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let paths = config::named(shared)?;
    if let [path] = &paths[..] {
        let named = (!shared.config.is_empty()).then_some(path.as_path());
        return run(&config::load_from(path)?, &session.on(screen.for_site(named)));
    }
    let as_json = screen.wants_json() || wants_json(command);
    let mut several = Several { session, as_json, is_raw: is_raw(command), loaded: Vec::new(), told: Vec::new() };
    for path in &paths {
        several.one(path, &run);
        if session.stop.is_asked() {
            break;
        }
    }
    several.end()
}

/// Whether a command's own options ask for JSON.
fn wants_json(command: &Command) -> bool {
    match command {
        Command::Survey(survey) => survey.list && survey.wanted.form == ListFormat::Json,
        Command::Uptake(uptake) => uptake.list && uptake.wanted.form == ListFormat::Json,
        _ => false,
    }
}

/// Whether a command prints one line per entry for programs, so that nothing else may be printed in between.
fn is_raw(command: &Command) -> bool {
    match command {
        Command::Survey(survey) => survey.list && survey.wanted.form == ListFormat::Csv,
        Command::Uptake(uptake) => uptake.list && uptake.wanted.form == ListFormat::Csv,
        Command::History(history) => history.entries,
        Command::Why(why) => why.structured_data,
        _ => false,
    }
}

/// Several sites, being processed.
struct Several<'s> {
    session: &'s Session,
    as_json: bool,
    is_raw: bool,
    loaded: Vec<(PathBuf, Settings)>,
    told: Vec<SiteResult>,
}

impl Several<'_> {
    fn one(&mut self, path: &Path, run: impl Fn(&Settings, &Session) -> Result<Exit, Failure>) {
        let one = self.session.screen.for_one_of_several(path, self.told.len(), self.as_json && !self.is_raw);
        let loaded = config::load_from(path).and_then(|settings| {
            config::apart(&self.loaded, path, &settings)?;
            Ok(settings)
        });
        let (site, ended) = match loaded {
            Err(failure) => (None, Err(failure)),
            Ok(settings) => {
                let site = settings.site.root().to_string();
                let heading = format!("{STRONG}{site}{STRONG:#} ({})\n\n", path.display());
                let ended = if self.is_raw { Ok(()) } else { one.say(&heading) }
                    .and_then(|()| run(&settings, &self.session.on(one.clone())));
                self.loaded.push((path.to_owned(), settings));
                (Some(site), ended)
            }
        };
        let error = ended.as_ref().err().map(ToString::to_string);
        let exit = ended.unwrap_or_else(|failure| one.fail(&failure));
        if !self.is_raw && site.is_some() {
            // The reader of the output may be gone; the next site is built anyway.
            let _ = one.say("\n");
        }
        let (counts, result) = (one.counted(), one.collected());
        self.told.push(SiteResult { config: path.to_owned(), site, exit, counts, result, error });
    }

    /// Shows all documents as one, or a table.
    fn end(self) -> Result<Exit, Failure> {
        if self.as_json && !self.is_raw {
            let documents = self.told.iter().map(|told| {
                let mut document =
                    json!({ "config": told.config, "site": told.site, "exit": told.exit as u8, "result": told.result });
                if let Some(error) = &told.error {
                    document["error"] = json!(error);
                }
                document
            });
            self.session.screen.for_programs().show(&documents.collect::<Vec<_>>(), String::new)?;
        } else if !self.is_raw {
            self.session.screen.say(&view::sites::table(&self.told, &self.session.screen.layout_of_none()))?;
        }
        Ok(self.told.iter().map(|told| told.exit).max().unwrap_or(Exit::Done))
    }
}
