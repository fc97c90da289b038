//! The output of `survey`.

use std::path::Path;

use atlas_core::report::Counted;
use atlas_store::report::{FileFate, MoveReport, Survey};
use serde::Serialize;

use super::found::{Shown, blank_or};
use super::grid::Grid;
use super::guard;
use crate::screen::{Layout, STRONG, WARN, count, grouped};

/// The text of `survey`.
pub fn survey(survey: &Survey, layout: &Layout) -> String {
    let shown = Shown { survey, last: None, layout };
    let left_out: u64 = survey.left_out.iter().map(|left_out| left_out.counted.count).sum();
    let failures = shown.failures();
    let mut out = if failures.is_empty() { failures } else { failures + "\n" };
    out += &format!(
        "{STRONG}{} would be listed{STRONG:#}, {} left out. Nothing has been written.\n\n{}",
        count(survey.entries(), "entry", "entries"),
        grouped(left_out),
        layout.host()
    );
    if !layout.brief {
        out += &sources(&shown);
    }
    if !survey.changes.first {
        out += &shown.changes();
    }
    out += &survey.moved.as_ref().map(|moved| move_report(moved, layout) + "\n").unwrap_or_default();
    out += &(shown.tables() + &shown.waiting() + &shown.problems() + &shown.notices() + &shown.other_sitemaps());
    out += &shown.undeclared();
    for held in &survey.held {
        out += &format!("{WARN}A build would be held back ({}):{WARN:#} {}\n\n", held.guard.code(), guard::held(held));
    }
    if survey.entries() > 0 {
        out += &shown.submit();
    }
    if survey.held.is_empty() && has_to_be_built(survey) {
        out += "\n";
        out += &layout.next("idle-atlas build");
    }
    out.replace("\n\n\n", "\n\n").trim_end_matches('\n').to_owned() + "\n"
}

/// Whether a build would write anything.
fn has_to_be_built(survey: &Survey) -> bool {
    let mut files = survey.sections.iter().flat_map(|section| &section.files);
    let changes = &survey.changes;
    changes.first
        || files.any(|file| file.fate != FileFate::Unchanged)
        || changes.removed.count + changes.left_out.count > 0
}

fn sources(shown: &Shown<'_>) -> String {
    let mut grid = Grid::new(&["source", ">rows", ">listed", ">left out", "?>unchanged", ">not read"]);
    for source in &shown.survey.sources {
        let outcome = &source.outcome;
        let numbers = [outcome.rows, source.kept, source.left_out, outcome.unchanged_files, outcome.passed_over];
        grid.row([vec![outcome.name.clone()], numbers.map(blank_or).to_vec()].concat());
    }
    grid.text(shown.layout) + &shown.source_remarks() + "\n"
}

/// The comparison with the sitemap from which the site has moved.
pub fn move_report(moved: &MoveReport, layout: &Layout) -> String {
    let mut grid = Grid::new(&["compared with the old sitemap", ">URLs", "such as"]);
    let mut row = |words: &str, counted: &Counted| {
        let example = counted.examples.first().map_or(String::new(), |example| {
            let (url, detail) =
                example.split_once('\n').map_or((example.as_str(), None), |(url, detail)| (url, Some(detail)));
            let detail = detail.map_or(String::new(), |detail| format!(" ({detail})"));
            format!("{}{detail}", layout.urls(url))
        });
        if counted.count > 0 {
            grid.row(vec![words.to_owned(), grouped(counted.count), example]);
        }
    };
    row("in both", &Counted { count: moved.both, examples: Vec::new() });
    row("in both, with another date", &moved.other_date);
    row("only in the old one", &moved.only_old);
    row("only in the new one", &moved.only_new);
    row("in the old one, left out now", &moved.left_out);
    let mut out = grid.text(layout);
    if moved.only_old.count > 0 {
        out += "\nWorth a look: idle-atlas survey --list --reason only-before-move\n";
    }
    out
}

/// What was added to the file of known findings.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct Accepting {
    pub file: String,
    pub lines: Vec<String>,
}

/// The text of `survey --accept`.
pub fn accepting(accepting: &Accepting, file: &Path, layout: &Layout) -> String {
    if accepting.lines.is_empty() {
        return format!("{} says so already.\n", file.display());
    }
    let lines: String = accepting.lines.iter().map(|line| format!("  {line}\n")).collect();
    format!(
        "Added to {}; remove a line to see its remarks again:\n{lines}\n{}",
        file.display(),
        layout.next("idle-atlas survey")
    )
}
