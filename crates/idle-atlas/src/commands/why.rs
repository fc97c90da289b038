//! The command `why`: everything that is known about one URL, as the last build recorded it or as the sources say now.

use atlas_core::address::Site;
use atlas_store::build::{Explained, explain, recorded};
use atlas_store::ledger::{self, Ledger};
use atlas_store::model::Announced;

use super::LookedAt;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::session::Session;
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
    let answer = view::recorded::RecordedReport::new(settings, address, recorded, told(&*ledger, address)?);
    screen.show(&answer, || view::recorded::recorded(&answer, &screen.layout(settings)))?;
    Ok(Some(Exit::in_part(!answer.is_known())))
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
