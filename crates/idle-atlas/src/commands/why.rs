//! The command `why`: everything that is known about one URL, as the last build recorded it or as the sources say now.

use std::collections::BTreeSet;

use atlas_core::address::{Address, Site};
use atlas_core::contribution::{Contribution, url_of};
use atlas_core::links;
use atlas_core::page::{self, PageFacts};
use atlas_store::build::{Explained, explain, recorded};
use atlas_store::ledger::{self, Ledger};
use atlas_store::model::Announced;

use super::{LookedAt, uptake};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::session::Session;
use crate::view::recorded::PageSeen;
use crate::{args, view};

pub fn run(settings: &Settings, why: &args::WhyArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let site: &Site = &settings.site;
    let address = site.address(&why.url).map_err(|error| Failure::said(error.to_string()))?;
    if !why.fresh
        && !why.structured_data
        && let Some(exit) = from_ledger(settings, address.as_str(), session)?
    {
        return Ok(exit);
    }
    let mut looked_at = LookedAt::open(settings, screen)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let job = looked_at.job(settings.job(session.now(), &session.stop)).strict(true).progress(&more);
    let explained = explain(&job, &mut *looked_at.ledger, address.as_str())?;
    drop(progress);
    if why.structured_data {
        return structured_data(address.as_str(), &explained, screen);
    }
    let told = told(&*looked_at.ledger, address.as_str())?;
    let answer = view::why::UrlReport::new(settings, address.as_str(), explained, told);
    screen.show(&answer, || view::why::why(&answer, &screen.layout(settings)))?;
    Ok(Exit::in_part(!answer.is_known()))
}

/// Answers from what the last build recorded, if there was one.
fn from_ledger(settings: &Settings, address: &str, session: &Session) -> Result<Option<Exit>, Failure> {
    let screen = &session.screen;
    let Some(ledger) = ledger::open_for_reading(&settings.ledger)? else { return Ok(None) };
    let job = settings.job(session.now(), &session.stop);
    let Some(recorded) = recorded(&job, &*ledger, address)? else { return Ok(None) };
    let mut answer = view::recorded::RecordedReport::new(settings, address, recorded, told(&*ledger, address)?);
    answer.page = page_seen(settings, &*ledger, address)?;
    answer.uptake = uptake::of_page(settings, &*ledger, address, session)?;
    screen.show(&answer, || view::recorded::recorded(&answer, &screen.layout(settings)))?;
    Ok(Some(Exit::in_part(!answer.is_known())))
}

/// What sources remember of the page at an address: its words and outline, and the pages that link to it. `None` if no
/// source has read it.
fn page_seen(settings: &Settings, ledger: &dyn Ledger, address: &str) -> Result<Option<PageSeen>, Failure> {
    let (mut facts, mut linked_from) = (None, BTreeSet::new());
    for source in settings.sources.iter().filter(|source| source.reads_pages()) {
        let memory = ledger.memory(&source.name(), source.settings(), true)?;
        for learnt in memory.known.values() {
            if url_of(&learnt.row) == address {
                facts = facts.or(Contribution::read(&learnt.row).facts.map(PageFacts::from_bits));
            }
            if url_of(&learnt.row) == address || settings.choices.own_files.holds(url_of(&learnt.row)) {
                continue;
            }
            links::each(&learnt.links, |link| {
                if link == address {
                    linked_from.insert(url_of(&learnt.row).to_owned());
                }
            });
        }
    }
    let Some(facts) = facts else { return Ok(None) };
    let bytes = settings.sources.iter().find_map(|source| source.page(address));
    let here = Address::parse(address).map_err(|why| Failure::said(why.to_string()))?;
    let page = bytes.and_then(|bytes| page::read(&bytes, &here, &settings.reader).ok());
    let headings = page.map(|page| page.headings).unwrap_or_default();
    let outline = headings.into_iter().map(|heading| (heading.level, heading.text)).collect();
    Ok(Some(PageSeen { words: facts.words, outline, linked_from: linked_from.into_iter().collect() }))
}

/// The announcements of a URL, as far as they are remembered with their URLs.
fn told(ledger: &dyn Ledger, address: &str) -> Result<Vec<Announced>, Failure> {
    let mut told = ledger.announcements(1000)?;
    told.retain(|one| one.examples.iter().any(|url| url == address));
    Ok(told)
}

/// Prints the structured data for a page's videos, as its template would include it.
fn structured_data(url: &str, explained: &Explained, screen: &Screen) -> Result<Exit, Failure> {
    let Some(merged) = &explained.merged else {
        return Err(Failure::said(format!("no source knows {url}; to see what is known: idle-atlas survey")));
    };
    if !merged.stated_videos.is_empty() {
        let differences = match &explained.structured_differences[..] {
            [] => "and nothing is wrong with it".to_owned(),
            some => format!("but: {}", some.join("; ")),
        };
        screen.complain("left alone", &format!("{url} carries a VideoObject of its own, {differences}"));
        return Ok(screen.exit(false, !explained.structured_differences.is_empty()));
    }
    let Some(objects) = &explained.structured else {
        return Err(Failure::said(format!("nothing is known of a video on {url}")));
    };
    for lacks in &objects.lacking {
        let names: Vec<&str> = lacks.iter().map(|property| property.as_str()).collect();
        screen.complain("not complete", &format!("a video of {url} has no {}", names.join(", no ")));
    }
    if let Some(text) = objects.text() {
        screen.print(&text)?;
    }
    Ok(Exit::in_part(!objects.lacking.is_empty()))
}
