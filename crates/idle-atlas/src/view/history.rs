//! The output of `history`.

use atlas_core::announce::LeftAlone;
use atlas_core::rfc3339;
use atlas_store::model::{Announced, AttemptEnd, AttemptRow, RunRow, RunUrls, StartedBy};
use serde::Serialize;
use serde_json::Value;

use super::grid::Grid;
use crate::screen::{FAINT, Layout, STRONG, WARN, count, grouped, instant, size, took};

/// Runs and announcements, newest first.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct Past {
    pub health: Health,
    /// The section that the runs are about, if only some are wanted. Attempts and announcements are about no section.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub section: Option<String>,
    pub runs: Vec<RunRow>,
    /// Builds that did not go through.
    pub attempts: Vec<AttemptRow>,
    pub announcements: Vec<Announced>,
}

/// Whether it still runs.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct Health {
    /// When the last build went through, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[schemars(with = "Option<String>")]
    pub last_build: Option<i64>,
    /// The usual time between two builds, in seconds, if there were enough of them.
    pub usual_interval: Option<i64>,
    /// Whether the last build is much longer ago than that.
    pub is_overdue: bool,
    pub engines: Vec<EngineHealth>,
}

/// The state of an engine.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct EngineHealth {
    pub name: String,
    pub on: bool,
    pub retired: bool,
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[schemars(with = "Option<String>")]
    pub last_success: Option<i64>,
    /// The URLs or files that it has still to be told of.
    pub waiting: u64,
    /// Until when it is left alone, because it asked for that or failed.
    pub left_alone: Option<LeftAlone>,
}

/// How often something happens, in the largest unit that fits: `every hour`, `every 3 days`.
fn every(seconds: i64) -> String {
    let seconds = seconds.max(1) as u64;
    let rounded = |unit: u64| (seconds + unit / 2) / unit;
    let (number, one, many) = match seconds {
        0..90 => (seconds, "second", "seconds"),
        90..5_400 => (rounded(60), "minute", "minutes"),
        5_400..72_000 => (rounded(3_600), "hour", "hours"),
        _ => (rounded(86_400), "day", "days"),
    };
    if number == 1 { format!("every {one}") } else { format!("every {}", count(number, one, many)) }
}

/// The first lines: whether it still runs, and what waits.
fn health(past: &Past, layout: &Layout) -> String {
    let Health { last_build, usual_interval, is_overdue, engines } = &past.health;
    let mut grid = Grid::new(&["", "", ""]);
    if let Some(at) = last_build {
        let usual = usual_interval.map(|usual| format!("usually {}", every(usual))).unwrap_or_default();
        let note = if *is_overdue { format!("{WARN}overdue{WARN:#}: {usual}") } else { usual };
        grid.row(["last build".to_owned(), instant(*at, &layout.zone), note]);
    }
    if let Some(attempt) = past.attempts.first().filter(|attempt| last_build.is_none_or(|at| attempt.at >= at)) {
        let ended = match attempt.ended {
            AttemptEnd::Held => "held back",
            AttemptEnd::Failed => "failed",
            AttemptEnd::Stopped => "stopped",
        };
        let what = format!("{WARN}{ended}{WARN:#}: {}", attempt.reason.lines().next().unwrap_or_default());
        grid.row(["last attempt".to_owned(), instant(attempt.at, &layout.zone), what]);
    }
    for engine in engines {
        let never = if engine.on && !engine.retired { "not told yet" } else { "–" };
        let told = engine.last_success.map_or(never.to_owned(), |at| instant(at, &layout.zone));
        let state = match engine {
            EngineHealth { on: false, .. } => "switched off".to_owned(),
            EngineHealth { retired: true, .. } => "has given up being told".to_owned(),
            EngineHealth { waiting: 0, .. } => "knows about every change".to_owned(),
            EngineHealth { waiting, left_alone, .. } => {
                let until = left_alone.map(|alone| format!(" until {} at least", instant(alone.until, &layout.zone)));
                let (one, many) = ("announcement waits", "announcements wait");
                format!("{}{}", count(*waiting, one, many), until.unwrap_or_default())
            }
        };
        grid.row([engine.name.clone(), told, state]);
    }
    grid.text(layout) + "\n"
}

/// What started a run, in words.
fn started(by: StartedBy) -> &'static str {
    match by {
        StartedBy::Hand => "by hand",
        StartedBy::Watch => "by watch",
        StartedBy::Timer => "by a timer",
        StartedBy::Unit => "by a unit",
        StartedBy::Program => "by a program",
    }
}

/// The text of `history`.
pub fn past(past: &Past, layout: &Layout) -> String {
    if past.runs.is_empty() {
        return "Nothing has been built yet.\n\n".to_owned() + &layout.next("idle-atlas build");
    }
    let mut grid = Grid::new(&[
        ">run",
        "when",
        "?>took",
        ">entries",
        ">added",
        ">changed",
        ">removed",
        "?>files",
        "?>written",
        "?>size",
        "?>warnings",
        "?started",
    ]);
    for row in &past.runs {
        let counts = row.counts;
        let started = started(row.started_by);
        grid.row([
            row.run.to_string(),
            instant(row.at, &layout.zone),
            took(row.took_ms),
            grouped(counts.entries),
            grouped(counts.added),
            grouped(counts.changed),
            grouped(counts.removed),
            grouped(counts.files),
            grouped(counts.files_written),
            size(counts.bytes),
            grouped(counts.warnings),
            started.to_owned(),
        ]);
    }
    let mut out = health(past, layout);
    out += &format!("{STRONG}Runs{STRONG:#}\n\n{}", grid.text(layout));
    if !past.attempts.is_empty() {
        let mut grid = Grid::new(&["when", "", "because"]);
        for attempt in &past.attempts {
            let because = attempt.reason.lines().next().unwrap_or_default();
            grid.row([&instant(attempt.at, &layout.zone), attempt.ended.as_str(), because]);
        }
        out += &format!("\n{STRONG}Builds that did not go through{STRONG:#}\n\n{}", grid.text(layout));
    }
    let next = format!("\n{FAINT}One run in full: idle-atlas history RUN{FAINT:#}\n");
    if past.section.is_some() {
        return out + &next;
    }
    out += &format!("\n{STRONG}Announcements{STRONG:#}\n\n");
    if past.announcements.is_empty() {
        out += "  none yet\n";
    } else {
        let mut grid = Grid::new(&["when", "engine", "?>up to run", ">URLs", "?>answer", "meaning"]);
        // Calls for single URLs are many messages with one answer.
        let alike = |one: &Announced, next: &Announced| {
            (&one.engine, one.at, one.status, &one.words) == (&next.engine, next.at, next.status, &next.words)
        };
        for some in past.announcements.chunk_by(alike) {
            let one = &some[0];
            let status = one.status.map_or("–".to_owned(), |status| status.to_string());
            let cells = [
                instant(one.at, &layout.zone),
                one.engine.clone(),
                some.iter().map(|one| one.run).max().unwrap_or_default().to_string(),
                grouped(some.iter().map(|one| one.urls).sum()),
                status,
                one.words.clone(),
            ];
            grid.row(cells);
        }
        out += &grid.text(layout);
    }
    out + &next
}

/// One run in full.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct PastRun {
    #[serde(flatten)]
    pub row: RunRow,
    /// The URLs that came, changed and went.
    pub urls: RunUrls,
    /// What the build printed; null if it is no longer remembered.
    pub report: Value,
}

/// The text of `history RUN`.
pub fn one(run: &PastRun, layout: &Layout) -> String {
    let PastRun { row, urls, report } = run;
    let counts = row.counts;
    let files = match row.gzip.as_str() {
        "beside" => "files with compressed copies beside them",
        "only" => "compressed files only",
        _ => "files that are not compressed",
    };
    let (at, by) = (instant(row.at, &layout.zone), started(row.started_by));
    let took = took(row.took_ms);
    let mut out =
        format!("{STRONG}Run {}{STRONG:#}, {at}, started {by}, took {took}; {files}\n\n{}", row.run, layout.host());
    let mut grid = Grid::new(&["", ">number"]);
    for (name, number) in [
        ("entries", counts.entries),
        ("added", counts.added),
        ("changed", counts.changed),
        ("removed", counts.removed),
        ("left out", counts.left_out),
        ("files written", counts.files_written),
    ] {
        grid.row([name.to_owned(), grouped(number)]);
    }
    out += &grid.text(layout);
    let left_out = report["changes"]["left_out"]["count"].as_u64().unwrap_or(urls.left_out.len() as u64);
    for (title, urls, all) in [
        ("Added", &urls.added, counts.added),
        ("Changed", &urls.changed, counts.changed),
        ("Removed", &urls.removed, counts.removed),
        ("Left out from now on", &urls.left_out, left_out),
    ] {
        out += &some_urls(title, urls, all, layout);
    }
    if report.is_null() {
        return out + "\nThe files and reasons are remembered only of the last 30 runs.\n";
    }
    let text = |value: &Value| value.as_str().unwrap_or("").to_owned();
    let list = |value: &Value| value.as_array().cloned().unwrap_or_default();
    let mut grid = Grid::new(&["section", ">entries", "file", "fate"]);
    for section in list(&report["sections"]) {
        for file in list(&section["files"]) {
            let entries = grouped(file["entries"].as_u64().unwrap_or(0));
            grid.row([
                text(&section["name"]),
                entries,
                layout.urls(&text(&file["address"])).into_owned(),
                text(&file["fate"]),
            ]);
        }
    }
    out += &format!("\n{}", grid.text(layout));
    let mut grid = Grid::new(&[">left out", "because"]);
    let left_out = list(&report["left_out"]);
    for one in &left_out {
        grid.row([grouped(one["count"].as_u64().unwrap_or(0)), text(&one["words"])]);
    }
    if !left_out.is_empty() {
        out += &format!("\n{}", grid.text(layout));
    }
    out
}

/// How many URLs of each kind are shown without `--verbose`.
const MOST_SHOWN: usize = 10;

/// A list of URLs with a title; `all` is their number, of which some may not be remembered.
fn some_urls(title: &str, urls: &[String], all: u64, layout: &Layout) -> String {
    if urls.is_empty() {
        return String::new();
    }
    let shown = if layout.verbose { urls.len() } else { urls.len().min(MOST_SHOWN) };
    let mut out = format!("\n{title}\n");
    out += &urls[..shown].iter().map(|url| format!("  {}\n", layout.urls(url))).collect::<String>();
    if shown < urls.len() {
        out += &format!("  and {} more: --verbose\n", grouped((urls.len() - shown) as u64));
    }
    if all > urls.len() as u64 {
        out += &format!(
            "  {FAINT}The first {} of {} are remembered.{FAINT:#}\n",
            grouped(urls.len() as u64),
            grouped(all)
        );
    }
    out
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(1, "every second")]
    #[case(600, "every 10 minutes")]
    #[case(3_500, "every 58 minutes")]
    #[case(21_700, "every 6 hours")]
    #[case(86_100, "every day")]
    #[case(604_000, "every 7 days")]
    fn how_often(#[case] seconds: i64, #[case] wanted: &str) {
        assert_eq!(every(seconds), wanted);
    }
}
