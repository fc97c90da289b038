//! The command `report`: the state of the whole site on one page.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::{fs, io};

use atlas_core::report::Severity;
use atlas_core::uptake::export::Subject;
use atlas_store::consoles::consoles;
use atlas_store::disk;
use atlas_store::ledger::Ledger;
use atlas_store::site_state::site_state;
use atlas_store::uptake::Overview;
use jiff::tz::TimeZone;

use super::{LookedAt, check, history, travel, uptake};
use crate::args::{Command, ReportArguments, Shared};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::{Screen, count, grouped};
use crate::session::Session;
use crate::sites;
use crate::view::report::{ExportAge, FindingCount, NextStep, SitePart, SiteReport, page, page_of_several, written};
use crate::view::uptake::subject;

/// The file, unless another is named.
const FILE: &str = "site-report.html";
/// How many entries are shown altogether.
const MOST_ENTRIES: usize = 1_500;
/// How many announcements are shown.
const MOST_ANNOUNCEMENTS: usize = 20;
/// After how many days consoles have something new to tell.
const LOOK_AGAIN_DAYS: i64 = 7;
/// A day, in seconds.
const DAY: i64 = 86_400;

pub fn run(settings: &Settings, arguments: &ReportArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let file = file(arguments);
    outside_of_what_is_served(settings, &file)?;
    let looked_at = LookedAt::open(settings, screen)?;
    let report = report(settings, &*looked_at.ledger, session)?;
    disk::replace(&file, page(&report, settings.timezone()).as_bytes())?;
    show(&report, Some(&file), settings, screen)?;
    Ok(Exit::Done)
}

/// Shows a report that stands in this file, if it has one of its own.
fn show(report: &SiteReport, file: Option<&Path>, settings: &Settings, screen: &Screen) -> Result<(), Failure> {
    let pages = report.state.sections.iter().map(|section| section.pages).sum();
    screen.count(&[("pages", pages), ("errors", report.errors()), ("to do", report.next.len() as u64)]);
    screen.show(report, || written(report, file, &screen.layout(settings)))
}

fn file(arguments: &ReportArguments) -> PathBuf {
    arguments.file.clone().unwrap_or_else(|| PathBuf::from(FILE))
}

/// Reports on several sites, on one page over all of them.
pub fn of_several(
    arguments: &ReportArguments,
    command: &Command,
    shared: &Shared,
    session: &Session,
) -> Result<Exit, Failure> {
    let (file, reports, served) = (file(arguments), Mutex::new(BTreeMap::new()), Mutex::new(None));
    let ended = sites::each(shared, command, session, |settings, session| {
        travel::around(command, settings, session, || {
            if let Err(failure) = outside_of_what_is_served(settings, &file) {
                locked(&served).get_or_insert_with(|| failure.to_string());
                return Err(failure);
            }
            let looked_at = LookedAt::open(settings, &session.screen)?;
            let report = report(settings, &*looked_at.ledger, session)?;
            show(&report, None, settings, &session.screen)?;
            locked(&reports).insert(settings.path.clone(), (report, settings.timezone().clone()));
            Ok(Exit::Done)
        })
    })?;
    if let Some(why) = locked(&served).take() {
        return Err(Failure::said(why));
    }
    let reports = locked(&reports);
    let found = ended.told.iter().zip(1..).map(|(told, nth)| {
        let why = || told.error.clone().unwrap_or_else(|| "it was not read".to_owned());
        let part = reports.get(&told.config).map(|(report, zone)| SitePart::of(report, nth, zone));
        (told.config.as_path(), part.ok_or_else(why))
    });
    let zone = reports.values().next().map_or(TimeZone::UTC, |(_, zone)| zone.clone());
    let page = page_of_several(&found.collect::<Vec<_>>(), session.now().as_second(), &zone);
    disk::replace(&file, page.as_bytes())?;
    if !session.screen.wants_json() {
        session.screen.say(&format!("\n{} written. Open it in a browser.\n", file.display()))?;
    }
    Ok(ended.exit)
}

fn locked<T>(value: &Mutex<T>) -> MutexGuard<'_, T> {
    value.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A page that also shows what is left out must not be in a served folder.
pub fn outside_of_what_is_served(settings: &Settings, file: &Path) -> Result<PathBuf, Failure> {
    let failed = |error: io::Error| Failure::said(format!("cannot write {}: {error}", file.display()));
    let parent = file.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let folder = fs::canonicalize(parent).map_err(failed)?;
    match settings.web_root.canonicalize().is_ok_and(|root| folder.starts_with(root)) {
        true => Err(Failure::said(format!(
            "{} would be served to everyone, and it also shows what is left out; name a file outside {}",
            file.display(),
            settings.web_root.display()
        ))),
        false => Ok(folder),
    }
}

/// The state of the whole site.
pub fn report(settings: &Settings, ledger: &dyn Ledger, session: &Session) -> Result<SiteReport, Failure> {
    if ledger.last_run()? == 0 {
        return Err(Failure::said(
            "nothing has been built yet, so there is nothing to report; begin with: idle-atlas build",
        ));
    }
    let now = session.now().as_second();
    let overview = uptake::with(settings, ledger, &settings.sources, session, |overlaid| {
        Ok(overlaid.overview(ledger, &settings.names)?)
    })?;
    let (images, videos) = (overview.images.standings.submitted, overview.videos.standings.submitted);
    let overview = uptake::is_known(ledger)?.then_some(overview);
    let exports = overview.iter().flat_map(|overview| &overview.exports).map(|export| ExportAge {
        engine: export.engine.clone(),
        of: subject(export.of),
        at: export.at,
        days: (now - export.at) / DAY,
        again: export.at + LOOK_AGAIN_DAYS * DAY,
    });
    let mut report = SiteReport {
        site: settings.site.root().to_string(),
        at: now,
        next: Vec::new(),
        images,
        videos,
        health: history::health(settings, ledger, session)?,
        state: site_state(ledger, &settings.names, now, MOST_ENTRIES)?,
        findings: findings(settings, session)?,
        announcements: ledger.announcements(MOST_ANNOUNCEMENTS)?,
        main: settings.main_address(),
        consoles: consoles(ledger, &settings.names)?,
        exports: exports.collect(),
        uptake: overview,
    };
    report.next = next(&report, ledger)?;
    Ok(report)
}

/// What is wrong with the files on disk, by kind, worst first.
fn findings(settings: &Settings, session: &Session) -> Result<Vec<FindingCount>, Failure> {
    let checked = check::of_web_root(settings, session)?;
    let mut found: Vec<FindingCount> = Vec::new();
    for one in &checked.findings {
        match found.iter_mut().find(|known| known.code == one.code) {
            Some(known) => known.count += 1,
            None => found.push(FindingCount {
                code: one.code.to_owned(),
                severity: one.severity,
                what: one.what.clone(),
                mend: one.mend.to_owned(),
                count: 1,
            }),
        }
    }
    for (code, more) in &checked.more {
        found.iter_mut().filter(|one| one.code == *code).for_each(|one| one.count += more);
    }
    Ok(found)
}

/// What to do next, in order of worth.
fn next(report: &SiteReport, ledger: &dyn Ledger) -> Result<Vec<NextStep>, Failure> {
    let mut steps = Vec::new();
    let mut step = |what: String, why: &str, command: &str| {
        steps.push(NextStep { what, why: why.to_owned(), command: command.to_owned() });
    };
    let last = report.state.runs.last().map_or(0, |run| run.at);
    if let Some(attempt) = ledger.attempts(1)?.first().filter(|attempt| attempt.at >= last) {
        let reason = attempt.reason.lines().next().unwrap_or_default();
        step(
            format!("The last build did not go through: {reason}."),
            "Until it does, engines are shown the site as it was before.",
            "idle-atlas build",
        );
    } else if report.health.is_overdue {
        step(
            "No build has gone through for longer than usual.".to_owned(),
            "What is new on the site is not on the list.",
            "idle-atlas build",
        );
    }
    let errors = report.errors();
    if errors > 0 {
        let what = count(errors, "error is in the sitemap files.", "errors are in the sitemap files.");
        step(what, "Engines may pass over what they cannot read.", "idle-atlas check");
    }
    if let Some(overview) = &report.uptake {
        about_uptake(overview, &mut step);
    }
    let waiting: u64 = report.health.engines.iter().filter(|one| one.on && !one.retired).map(|one| one.waiting).sum();
    if waiting > 0 {
        let what = count(waiting, "announcement waits to be sent.", "announcements wait to be sent.");
        step(what, "Engines that are told come sooner.", "idle-atlas announce");
    }
    for console in &report.consoles {
        let (submit, remove) = (console.submit.len() as u64, console.remove.len() as u64);
        if submit + remove > 0 {
            let what = format!(
                "In {}: {} to submit, {} to remove.",
                console.console,
                count(submit, "sitemap file", "sitemap files"),
                grouped(remove)
            );
            step(
                what,
                "Consoles count by file, and go on asking for files that are gone.",
                "idle-atlas announce --by-hand 10",
            );
        }
    }
    let warnings: u64 =
        report.findings.iter().filter(|one| one.severity == Severity::Warning).map(|one| one.count).sum();
    if warnings > 0 {
        let what = count(warnings, "warning is about the sitemap files.", "warnings are about the sitemap files.");
        step(what, "Engines read them, and may take something otherwise than it is meant.", "idle-atlas check");
    }
    match report.exports.iter().filter(|one| one.of == subject(Subject::Pages)).map(|one| one.again).max() {
        None => step(
            "It is not known what engines have picked up.".to_owned(),
            "Export the list of pages from an engine's console, and lay it over the site's own list.",
            "idle-atlas uptake pages.csv --engine NAME",
        ),
        Some(again) if again <= report.at => step(
            "The last export of an engine is more than a week old.".to_owned(),
            "Take a new one: it shows what came and went since.",
            "idle-atlas uptake pages.csv --engine NAME",
        ),
        Some(_) => {}
    }
    Ok(steps)
}

/// What follows from what engines took.
fn about_uptake(overview: &Overview, step: &mut impl FnMut(String, &str, &str)) {
    let totals = &overview.totals;
    if let Some(number @ 1..) = totals.answered_with_error {
        let what =
            count(number, "listed page answers crawlers with an error.", "listed pages answer crawlers with an error.");
        step(what, "Such a page is dropped from an index before long.", "idle-atlas uptake --list --state error");
    }
    if overview.sitemap_is_unread() {
        step(
            "No crawler has read the sitemap, as far as the access logs tell.".to_owned(),
            "Declare it in robots.txt, and submit it in the engines' consoles.",
            "idle-atlas check --live",
        );
    }
    let unexplained: u64 = overview.reasons.iter().filter(|one| !one.means_picked_up).map(|one| one.unexplained).sum();
    match totals.not_picked_up {
        Some(number @ 1..) => {
            let what = count(
                number,
                "page is not picked up though there was time.",
                "pages are not picked up though there was time.",
            );
            let why = match (overview.differences.first(), unexplained) {
                (Some(first), _) => {
                    format!("What sets them apart: {}.", crate::view::uptake::difference(first, overview.thin_words))
                }
                (None, 0) => "Nobody finds them by searching.".to_owned(),
                (None, some) if some >= number => "Nothing here explains why.".to_owned(),
                (None, some) => format!("Nothing here explains {} of them.", grouped(some)),
            };
            step(what, &why, "idle-atlas uptake --list --state not-picked-up");
        }
        _ => {
            if let Some(number @ 1..) = totals.never_fetched {
                let what =
                    count(number, "page was never visited by a crawler.", "pages were never visited by a crawler.");
                step(
                    what,
                    "Link to them from pages that are visited, or submit them by hand.",
                    "idle-atlas announce --by-hand 10",
                );
            }
        }
    }
}
