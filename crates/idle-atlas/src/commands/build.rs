//! `build`: writes the files, the index and robots.txt; or shows what it would write.

use atlas_store::build::{build, preview};
use atlas_store::ledger::Ledger;

use crate::args;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::view;

pub fn run(settings: &Settings, arguments: &args::Build, screen: &Screen) -> Result<Exit, Failure> {
    let mut ledger = Ledger::open(&settings.ledger)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let job = settings.job(arguments.fresh, &arguments.allow, &more);
    if arguments.dry_run {
        let preview = preview(&job, &mut ledger)?;
        drop(progress);
        screen.show(&preview, || view::preview::preview(&preview, screen.is_verbose()))?;
        return Ok(if preview.held.is_some() { Exit::Held } else { Exit::Done });
    }
    let built = build(&job, &mut ledger)?;
    drop(progress);
    let elsewhere = settings.sitemaps_elsewhere().map(|_| settings.site.of_host("/robots.txt"));
    screen.show(&built, || {
        let elsewhere = elsewhere.as_ref().map(|address| address.as_str());
        view::survey::built(&built, elsewhere, !settings.engines.is_empty(), screen.is_verbose())
    })?;
    Ok(Exit::looking_at(view::survey::has_problems(&built.survey)))
}
