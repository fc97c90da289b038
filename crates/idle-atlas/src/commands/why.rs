//! `why`: everything known of one URL.

use atlas_core::address::Site;
use atlas_store::build::explain;
use atlas_store::ledger::Ledger;

use crate::args;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::view;

pub fn run(settings: &Settings, why: &args::Why, screen: &Screen) -> Result<Exit, Failure> {
    let site: &Site = &settings.site;
    let address = site.address(&why.url).map_err(|error| Failure::said(error.to_string()))?;
    let mut ledger = Ledger::open(&settings.ledger)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let explained = explain(&settings.job(false, &[], &more), &mut ledger, address.as_str())?;
    drop(progress);
    let told = ledger.announcements(1000)?;
    let told: Vec<_> = told.into_iter().filter(|one| one.examples.iter().any(|url| url == address.as_str())).collect();
    let answer = view::why::Answer::new(settings, address.as_str(), explained, told);
    screen.show(&answer, || view::why::why(&answer))?;
    Ok(Exit::looking_at(!answer.is_known()))
}
