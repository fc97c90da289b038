//! Running a command for one site, for several sites one after the other, or for many sites side by side. If it fails for
//! one, the others go on.

use std::path::{Path, PathBuf};
use std::sync::mpsc::channel;
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::Instant;

use serde_json::json;

use crate::args::{Command, ListFormat, Shared};
use crate::config::{self, Settings};
use crate::exit::{Exit, Failure};
use crate::screen::{STRONG, Screen};
use crate::session::Session;
use crate::view;
use crate::view::sites::SiteResult;

/// How a command ended for all sites.
pub struct SitesEnded {
    /// The gravest exit code.
    pub exit: Exit,
    /// What became of each site, if there are several.
    pub told: Vec<SiteResult>,
}

/// Runs a command for each configuration.
pub fn each(
    shared: &Shared,
    command: &Command,
    session: &Session,
    run: impl Fn(&Settings, &Session) -> Result<Exit, Failure> + Sync,
) -> Result<SitesEnded, Failure> {
    let screen = &session.screen;
    let paths = config::named(shared)?;
    if !shared.each.is_empty() {
        return side_by_side(shared, command, &paths, session, run);
    }
    if let [path] = &paths[..] {
        let named = (!shared.config.is_empty()).then_some(path.as_path());
        let exit = run(&config::load_from(path)?, &session.on(screen.for_site(named)))?;
        return Ok(SitesEnded { exit, told: Vec::new() });
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

/// Runs a command for many sites at once, as many as there are cores. Each has a line when it ends.
fn side_by_side(
    shared: &Shared,
    command: &Command,
    paths: &[PathBuf],
    session: &Session,
    run: impl Fn(&Settings, &Session) -> Result<Exit, Failure> + Sync,
) -> Result<SitesEnded, Failure> {
    let is_for_many = matches!(
        command,
        Command::Build(_)
            | Command::Announce(_)
            | Command::Check(_)
            | Command::Survey(_)
            | Command::History(_)
            | Command::Report(_)
    );
    if !is_for_many || is_raw(command) {
        return Err(Failure::said(
            "--each is for build, announce, check, survey, history, report and watch, and for their tables; for one site: --config FILE",
        ));
    }
    let as_json = session.screen.wants_json() || wants_json(command);
    let mut several = Several { session, as_json, is_raw: false, loaded: Vec::new(), told: Vec::new() };
    // All are read first, so that no two of them write into the same folder.
    let mut ready: Vec<(&PathBuf, Result<usize, Failure>)> = Vec::new();
    for path in paths {
        let loaded = config::load_from(path).and_then(|settings| {
            config::apart(&several.loaded, path, &settings)?;
            several.loaded.push((path.clone(), settings));
            Ok(several.loaded.len() - 1)
        });
        ready.push((path, loaded));
    }
    let (clock, stop, loaded) = (&session.clock, &session.stop, &several.loaded);
    let next = Mutex::new(ready.into_iter().enumerate());
    let (sender, receiver) = channel();
    let workers = thread::available_parallelism().map_or(1, usize::from).min(paths.len());
    let mut told: Vec<Option<SiteResult>> = paths.iter().map(|_| None).collect();
    thread::scope(|scope| {
        for _ in 0..workers {
            let (sender, next, run) = (sender.clone(), &next, &run);
            scope.spawn(move || {
                while let Some((nth, (path, settings))) =
                    next.lock().unwrap_or_else(PoisonError::into_inner).next().filter(|_| !stop.is_asked())
                {
                    let screen = Screen::new(shared).for_one_of_several(path, nth, true);
                    let own = Session { screen, clock: Arc::clone(clock), stop: stop.clone() };
                    let begun = Instant::now();
                    let settings = settings.map(|at| &loaded[at].1);
                    let site = settings.as_ref().ok().map(|settings| settings.site.root().to_string());
                    let ended = settings.and_then(|settings| run(settings, &own));
                    let result = SiteResult::of(path, site, ended, &own.screen);
                    if sender.send((nth, begun.elapsed(), result)).is_err() {
                        return;
                    }
                }
            });
        }
        drop(sender);
        for (nth, took, result) in receiver {
            if !as_json {
                // The reader of the output may be gone; the other sites are done anyway.
                let _ = session.screen.say(&view::sites::line(&result, took));
            }
            told[nth] = Some(result);
        }
    });
    several.told = told.into_iter().flatten().collect();
    if !as_json {
        session.screen.say("\n")?;
    }
    several.end()
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
        let has_site = site.is_some();
        let result = SiteResult::of(path, site, ended, &one);
        if !self.is_raw && has_site {
            // The reader of the output may be gone; the next site is built anyway.
            let _ = one.say("\n");
        }
        self.told.push(result);
    }

    /// Shows all documents as one, or a table.
    fn end(self) -> Result<SitesEnded, Failure> {
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
        let exit = self.told.iter().map(|told| told.exit).max().unwrap_or(Exit::Done);
        Ok(SitesEnded { exit, told: self.told })
    }
}

impl SiteResult {
    /// What became of a site, whose command has ended.
    fn of(path: &Path, site: Option<String>, ended: Result<Exit, Failure>, screen: &Screen) -> Self {
        let error = ended.as_ref().err().map(|failure| screen.proposing(&failure.to_string()));
        let exit = ended.unwrap_or_else(|failure| screen.fail(&failure));
        Self { config: path.to_owned(), site, exit, counts: screen.counted(), result: screen.collected(), error }
    }
}
