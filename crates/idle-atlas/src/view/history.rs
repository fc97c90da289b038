//! The output of `history`.

use atlas_store::model::{Announced, RunRow, RunUrls};
use serde::Serialize;
use serde_json::Value;

use super::grid::Grid;
use crate::screen::{FAINT, Layout, STRONG, grouped, instant};

/// Runs and announcements, newest first.
#[derive(Debug, Serialize)]
pub struct Past {
    pub runs: Vec<RunRow>,
    pub announcements: Vec<Announced>,
}

/// The text of `history`.
pub fn past(past: &Past, layout: &Layout) -> String {
    if past.runs.is_empty() {
        return "Nothing has been built yet.\n\n".to_owned() + &layout.next("idle-atlas build");
    }
    let mut grid =
        Grid::new(&[">run", "when", ">entries", ">added", ">changed", ">removed", "?>left out", "?>files written"]);
    for row in &past.runs {
        let counts = row.counts;
        let numbers =
            [counts.entries, counts.added, counts.changed, counts.removed, counts.left_out, counts.files_written];
        grid.row(
            [
                vec![row.run.to_string(), instant(row.at, &layout.zone)],
                numbers.iter().map(|number| grouped(*number)).collect(),
            ]
            .concat(),
        );
    }
    let mut out = format!("{STRONG}Runs{STRONG:#}\n\n{}", grid.text(layout));
    out += &format!("\n{STRONG}Announcements{STRONG:#}\n\n");
    if past.announcements.is_empty() {
        out += "  none yet\n";
    } else {
        let mut grid = Grid::new(&["when", "engine", "?>up to run", ">URLs", "?>answer", "meaning"]);
        for one in &past.announcements {
            let status = one.status.map_or("–".to_owned(), |status| status.to_string());
            let cells = [
                instant(one.at, &layout.zone),
                one.engine.clone(),
                one.run.to_string(),
                grouped(one.urls),
                status,
                one.words.clone(),
            ];
            grid.row(cells);
        }
        out += &grid.text(layout);
    }
    out + &format!("\n{FAINT}One run in full: idle-atlas history RUN{FAINT:#}\n")
}

/// One run in full.
#[derive(Debug, Serialize)]
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
    let mut out = format!("{STRONG}Run {}{STRONG:#}, {}\n\n{}", row.run, instant(row.at, &layout.zone), layout.host());
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
