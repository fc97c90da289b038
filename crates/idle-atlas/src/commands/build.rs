//! `build`: writes the files, the index and robots.txt; or shows what it would write.

use atlas_io::live::Live;
use atlas_store::build::{Ended, Job, build, keep_overwritten, on_disk, preview, recall};
use atlas_store::ledger::Ledger;
use atlas_store::report::{Guard, LastBuild, Survey};

use super::{announce, open_ledger};
use crate::args::{self, Recall};
use crate::config::{self, Settings};
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::{interrupt, view};

pub fn run(settings: &Settings, arguments: &args::Build, screen: &Screen) -> Result<Exit, Failure> {
    let ledger = open_ledger(settings, screen)?;
    if arguments.allow.contains(&Guard::Overwrite) && !arguments.dry_run {
        let kept = keep_overwritten(settings.place(), &ledger)?;
        if !kept.is_empty() {
            screen.say(&view::build::overwritten(&kept, &settings.ledger))?;
            // From now on the old sitemap is one of the sources.
            return build_site(&config::load_from(&settings.path)?, ledger, arguments, screen, None);
        }
    }
    build_site(settings, ledger, arguments, screen, None)
}

/// Builds right after a survey, whose tables are not shown again.
pub fn after_survey(settings: &Settings, survey: &Survey, screen: &Screen) -> Result<Exit, Failure> {
    let ledger = open_ledger(settings, screen)?;
    build_site(settings, ledger, &args::Build::default(), screen, Some(LastBuild::of_survey(survey)))
}

fn build_site(
    settings: &Settings,
    mut ledger: Ledger,
    arguments: &args::Build,
    screen: &Screen,
    told: Option<LastBuild>,
) -> Result<Exit, Failure> {
    remember(settings, arguments.recall, &settings.job(false, &[], 0, &|_| ()), &mut ledger, screen)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let job = settings.job(arguments.fresh, &arguments.allow, screen.examples(), &more);
    if arguments.dry_run {
        let preview = preview(&job, &mut ledger)?;
        drop(progress);
        screen.show(&preview, || view::preview::preview(&preview, &screen.layout(settings)))?;
        return Ok(if preview.survey.held.is_empty() { Exit::Done } else { Exit::Held });
    }
    let ended = build(&job, &mut ledger);
    drop(progress);
    interrupt::has_written(if ended.is_ok() { Exit::Done } else { Exit::NotDone });
    let built = match ended? {
        Ended::Built(mut built) => {
            built.last = built.last.take().or(told);
            built
        }
        Ended::Held(preview) => {
            screen.show(&preview, || view::preview::held(&preview, &screen.layout(settings)))?;
            for held in &preview.survey.held {
                screen.complain("held back", &format!("{}; nothing was written. {}", held.message, held.mend));
            }
            return Ok(Exit::Held);
        }
    };
    let survey = &built.survey;
    let changes = &survey.changes;
    screen.count(&[
        ("entries", survey.entries()),
        ("added", changes.added.count),
        ("changed", changes.changed.count),
        ("gone", changes.removed.count + changes.left_out.count),
        ("files written", built.written.len() as u64),
    ]);
    let engines = announce::after_a_build(settings, &ledger)?;
    let elsewhere = settings.sitemaps_elsewhere().map(|_| settings.site.of_host("/robots.txt"));
    screen.show(&built, || {
        let elsewhere = elsewhere.as_ref().map(|address| address.as_str());
        view::build::built(&built, elsewhere, engines, &screen.layout(settings))
    })?;
    Ok(screen.exit(built.survey.is_in_part(), built.survey.has_remarks()))
}

/// Where there is no ledger yet, begins one from the sitemaps that are there.
fn remember(
    settings: &Settings,
    from: Recall,
    job: &Job<'_>,
    ledger: &mut Ledger,
    screen: &Screen,
) -> Result<(), Failure> {
    let recalled = match from {
        Recall::None => None,
        Recall::Disk => recall(job, ledger, |name| on_disk(&job.place, name))?,
        Recall::Live if ledger.last_run()? > 0 => None,
        Recall::Live => {
            let live = Live::new(settings.folder_address()).map_err(Failure::said)?;
            recall(job, ledger, |name| live.fetch(name))?
        }
    };
    if let Some(recalled) = recalled {
        screen.say(&view::build::recalled(&recalled))?;
    }
    Ok(())
}
