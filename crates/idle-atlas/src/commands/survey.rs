//! `survey`: what would be in, and what is left out and why.

use atlas_store::build::survey;
use atlas_store::ledger::Ledger;

use crate::args;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::view;

pub fn run(settings: &Settings, survey_arguments: &args::Survey, screen: &Screen) -> Result<Exit, Failure> {
    let mut ledger = Ledger::open(&settings.ledger)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let found = survey(&settings.job(survey_arguments.fresh, &[], &more), &mut ledger)?;
    drop(progress);
    screen.show(&found, || view::survey::survey(&found, screen.is_verbose()))?;
    Ok(Exit::looking_at(view::survey::has_problems(&found)))
}
