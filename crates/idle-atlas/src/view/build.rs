//! The output of `build`.

use std::path::Path;

use atlas_store::build::Recalled;
use atlas_store::consoles::ConsoleFiles;
use atlas_store::report::{Built, FileFate, RobotsFate, Survey};

use super::by_hand;
use super::found::{FEW, Shown};
use super::grid::Grid;
use super::preview::plain;
use crate::screen::{GOOD, Layout, STRONG, WARN, count, grouped, size};

/// The engines of a site.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Engines {
    /// None is configured.
    None,
    /// One of them has no key yet.
    WithoutKey,
    /// They are told next.
    ToldNow,
    /// All can be told; `waiting` tells whether one of them has not yet accepted everything from before.
    Ready { waiting: bool },
}

/// Which files of another tool are kept before they are overwritten. If the site has moved from them, only their dates
/// go on.
pub fn overwritten(kept: &[String], ledger: &Path, has_moved: bool) -> String {
    let (main, others) = kept.split_first().map_or(("", 0), |(main, others)| (main.as_str(), others.len() as u64));
    let (others, they) = match others {
        0 => (String::new(), "it knows"),
        _ => (format!(" and {} that it lists", count(others, "file", "files")), "they know"),
    };
    format!(
        "Kept the {main} of another tool{others} in {}. {} that only {they} are taken over.\n\n",
        ledger.join("overwritten").display(),
        if has_moved { "Dates" } else { "URLs and dates" }
    )
}

/// What was learnt from sitemaps because there was no ledger.
pub fn recalled(recalled: &Recalled) -> String {
    let passed_over = match &recalled.passed_over[..] {
        [] => String::new(),
        [first, rest @ ..] => format!(
            "; {first}{} does not look like a file of this tool, so its entries are placed anew",
            if rest.is_empty() { String::new() } else { format!(" and {} more", rest.len()) }
        ),
    };
    format!(
        "There is no ledger: the placement and dates of {} were learnt from {}{passed_over}.\n\n",
        count(recalled.entries, "entry", "entries"),
        count(recalled.files, "sitemap file", "sitemap files")
    )
}

/// The text of `build`; `elsewhere` is the address of the site's robots.txt if the sitemaps are on another host.
pub fn built(
    built: &Built,
    elsewhere: Option<&str>,
    (engines, consoles): (Engines, &[ConsoleFiles]),
    layout: &Layout,
) -> String {
    let survey = &built.survey;
    // After a change of configuration, or with --verbose, everything is shown.
    let last = built.last.as_ref().filter(|_| !layout.verbose);
    let shown = Shown { survey, last, layout };
    let files: usize = survey.sections.iter().map(|section| section.files.len()).sum();
    let failures = shown.failures();
    let mut out = if failures.is_empty() { failures } else { failures + "\n" };
    out += &format!(
        "{STRONG}Run {}: {} in {}{STRONG:#}; ",
        built.run,
        count(survey.entries(), "entry", "entries"),
        count(files as u64, "sitemap file", "sitemap files")
    );
    let changes = &survey.changes;
    let is_still = !changes.first
        && [&changes.added, &changes.changed, &changes.removed, &changes.left_out].iter().all(|one| one.count == 0);
    out += if is_still { "no entry changed, " } else { "" };
    out += &match built.written.len() {
        0 => format!("{GOOD}nothing to write{GOOD:#}.\n"),
        written => format!("{} written.\n", count(written as u64, "file", "files")),
    };
    out += &shown.increments();
    let news = [
        layout.host(),
        shown.source_remarks(),
        if changes.first && layout.brief { String::new() } else { shown.changes() },
        if changes.first { String::new() } else { written(built, layout) },
        shown.tables(),
        shown.as_before() + &shown.waiting(),
        shown.problems(),
        shown.notices(),
        shown.other_sitemaps(),
        if changes.first { written(built, layout) } else { String::new() },
    ];
    let mut news: String = news.into_iter().filter(|part| !part.is_empty()).map(ended).collect();
    if last.is_none_or(|last| !last.had_files(survey)) {
        news += &shown.submit();
        news += &children(survey, layout);
    }
    match elsewhere.filter(|_| survey.robots == RobotsFate::Unnamed) {
        Some(robots) if last.is_none() => {
            news += &format!(
                "\n{WARN}Sitemaps on another host count only if the site declares them:{WARN:#} put this line into {robots}\n  Sitemap: {}\n",
                survey.main
            );
        }
        Some(_) => {}
        None => news += &shown.undeclared(),
    }
    if let Some(before) = &built.moved_main {
        news += &format!(
            "\n{WARN}The main file is now {}.{WARN:#} For some days ([files] folded_days) its old address holds the same.\nIt was submitted somewhere, so redirect it for good: 301 {before} to {}, and submit the new one.\n",
            survey.main, survey.main
        );
    }
    let in_consoles = by_hand::after_a_build(consoles);
    if !in_consoles.is_empty() {
        news += &format!("\n{in_consoles}");
    }
    if is_still && built.written.is_empty() && last.is_some() {
        // For a night like any other, three lines.
        news = news.replace("\n\n", "\n");
    } else {
        out.push('\n');
    }
    out += &news;
    match next(built, engines) {
        Some(next) if !layout.brief => ended(out) + &layout.next(next),
        _ => out.trim_end_matches('\n').to_owned() + "\n",
    }
}

/// A part followed by an empty line.
fn ended(part: String) -> String {
    format!("{}\n\n", part.trim_end_matches('\n'))
}

/// The next step, if there is one.
fn next(built: &Built, engines: Engines) -> Option<&'static str> {
    match engines {
        Engines::ToldNow => None,
        Engines::WithoutKey if built.survey.changes.first => {
            Some("idle-atlas check, then idle-atlas announce --key-file")
        }
        // Users who have not made a key are not told so every night.
        Engines::WithoutKey if built.written.is_empty() && built.last.is_some() => None,
        Engines::WithoutKey => Some("idle-atlas announce --key-file"),
        Engines::Ready { .. } if built.survey.changes.first => Some("idle-atlas check, then idle-atlas announce --all"),
        Engines::Ready { waiting } if waiting || built.to_announce > 0 => Some("idle-atlas announce"),
        Engines::None if !built.written.is_empty() => Some("idle-atlas check"),
        Engines::None | Engines::Ready { .. } => None,
    }
}

/// What happened to the files.
fn written(built: &Built, layout: &Layout) -> String {
    let files = built.survey.sections.iter().flat_map(|section| &section.files);
    let touched: Vec<_> = files.filter(|file| file.fate != FileFate::Unchanged).collect();
    let shown = layout.shown(FEW);
    let mut out = String::new();
    if !touched.is_empty() && !built.survey.changes.first {
        for file in touched.iter().take(shown) {
            let fate = match file.fate {
                FileFate::New => "new",
                FileFate::Changed => "changed",
                FileFate::Restored => "restored",
                FileFate::Unchanged => "unchanged",
            };
            out += &format!("  {fate:<9} {}\n", layout.urls(&file.address));
        }
        if touched.len() > shown {
            out += &format!("  and {} more\n", grouped((touched.len() - shown) as u64));
        }
    }
    let extra_files: Vec<String> = built.extra_files().map(plain).collect();
    if !extra_files.is_empty() {
        let more = match extra_files.len().checked_sub(shown) {
            Some(more @ 1..) => format!(", and {} more", grouped(more as u64)),
            _ => String::new(),
        };
        let named: Vec<String> = extra_files.into_iter().take(shown).collect();
        out += &format!("  written   {}{more}\n", named.join(", "));
    }
    for name in &built.kept {
        out += &format!("  kept      {} of another tool, in the folder of the ledger: overwritten/\n", plain(name));
    }
    for name in &built.retired {
        out += &format!("  retired   {name} (left the index; stays on disk for engines that have the old one)\n");
    }
    for name in &built.removed {
        out += &format!("  removed   {}\n", plain(name));
    }
    out += match built.survey.robots {
        RobotsFate::Unnamed | RobotsFate::Unchanged | RobotsFate::Missing => "",
        RobotsFate::TakenOver => "  created   robots.txt: the live site's, with a Sitemap line of ours\n",
        RobotsFate::Created => "  created   robots.txt, with its Sitemap line\n",
        RobotsFate::Declared => "  declared  in robots.txt\n",
    };
    out
}

/// Each child file, for those who submit and count them one by one.
fn children(survey: &Survey, layout: &Layout) -> String {
    let files: Vec<_> = survey.sections.iter().flat_map(|section| &section.files).collect();
    if files.len() < 2 {
        return String::new();
    }
    let shown = layout.shown(20);
    let mut grid = Grid::new(&[">entries", "?>size", "file"]);
    for file in files.iter().take(shown) {
        grid.row([grouped(file.entries), size(file.bytes), layout.urls(&file.address).into_owned()]);
    }
    let more = match files.len().checked_sub(shown) {
        Some(more) if more > 0 => format!("  and {} more: --verbose or --json\n", grouped(more as u64)),
        _ => String::new(),
    };
    format!("or, to have each counted separately:\n\n{}{more}", grid.text(layout))
}
