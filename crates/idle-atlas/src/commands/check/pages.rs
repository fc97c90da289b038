//! Looking at single pages of the live site: `check --page` and `check --pages-from`.

use std::fs;

use atlas_core::address::Address;
use atlas_core::check::each_url;
use atlas_core::fingerprint;
use atlas_core::jiff::Timestamp;
use atlas_core::lastmod::Lastmod;
use atlas_core::page::PageReader;
use atlas_core::report::Severity;
use atlas_io::check::{PageLook, SiteServer, look_at};
use atlas_io::live::Reach;
use atlas_store::build::{RecordedState, recorded};
use atlas_store::ledger;
use atlas_store::model::Announced;

use crate::args::CheckArguments;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::session::Session;
use crate::view;
use crate::view::card::{PageCard, ToldTo};

/// Prints a card for each page.
pub fn run(settings: Option<&Settings>, arguments: &CheckArguments, session: &Session) -> Result<Exit, Failure> {
    session.stop.heed();
    let urls = urls(settings, arguments)?;
    let reach = settings.map_or_else(Reach::default, Settings::reach);
    let server = SiteServer::new(reach, arguments.pace(), &session.stop);
    let server = server.map_err(|error| Failure::said(error.to_string()))?;
    let reader = settings.map_or_else(PageReader::default, |settings| settings.reader.clone());
    let memory = settings.map(|settings| KnownPages::of(settings, &urls, session)).transpose()?.unwrap_or_default();
    let likely = |url: &str| memory.files(url);
    let looks = look_at(&server, &urls, &reader, &reader.tokens, &likely)?;
    let cards: Vec<PageCard> = looks.into_iter().map(|look| memory.card(look)).collect();
    let layout = match settings {
        Some(settings) => session.screen.layout(settings),
        None => session.screen.layout_of_none(),
    };
    session.screen.show(&cards, || view::card::cards(&cards, &layout))?;
    let is_bad = |card: &PageCard| card.look.troubles.iter().any(|trouble| trouble.severity == Severity::Error);
    Ok(Exit::in_part(cards.iter().any(is_bad)))
}

/// The pages that were named: URLs, or paths on the site of the configuration.
fn urls(settings: Option<&Settings>, arguments: &CheckArguments) -> Result<Vec<Address>, Failure> {
    let mut texts = arguments.page.clone();
    if let Some(file) = &arguments.pages_from {
        let bytes = fs::read(file);
        let bytes = bytes.map_err(|error| Failure::said(format!("cannot read {}: {error}", file.display())))?;
        let before = texts.len();
        match bytes.trim_ascii_start().starts_with(b"<") {
            true => each_url(&bytes, |url, _| texts.push(url.to_owned())),
            false => {
                let lines = String::from_utf8_lossy(&bytes).into_owned();
                let words = lines.lines().filter_map(|line| line.split([',', '\t', ';', ' ']).next());
                let words = words.map(|word| word.trim_matches(['"', '\u{feff}']).to_owned());
                texts.extend(words.filter(|word| word.starts_with("http") || word.starts_with('/')));
            }
        }
        if texts.len() == before {
            return Err(Failure::said(format!(
                "there is no URL in {}; expected one at the beginning of each line",
                file.display()
            )));
        }
    }
    let parse = |text: &String| {
        let address = match settings {
            Some(settings) => settings.site.address(text),
            None => Address::parse(text),
        };
        address.map_err(|why| Failure::said(format!("--page: {why}")))
    };
    texts.iter().map(parse).collect()
}

/// What the ledger knows of the pages.
#[derive(Default)]
struct KnownPages {
    folder: String,
    known: Vec<(String, RecordedState)>,
    told: Vec<(String, Vec<ToldTo>)>,
}

impl KnownPages {
    fn of(settings: &Settings, urls: &[Address], session: &Session) -> Result<Self, Failure> {
        let Some(ledger) = ledger::open_for_reading(&settings.ledger)? else { return Ok(Self::default()) };
        let job = settings.job(session.now(), &session.stop);
        let (mut known, mut told) = (Vec::new(), Vec::new());
        let announcements = ledger.announcements(1000)?;
        let seed = ledger.seed()?;
        for url in urls.iter().map(Address::as_str) {
            let Some(one) = recorded(&job, &*ledger, url)? else { continue };
            if let RecordedState::Listed(listed) = &one.state {
                let run = i64::from(listed.remembered.changed);
                let key = fingerprint::key(seed, url);
                let mut engines = Vec::new();
                for engine in &settings.engines {
                    let state = ledger.engine(&engine.name)?;
                    if state.is_some_and(|state| state.knows(run, key)) {
                        engines.extend(when_told(&announcements, &engine.name, run));
                    }
                }
                told.push((url.to_owned(), engines));
            }
            known.push((url.to_owned(), one.state));
        }
        Ok(Self { folder: settings.folder_address().to_owned(), known, told })
    }

    fn of_url(&self, url: &str) -> Option<&RecordedState> {
        self.known.iter().find(|(known, _)| known == url).map(|(_, state)| state)
    }

    /// The files that list a page, as the last build wrote them.
    fn files(&self, url: &str) -> Vec<String> {
        match self.of_url(url) {
            Some(RecordedState::Listed(listed)) => {
                listed.files.iter().map(|name| format!("{}{name}", self.folder)).collect()
            }
            _ => Vec::new(),
        }
    }

    fn card(&self, look: PageLook) -> PageCard {
        let (mut section, mut left_out) = (None, None);
        match self.of_url(&look.url) {
            Some(RecordedState::Listed(listed)) => section = Some(listed.section.clone()),
            Some(RecordedState::LeftOut(reason)) => left_out = Some((reason.code(), reason.words())),
            _ => {}
        }
        let told = self.told.iter().find(|(url, _)| *url == look.url);
        PageCard { section, left_out, told: told.map(|(_, told)| told.clone()).unwrap_or_default(), look }
    }
}

/// When an engine took the first message about the changes of a run, or of a later one.
fn when_told(announcements: &[Announced], engine: &str, run: i64) -> Option<ToldTo> {
    let about = |one: &&Announced| one.engine == engine && one.run >= run && one.outcome == "done";
    // The newest come first.
    let first = announcements.iter().rfind(about)?;
    let at = Timestamp::from_second(first.at).ok()?;
    Some(ToldTo { engine: engine.to_owned(), at: Lastmod::from_timestamp(at) })
}
