//! The command `why`: everything that is known about one URL.

use atlas_core::address::Site;
use atlas_store::build::{Explained, explain};

use super::open_ledger;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::session::Session;
use crate::{args, view};

pub fn run(settings: &Settings, why: &args::WhyArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let site: &Site = &settings.site;
    let address = site.address(&why.url).map_err(|error| Failure::said(error.to_string()))?;
    let mut ledger = open_ledger(settings, screen)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let job = settings.job(session.now(), &session.stop).progress(&more);
    let explained = explain(&job, &mut *ledger, address.as_str())?;
    drop(progress);
    if why.structured_data {
        return structured_data(address.as_str(), &explained, screen);
    }
    let told = ledger.announcements(1000)?;
    let told: Vec<_> = told.into_iter().filter(|one| one.examples.iter().any(|url| url == address.as_str())).collect();
    let answer = view::why::UrlReport::new(settings, address.as_str(), explained, told);
    screen.show(&answer, || view::why::why(&answer, &screen.layout(settings)))?;
    Ok(Exit::in_part(!answer.is_known()))
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
