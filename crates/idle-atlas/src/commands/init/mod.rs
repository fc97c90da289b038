//! The command `init`: examines what is there and writes a configuration that works as it is.
//!
//! The way of the data: [`found`] looks at the places that are named or lie here, through `atlas_io::examine`;
//! [`sections`] and [`proposals`] make a section or a source of each; [`text`] writes the configuration. Then a first survey takes out what would be
//! empty, and compares with an old sitemap.

mod found;
mod sections;
mod proposed;
mod row_sources;
mod proposals;
mod facts;
mod text;

use std::fs;
use std::path::{Path, PathBuf};

use atlas_io::examine::save_sitemap;
use atlas_store::build::survey;
use atlas_store::ledger;
use atlas_store::report::Survey;
use atlas_store::stop::Stop;

use self::found::FoundSite;
use self::proposals::SAVED;
use self::proposed::ProposedSource;
use crate::config::{self, NAME};
use crate::exit::{Exit, Failure};
use crate::session::Session;
use crate::view::init::SiteFacts;
use crate::{args, view};

pub fn run(init: &args::InitArguments, shared: &args::Shared, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let (target, screen) = match &shared.config[..] {
        [] => (PathBuf::from(NAME), screen.clone()),
        [one] if one.is_dir() => (one.join(NAME), screen.for_site(Some(&one.join(NAME)))),
        [one] => (one.clone(), screen.for_site(Some(one))),
        _ => return Err(Failure::said("--config: name one configuration to write")),
    };
    let mut draft = InitDraft::make(Path::new(""), &target, init, &session.stop)?;
    draft.save_sitemaps(&session.stop)?;
    draft.write()?;
    if draft.facts.is_local {
        draft.look_first(session)?;
    }
    screen.show(&draft.facts, || view::init::wrote(&draft.facts, &screen.layout_of_none()))?;
    Ok(Exit::Done)
}

/// Writes the configuration to `target`, which, like `init.folder`, is relative to the folder `base`, and says what was
/// found.
#[cfg(feature = "test-engine")]
pub fn write(base: &Path, target: &Path, init: &args::InitArguments, stop: &Stop) -> Result<SiteFacts, Failure> {
    let draft = InitDraft::make(base, target, init, stop)?;
    draft.write()?;
    Ok(draft.facts)
}

/// A configuration, and what it was made from.
struct InitDraft {
    target: PathBuf,
    engine: String,
    found: FoundSite,
    proposals: Vec<ProposedSource>,
    facts: SiteFacts,
}

impl InitDraft {
    fn make(base: &Path, target: &Path, init: &args::InitArguments, stop: &Stop) -> Result<Self, Failure> {
        let name = target.display().to_string();
        let target = base.join(target);
        if target.exists() {
            return Err(Failure::said(format!(
                "there is a {} already; edit it, or move it away to begin anew",
                target.display()
            )));
        }
        let here = if base.as_os_str().is_empty() { Path::new(".") } else { base };
        let found = FoundSite::look(here, init, stop)?;
        let home = target.parent().filter(|home| !home.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let whole = |path: &Path| fs::canonicalize(path).ok();
        let Some(whole_home) = whole(home) else {
            return Err(Failure::said(format!("there is no folder {}; make it first", home.display())));
        };
        let web_root = here.join(&found.web_root);
        if let Some(whole_root) = whole(&web_root).filter(|web_root| whole_home.starts_with(web_root)) {
            return Err(Failure::said(format!(
                "the configuration would be written into {}, where visitors could read it; go to the folder above and run: idle-atlas init {}",
                web_root.display(),
                whole_root.file_name().map_or_else(|| "FOLDER".into(), |name| name.to_string_lossy())
            )));
        }
        let made_web_root = !web_root.is_dir();
        if made_web_root {
            fs::create_dir_all(&web_root)
                .map_err(|error| Failure::said(format!("cannot make the folder {}: {error}", web_root.display())))?;
        }
        // Paths in a configuration are relative to it.
        let is_beside = Some(&whole_home) == whole(here).as_ref();
        let from_home = |path: &str| {
            let elsewhere = || {
                let Some(path) = whole(&here.join(path)) else { return path.to_owned() };
                path.strip_prefix(&whole_home).unwrap_or(&path).display().to_string()
            };
            if is_beside { path.to_owned() } else { elsewhere() }
        };
        let proposals = proposals::sources(&found, &from_home);
        let facts = found.facts(name, from_home(&found.web_root), made_web_root, &proposals);
        Ok(Self { target, engine: init.engine.clone(), found, proposals, facts })
    }

    /// Saves the sitemaps of the live site beside the configuration: soon another will be served in their place.
    fn save_sitemaps(&mut self, stop: &Stop) -> Result<(), Failure> {
        let Some(live) = &self.found.live else { return Ok(()) };
        let server = found::server(stop)?;
        let folder = self.target.parent().unwrap_or(Path::new("")).join(SAVED);
        for sitemap in &live.sitemaps {
            if let Err(why) = save_sitemap(&server, &sitemap.address, &folder) {
                self.facts.unsure.push(format!("The old sitemap could not be saved whole: {why}."));
            }
        }
        Ok(())
    }

    fn write(&self) -> Result<(), Failure> {
        let text = text::configuration(&self.facts, &self.proposals, &self.found, &self.engine);
        fs::write(&self.target, text)
            .map_err(|error| Failure::said(format!("cannot write {}: {error}", self.target.display())))
    }

    /// Surveys the site by the configuration that was written, which learns its files for the next command. Sections that
    /// would be empty are taken out again.
    fn look_first(&mut self, session: &Session) -> Result<(), Failure> {
        let survey = match first_survey(&self.target, session) {
            Ok(survey) => survey,
            Err(failure) => {
                self.facts.first_look = Some(failure.to_string());
                return Ok(());
            }
        };
        self.facts.entries = Some(survey.entries());
        self.facts.moved = survey.moved;
        let before = self.facts.sections.len();
        let is_there = |name: &str| survey.sections.iter().any(|section| section.name == name);
        self.facts.sections.retain(|section| is_there(&section.name));
        if self.facts.sections.len() < before { self.write() } else { Ok(()) }
    }
}

fn first_survey(target: &Path, session: &Session) -> Result<Survey, Failure> {
    let settings = config::load_from(target)?;
    let mut ledger = ledger::open(&settings.ledger)?;
    let progress = session.screen.progress();
    let more = |rows| progress.more(rows);
    let job = settings.job(session.now(), &session.stop).progress(&more);
    Ok(survey(&job.telling(session.screen.examples(), &settings.accepted), &mut *ledger)?)
}
