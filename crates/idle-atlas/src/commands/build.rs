//! The command `build`: writes the files, the index and robots.txt, or shows what it would write.

use atlas_io::engines::{Telling, meet};
use atlas_io::live::Live;
use atlas_io::round::{self, Event, Round};
use atlas_store::build::{Job, keep_overwritten, preview, recall, withdraw, withdrawal};
use atlas_store::consoles::{ConsoleFiles, consoles};
use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger};
use atlas_store::model::{AttemptEnd, AttemptRow};
use atlas_store::report::{Built, Guard, LastBuild, Preview};

use super::{LookedAt, announce, open_ledger, ownership, programs};
use crate::args::{self, Recall};
use crate::config::{self, Settings};
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::session::Session;
use crate::view;
use crate::view::build::Engines;

pub fn run(settings: &Settings, arguments: &args::BuildArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    if arguments.withdraw {
        return withdrawing(settings, arguments, session);
    }
    if arguments.dry_run {
        return dry_run(settings, arguments, session);
    }
    if !arguments.announce {
        return build_once(settings, arguments, session);
    }
    // The results of both are one document.
    let both = session.on(screen.for_one_document());
    let built = build_once(settings, arguments, &both);
    let exit = match built {
        Ok(exit @ Exit::Interrupted) => return Ok(exit),
        Ok(exit) => exit,
        Err(failure @ Failure::PipeClosed) => return Err(failure),
        Err(failure) => both.screen.fail_in_part(&failure)?,
    };
    // What earlier builds published is told, whatever became of this one.
    let told = announce::after(settings, &both);
    let told = match told {
        Ok(told) => told,
        Err(failure) => both.screen.fail_in_part(&failure)?,
    };
    if screen.wants_json() {
        let mut documents = both.screen.documents().into_iter();
        let document = serde_json::json!({ "build": documents.next(), "announce": documents.next() });
        screen.show(&document, String::new)?;
    }
    Ok(exit.max(told))
}

/// Builds, and runs the programs around it.
fn build_once(settings: &Settings, arguments: &args::BuildArguments, session: &Session) -> Result<Exit, Failure> {
    let built = build_from_scratch(settings, arguments, session);
    match &built {
        Err(Failure::PipeClosed) => {}
        Ok(Exit::Interrupted) | Err(Failure::Store(StoreError::Interrupted)) => {
            record_failure(settings, session, AttemptEnd::Stopped, "it was asked to stop".to_owned());
        }
        Err(failure) => record_failure(settings, session, AttemptEnd::Failed, failure.to_string()),
        Ok(_) => {}
    }
    if let Err(failure) = &built
        && !matches!(failure, Failure::PipeClosed | Failure::Store(StoreError::Interrupted))
    {
        let document = serde_json::json!({
            "site": settings.site.root().as_str(),
            "error": failure.to_string(),
            "exit": Exit::NotDone as u8,
        });
        programs::when_failed(settings, session, &document);
    }
    built
}

/// Records a build that did not go through.
fn record(ledger: &mut dyn Ledger, session: &Session, ended: AttemptEnd, reason: String) -> Result<(), StoreError> {
    let attempt = AttemptRow { at: session.now().as_second(), ended, reason, started_by: Session::started_by() };
    let writing = ledger.transaction()?;
    writing.add_attempt(&attempt)?;
    writing.commit()
}

/// Records a build that failed or was stopped. If the ledger cannot be opened, that is why it failed.
fn record_failure(settings: &Settings, session: &Session, ended: AttemptEnd, reason: String) {
    let Ok(mut ledger) = ledger::open(&settings.ledger) else { return };
    if let Err(error) = record(&mut *ledger, session, ended, reason) {
        session.screen.complain("history", &format!("this build could not be recorded: {error}"));
    }
}

fn build_from_scratch(
    settings: &Settings,
    arguments: &args::BuildArguments,
    session: &Session,
) -> Result<Exit, Failure> {
    let screen = &session.screen;
    programs::before_build(settings, session)?;
    let ledger = open_ledger(settings, screen)?;
    if settings.has_moved || arguments.allow.contains(&Guard::Overwrite) {
        let (destination, names) = settings.destination();
        let kept = keep_overwritten((destination, names), &*ledger, &settings.ledger)?;
        if !kept.is_empty() {
            screen.say(&view::build::overwritten(&kept, &settings.ledger, settings.has_moved))?;
            // From now on the old sitemap is one of the sources.
            return build_site(&config::load_from(&settings.path)?, ledger, arguments, session, None);
        }
    }
    build_site(settings, ledger, arguments, session, None)
}

/// Builds directly after a survey, whose tables are not shown again.
#[cfg(feature = "test-engine")]
pub fn after_survey(
    settings: &Settings,
    survey: &atlas_store::report::Survey,
    session: &Session,
) -> Result<Exit, Failure> {
    let ledger = open_ledger(settings, &session.screen)?;
    build_site(settings, ledger, &args::BuildArguments::default(), session, Some(LastBuild::of_survey(survey)))
}

/// Shows what a build would write.
fn dry_run(settings: &Settings, arguments: &args::BuildArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let mut looked_at = LookedAt::open(settings, screen)?;
    let job = looked_at.job(settings.job(session.now(), &session.stop)).instant_is_set(session.clock.is_set());
    remember(settings, arguments.recall, &job, &mut *looked_at.ledger, session)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let job = asked(job, arguments, screen).progress(&more).telling(screen.examples(), &settings.accepted);
    let preview = preview(&job, &mut *looked_at.ledger)?;
    drop(progress);
    screen.show(&preview, || view::preview::preview(&preview, &screen.layout(settings)))?;
    screen.complain_of_sources(&preview.survey);
    Ok(match preview.survey.held.is_empty() {
        true => Exit::in_part(preview.survey.failures().next().is_some()),
        false => Exit::Held,
    })
}

/// Takes everything out of the web root that the tool has written, or shows what that would be.
fn withdrawing(settings: &Settings, arguments: &args::BuildArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let mut ledger = open_ledger(settings, screen)?;
    let job = settings.job(session.now(), &session.stop);
    let is_allowed = arguments.allow.contains(&Guard::Withdraw);
    let done = is_allowed && !arguments.dry_run;
    let withdrawn = if done { withdraw(&job, &mut *ledger)? } else { withdrawal(&job, &*ledger)? };
    let layout = screen.layout(settings);
    screen.show(&withdrawn, || view::withdrawn::withdrawn(&withdrawn, done, &layout))?;
    if done || arguments.dry_run || withdrawn.is_empty() {
        return Ok(Exit::Done);
    }
    let message = "all of this would leave the web root, so that engines find no sitemap; nothing was changed. If this is intended: idle-atlas build --withdraw --allow withdraw";
    screen.complain("held back", message);
    Ok(Exit::Held)
}

/// A job as the options want it.
fn asked<'a>(job: Job<'a>, arguments: &args::BuildArguments, screen: &Screen) -> Job<'a> {
    job.strict(screen.is_strict()).fresh(arguments.fresh).allow(arguments.allow.iter().copied())
}

fn build_site(
    settings: &Settings,
    mut ledger: Box<dyn Ledger>,
    arguments: &args::BuildArguments,
    session: &Session,
    told: Option<LastBuild>,
) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let job = settings.job(session.now(), &session.stop).instant_is_set(session.clock.is_set());
    remember(settings, arguments.recall, &job, &mut *ledger, session)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let job = asked(job, arguments, screen).progress(&more).telling(screen.examples(), &settings.accepted);
    let job = job.started_by(Session::started_by());
    let round = Round { job: Some(&job), engines: &[], telling: Telling::due(&settings.names) };
    let mut events = Vec::new();
    round::run(&round, &mut *ledger, (&*session.clock, &session.stop), |event| events.push(event))?;
    drop(progress);
    if session.stop.is_asked() {
        // When it was asked to stop, it said that it would finish the files first.
        return Ok(Exit::Interrupted);
    }
    let is_built = events.iter().any(|event| matches!(event, Event::Built(_)));
    if is_built {
        meet(&mut *ledger, &settings.engines)?;
    }
    let mut exit = Exit::Done;
    for event in events {
        exit = match event {
            Event::Built(built) => {
                let engines = match arguments.announce {
                    true => Engines::ToldNow,
                    false => announce::after_a_build(settings, &*ledger)?,
                };
                let consoles = consoles(&*ledger, &settings.names)?;
                show(settings, *built, (engines, &consoles), told.clone(), screen)?
            }
            Event::Held(preview) => {
                let reasons: Vec<String> = preview.survey.held.iter().map(|held| held.message.clone()).collect();
                record(&mut *ledger, session, AttemptEnd::Held, reasons.join("; "))?;
                programs::when_failed(settings, session, &serde_json::to_value(&preview).unwrap_or_default());
                held(settings, &preview, screen)?
            }
            Event::Told(_) => exit,
        };
    }
    if is_built && !ownership::place(settings, &mut *ledger, session)? {
        exit = exit.max(Exit::InPart);
    }
    // With --announce, they run before anything is announced.
    if is_built && !arguments.announce && !programs::when_built(settings, &mut *ledger, session)? {
        exit = exit.max(Exit::InPart);
    }
    Ok(exit)
}

/// Shows a build that a guard held back.
fn held(settings: &Settings, preview: &Preview, screen: &Screen) -> Result<Exit, Failure> {
    screen.show(preview, || view::preview::held(preview, &screen.layout(settings)))?;
    for held in &preview.survey.held {
        screen.complain("held back", &format!("{}; nothing was written. {}", held.message, view::guard::advice(held)));
    }
    Ok(Exit::Held)
}

/// Shows the result of a build; `told` is the report to compare it with if the ledger has none.
fn show(
    settings: &Settings,
    mut built: Built,
    (engines, consoles): (Engines, &[ConsoleFiles]),
    told: Option<LastBuild>,
    screen: &Screen,
) -> Result<Exit, Failure> {
    built.last = built.last.take().or(told);
    let survey = &built.survey;
    let changes = &survey.changes;
    screen.count(&[
        ("entries", survey.entries()),
        ("added", changes.added.count),
        ("changed", changes.changed.count),
        ("gone", changes.removed.count + changes.left_out.count),
        ("files written", built.written.len() as u64),
    ]);
    let elsewhere = settings.sitemaps_elsewhere().map(|_| settings.site.of_host("/robots.txt"));
    screen.show(&built, || {
        let elsewhere = elsewhere.as_ref().map(|address| address.as_str());
        view::build::built(&built, elsewhere, (engines, consoles), &screen.layout(settings))
    })?;
    screen.complain_of_sources(&built.survey);
    Ok(screen.exit(built.survey.is_in_part(), built.survey.has_remarks()))
}

/// If there is no ledger yet, rebuilds it from the existing sitemaps.
fn remember(
    settings: &Settings,
    from: Recall,
    job: &Job<'_>,
    ledger: &mut dyn Ledger,
    session: &Session,
) -> Result<(), Failure> {
    let recalled = match from {
        Recall::None => None,
        Recall::Disk => recall(job, ledger, |name| settings.destination().0.read(name))?,
        Recall::Live if ledger.last_run()? > 0 => None,
        Recall::Live => {
            let live = Live::new(settings.folder_address(), settings.reach(), &session.stop)
                .map_err(|error| Failure::said(error.to_string()))?;
            recall(job, ledger, |name| live.fetch(name))?
        }
    };
    if let Some(recalled) = recalled {
        // Engines had been met before the ledger was lost.
        meet(ledger, &settings.engines)?;
        session.screen.say(&view::build::recalled(&recalled))?;
    }
    Ok(())
}
