//! The command `check`: reads a web root, a file or a live site as an engine does.

mod target;
mod known;
mod pages;
mod gone;
mod content;

use std::path::PathBuf;

use atlas_core::accepted::Accepted;
use atlas_core::check::{Inspection, PageSample, Report};
use atlas_core::lastmod::Lastmod;
use atlas_core::report::Severity;
use atlas_store::disk;

use self::target::Target;
use crate::args::{CheckArguments, FailOn};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::{Layout, Screen};
use crate::session::Session;
use crate::view;
use crate::view::check::Checked;

pub fn run(settings: &Settings, arguments: &CheckArguments, session: &Session) -> Result<Exit, Failure> {
    if arguments.wants_cards() {
        return pages::run(Some(settings), arguments, session);
    }
    if arguments.gone.is_some() {
        return gone::run(Some(settings), arguments, session);
    }
    if arguments.content {
        return content::run(settings, arguments, session);
    }
    let target = Target::of(settings, arguments, session)?;
    if let Some((code, urls)) = arguments.accept.split_first() {
        // What is accepted already is not to be accepted again.
        let report = inspect(&target, Some(settings), Accepted::none(), arguments.sample(), session)?;
        return known::accept(settings, &report, code, urls, session);
    }
    let report = inspect(&target, Some(settings), &settings.accepted, arguments.sample(), session)?;
    let layout = session.screen.layout(settings);
    show(&target, &report, arguments, &layout, session)
}

/// What is wrong with the web root of a configuration.
pub fn of_web_root(settings: &Settings, session: &Session) -> Result<Report, Failure> {
    let target = Target::of(settings, &CheckArguments::default(), session)?;
    inspect(&target, Some(settings), &settings.accepted, PageSample::default(), session)
}

/// Checks without a configuration.
pub fn without_configuration(arguments: &CheckArguments, session: &Session) -> Result<Exit, Failure> {
    if arguments.wants_cards() {
        return pages::run(None, arguments, session);
    }
    if arguments.gone.is_some() {
        return gone::run(None, arguments, session);
    }
    if !arguments.accept.is_empty() {
        return Err(Failure::said("--accept needs a configuration, beside which the file of known findings lies"));
    }
    let target = Target::without_configuration(arguments, session)?;
    let report = inspect(&target, None, Accepted::none(), arguments.sample(), session)?;
    let layout = session.screen.layout_at(target.origin());
    show(&target, &report, arguments, &layout, session)
}

/// Prints the page about a code.
pub fn explain(code: &str, session: &Session) -> Result<Exit, Failure> {
    let Some(kind) = atlas_core::check::named(code) else {
        let near = view::explained::nearest(code);
        return Err(Failure::said(format!("there is no finding “{code}”{near}; docs/findings.md lists all of them")));
    };
    session.screen.show(&view::explained::document(kind), || view::explained::page(kind))?;
    Ok(Exit::Done)
}

/// Inspects what was named.
fn inspect(
    target: &Target,
    settings: Option<&Settings>,
    known: &Accepted,
    sample: PageSample,
    session: &Session,
) -> Result<Report, Failure> {
    session.stop.heed();
    let mut inspection = Inspection::new(Lastmod::from_timestamp(session.now()), known, sample);
    if let Some(settings) = settings {
        inspection.heed(&settings.reader.tokens);
    }
    target.inspect(settings, &mut inspection, (sample, known), session)?;
    target.missing(&inspection)?;
    Ok(inspection.finish())
}

fn show(
    target: &Target,
    report: &Report,
    arguments: &CheckArguments,
    layout: &Layout,
    session: &Session,
) -> Result<Exit, Failure> {
    show_report(report, arguments, session, &|address| target.path(address), || {
        let checked = Checked { report, place: target.words(), notes: target.notes(), layout };
        target.shown(view::check::check(&checked))
    })
}

/// Shows a report in all wanted forms; `path` finds the file on disk with an address. Returns the exit code.
fn show_report(
    report: &Report,
    arguments: &CheckArguments,
    session: &Session,
    path: &dyn Fn(&str) -> Option<PathBuf>,
    text: impl FnOnce() -> String,
) -> Result<Exit, Failure> {
    let screen = &session.screen;
    if let Some(file) = &arguments.sarif {
        let document = view::sarif::document(report, path);
        disk::replace(file, document.as_bytes())?;
    }
    screen.show(report, text)?;
    let number = |severity| report.counts.get(&severity).copied().unwrap_or(0);
    screen.count(&[("errors", number(Severity::Error)), ("warnings", number(Severity::Warning))]);
    if session.stop.is_asked() {
        return Ok(Exit::Interrupted);
    }
    Ok(exit_of(report, arguments.fail_on, screen))
}

/// The exit code: 1 if there is a finding that is at least as bad as was said.
fn exit_of(report: &Report, fail_on: Option<FailOn>, screen: &Screen) -> Exit {
    let fail_on = fail_on.unwrap_or(if screen.is_strict() { FailOn::Warning } else { FailOn::Error });
    let worst = match fail_on {
        FailOn::Error => Severity::Error,
        FailOn::Warning => Severity::Warning,
        FailOn::Advice => Severity::Advice,
        FailOn::Never => return Exit::Done,
    };
    let is_bad = report.counts.iter().any(|(severity, count)| *severity <= worst && *count > 0);
    Exit::in_part(is_bad)
}
