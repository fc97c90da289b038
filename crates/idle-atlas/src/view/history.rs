//! The output of `history`.

use atlas_store::model::{Announced, RunRow};
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

/// The text of `history RUN`.
pub fn one(row: &RunRow, report: &Value, layout: &Layout) -> String {
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
    if report.is_null() {
        return out + "\nMore is remembered only of the last 30 runs.\n";
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
    for (title, at) in
        [("Added", "added"), ("Changed", "changed"), ("Removed", "removed"), ("Now left out", "left_out")]
    {
        let examples = list(&report["changes"][at]["examples"]);
        let all = report["changes"][at]["count"].as_u64().unwrap_or(0);
        if !examples.is_empty() && !report["changes"]["first"].as_bool().unwrap_or(false) {
            out += &format!("\n{title}\n");
            out += &examples.iter().map(|url| format!("  {}\n", layout.urls(&text(url)))).collect::<String>();
            if all > examples.len() as u64 {
                out += &format!("  and {} more\n", grouped(all - examples.len() as u64));
            }
        }
    }
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
