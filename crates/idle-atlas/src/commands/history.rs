//! The command `history`: runs and announcements, newest first.

use atlas_io::engines::{ToAnnounce, all_pending, left_alone};
use atlas_store::ledger::{self, Ledger};
use atlas_store::model::RunRow;
use serde_json::Value;

use super::announce::run_since;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::session::Session;
use crate::view::history::{EngineHealth, Health};
use crate::view::plot::Timeline;
use crate::{args, view};

pub fn run(settings: &Settings, history: &args::HistoryArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let Some(ledger) = ledger::open_for_reading(&settings.ledger)? else {
        return Err(Failure::said("nothing has been built yet; begin with: idle-atlas build"));
    };
    if history.entries {
        return entries(&*ledger, screen);
    }
    if let Some(number) = history.run {
        let (row, report) = ledger
            .run(number)?
            .ok_or_else(|| Failure::said(format!("there is no run {number}; list them with: idle-atlas history")))?;
        let run = view::history::PastRun {
            row,
            urls: ledger.urls_of_run(number)?,
            report: serde_json::from_str(&report).unwrap_or_default(),
        };
        screen.show(&run, || view::history::one(&run, &screen.layout(settings)))?;
        return Ok(Exit::Done);
    }
    let since = history.since.as_ref().map(|since| run_since(settings, &*ledger, since)).transpose()?;
    let begin = match since {
        Some(run) => ledger.run(run)?.map_or(i64::MAX, |(row, _)| row.at),
        None => i64::MIN,
    };
    if history.plot {
        return plot(&*ledger, begin, session, settings);
    }
    let most = if history.engine.is_some() { MOST_SEARCHED } else { history.most };
    let mut announcements = ledger.announcements(most)?;
    announcements.retain(|one| one.at >= begin && history.engine.as_ref().is_none_or(|engine| one.engine == *engine));
    announcements.truncate(history.most);
    let mut past = view::history::Past {
        health: health(settings, &*ledger, session)?,
        section: history.section.clone(),
        runs: ledger.runs(history.most)?,
        attempts: ledger.attempts(history.most)?,
        announcements,
    };
    if let Some(section) = &history.section {
        past.runs = of_section(settings, &*ledger, section)?;
        past.runs.truncate(history.most);
        past.announcements.clear();
        past.attempts.clear();
    }
    past.runs.retain(|run| since.is_none_or(|since| run.run >= since));
    past.attempts.retain(|attempt| attempt.at >= begin);
    screen.show(&past, || view::history::past(&past, &screen.layout(settings)))?;
    Ok(Exit::Done)
}

/// Draws what happened since an instant.
fn plot(ledger: &dyn Ledger, begin: i64, session: &Session, settings: &Settings) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let mut timeline = Timeline { runs: ledger.runs(MOST_DRAWN)?, announcements: ledger.announcements(MOST_DRAWN)? };
    timeline.runs.retain(|run| run.at >= begin);
    timeline.announcements.retain(|one| one.at >= begin && one.outcome == "done");
    timeline.runs.reverse();
    timeline.announcements.reverse();
    screen.show(&timeline, || view::plot::timeline(&timeline, view::plot::shows_blocks(), &screen.layout(settings)))?;
    Ok(Exit::Done)
}

/// The runs in which a file of this section was written, as far as their reports are remembered.
fn of_section(settings: &Settings, ledger: &dyn Ledger, section: &str) -> Result<Vec<RunRow>, Failure> {
    let (mut runs, mut is_known) = (Vec::new(), settings.section_names().contains(&section));
    for row in ledger.runs(WITH_REPORT)? {
        let report = ledger.run(row.run)?.map(|(_, report)| report).unwrap_or_default();
        let report: Value = serde_json::from_str(&report).unwrap_or_default();
        let sections = report["sections"].as_array().into_iter().flatten();
        let mut files = sections.filter(|one| one["name"] == section).flat_map(|one| one["files"].as_array()).flatten();
        let was_written = |file: &Value| file["fate"] != "unchanged";
        is_known |= report["sections"].as_array().into_iter().flatten().any(|one| one["name"] == section);
        if files.any(was_written) {
            runs.push(row);
        }
    }
    match is_known {
        true => Ok(runs),
        false => Err(Failure::said(format!("there is no section “{section}”; the sections: idle-atlas survey"))),
    }
}

/// How many runs and announcements are drawn.
const MOST_DRAWN: usize = 10_000;
/// How many runs are remembered with their reports.
const WITH_REPORT: usize = 30;
/// How many announcements are searched for those to one engine.
const MOST_SEARCHED: usize = 10_000;
/// How many intervals between builds tell how often they usually come.
const INTERVALS: usize = 10;
/// The shortest time, in seconds, after which a build can be overdue.
const LEAST_OVERDUE: i64 = 3_600;

/// Whether it still runs.
pub fn health(settings: &Settings, ledger: &dyn Ledger, session: &Session) -> Result<Health, Failure> {
    let now = session.now().as_second();
    let runs = ledger.runs(INTERVALS + 1)?;
    let mut intervals: Vec<i64> = runs.windows(2).map(|pair| pair[0].at - pair[1].at).collect();
    intervals.sort_unstable();
    let usual = (intervals.len() >= 3).then(|| intervals[intervals.len() / 2]);
    let since = runs.first().map(|last| now - last.at);
    let is_overdue = since.zip(usual).is_some_and(|(since, usual)| since > LEAST_OVERDUE.max(2 * usual));
    let mut engines = Vec::new();
    for engine in &settings.engines {
        let pending = all_pending(ledger, engine, &settings.names, ToAnnounce::Due, 1)?;
        engines.push(EngineHealth {
            name: engine.name.clone(),
            on: engine.on,
            retired: pending.is_retired,
            last_success: ledger.last_success(&engine.name)?,
            waiting: pending.count,
            left_alone: left_alone(ledger, &engine.name, now)?,
        });
    }
    Ok(Health { last_build: runs.first().map(|last| last.at), usual_interval: usual, is_overdue, engines })
}

/// Prints every remembered entry on a line of its own, streaming, however many there are. As JSON, one object per line.
fn entries(ledger: &dyn Ledger, screen: &Screen) -> Result<Exit, Failure> {
    let header = !screen.is_a_further_site();
    let mut out = csv::WriterBuilder::new().has_headers(header).from_writer(Vec::new());
    ledger::export(ledger, |entry| {
        if screen.wants_json() {
            let line = serde_json::to_string(&entry).map_err(|error| Failure::said(error.to_string()))?;
            return screen.print(&(line + "\n"));
        }
        out.serialize(&entry).map_err(|error| Failure::said(error.to_string()))?;
        if out.get_ref().len() > CHUNK { print(&mut out, screen) } else { Ok(()) }
    })?;
    print(&mut out, screen)?;
    Ok(Exit::Done)
}

/// How many bytes of a list are printed at once.
const CHUNK: usize = 1 << 16;

fn print(out: &mut csv::Writer<Vec<u8>>, screen: &Screen) -> Result<(), Failure> {
    let failed = |error: csv::Error| Failure::said(error.to_string());
    out.flush().map_err(|error| failed(error.into()))?;
    // The header is written once; the same writer continues with an empty buffer.
    let text = String::from_utf8_lossy(out.get_ref()).into_owned();
    let rest = csv::WriterBuilder::new().has_headers(false).from_writer(Vec::new());
    *out = rest;
    screen.print(&text)
}
