//! `build`: writes the files, the index and robots.txt.

use atlas_store::build::build;
use atlas_store::ledger::Ledger;

use crate::args;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::view;

pub fn run(settings: &Settings, arguments: &args::Build, screen: &Screen) -> Result<Exit, Failure> {
    let mut ledger = Ledger::open(&settings.ledger)?;
    let allow: Vec<&str> = arguments
        .allow
        .iter()
        .map(|guard| match guard {
            args::Allow::Shrink => "shrink",
        })
        .collect();
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let built = build(&settings.job(arguments.fresh, &allow, &more), &mut ledger)?;
    drop(progress);
    screen.show(&built, || view::survey::built(&built, !settings.engines.is_empty(), screen.is_verbose()))?;
    Ok(Exit::looking_at(view::survey::has_problems(&built.survey)))
}
