//! The output of `check`.

use atlas_core::check::{FileSeen, Form, PagesVisited, Report};
use atlas_core::report::{Finding, Severity};

use super::found::blank_or;
use super::grid::Grid;
use crate::screen::{BAD, FAINT, GOOD, Layout, STRONG, WARN, count, grouped, size, took};

/// How many files are listed.
const FEW: usize = 20;
/// How many places of one kind are listed.
const FEW_PLACES: usize = 3;
/// Answers that took longer, in milliseconds, are worth a column.
const SLOW: u64 = 1_000;

/// What was checked.
pub struct Checked<'c> {
    pub report: &'c Report,
    /// Where it is.
    pub place: String,
    pub notes: Vec<String>,
    pub layout: &'c Layout,
}

/// The text of `check`.
pub fn check(checked: &Checked<'_>) -> String {
    let Checked { report, place, notes, layout } = checked;
    let mut out = heading(report, place, layout);
    if let Some(pages) = &report.pages {
        out += &visited(pages);
    }
    for note in notes {
        out += &format!("{}\n", layout.urls(note));
    }
    out += if layout.brief { "" } else { "\n" };
    out += &layout.host();
    if !report.files.is_empty() && !layout.brief {
        out += &files(&report.files, layout);
    }
    out += &accepted(report);
    if report.findings.is_empty() {
        return out
            + &match report.files.is_empty() {
                true => format!("{WARN}There is no sitemap{WARN:#}, and nothing else is wrong.\n"),
                false => format!("{GOOD}Nothing is wrong{GOOD:#}: an engine can read everything.\n"),
            };
    }
    out + &end(report, layout)
}

/// The text of `check --content`; `read` is the number of pages that were read, `listed` that of all entries.
pub fn content(report: &Report, (read, listed): (u64, u64), layout: &Layout) -> String {
    let mut out = format!("{STRONG}Read {}{STRONG:#} that are listed.\n", count(read, "page", "pages"));
    if read < listed {
        out += &format!(
            "Of {}, only title and description are known: no source has read {}.\n",
            count(listed - read, "entry", "entries"),
            if listed - read == 1 { "its page" } else { "their pages" }
        );
    }
    out += "\n";
    out += &layout.host();
    out += &accepted(report);
    match report.findings.is_empty() {
        true if read == 0 => {
            out + "To get advice about pages, let a source read them: html for a folder of pages, crawl for a live site.\n"
        }
        true => out + &format!("{GOOD}There is nothing to advise.{GOOD:#}\n"),
        false => out + &end(report, layout),
    }
}

/// How many findings are not shown.
fn accepted(report: &Report) -> String {
    match report.accepted {
        0 => String::new(),
        known => {
            format!("{FAINT}{} not shown, because accepted.{FAINT:#}\n\n", count(known, "finding is", "findings are"))
        }
    }
}

/// The findings, their number, and the next step.
fn end(report: &Report, layout: &Layout) -> String {
    let mut out = findings(report, layout);
    let number = |severity| report.counts.get(&severity).copied().unwrap_or(0);
    out += &format!(
        "{}, {}, {}.\n",
        count(number(Severity::Error), "error", "errors"),
        count(number(Severity::Warning), "warning", "warnings"),
        count(number(Severity::Advice), "piece of advice", "pieces of advice"),
    );
    let worst = report.findings.first().map_or("CODE", |finding| finding.code);
    out + &layout.next(&format!("idle-atlas check --explain {worst} says more about one kind"))
}

fn heading(report: &Report, place: &str, layout: &Layout) -> String {
    let urls: u64 = report.files.iter().filter(|file| !file.is_index()).map(|file| file.entries).sum();
    let files = count(report.files.len() as u64, "sitemap file", "sitemap files");
    format!("{STRONG}Read {files} with {}{STRONG:#} in {}.\n", count(urls, "entry", "entries"), layout.urls(place))
}

/// How many pages were visited.
fn visited(pages: &PagesVisited) -> String {
    let media = match pages.media {
        0 => String::new(),
        media => format!(", and {}", count(media, "picture or video", "pictures and videos")),
    };
    let of_all = if pages.visited == pages.wanted {
        count(pages.visited, "listed page", "listed pages")
    } else {
        format!("{} of {}", grouped(pages.visited), count(pages.wanted, "page", "pages"))
    };
    let mut out = format!("Visited {of_all} on the live site{media}.\n");
    if pages.interrupted {
        out += &format!("{WARN}Interrupted{WARN:#}: what follows is what was found so far.\n");
    }
    if pages.not_allowed > 0 {
        out += &format!(
            "{} not visited, because robots.txt forbids it to idle-atlas.\n",
            count(pages.not_allowed, "page was", "pages were")
        );
    }
    out
}

fn files(files: &[FileSeen], layout: &Layout) -> String {
    let mut grid = Grid::new(&[">entries", "?>pictures", "?>videos", "?>news", "?>size", "?>took", "file"]);
    let shown = layout.shown(FEW);
    for file in files.iter().take(shown) {
        let kind = match file.form {
            Form::Urlset => "",
            Form::Index => " (index)",
            Form::Text => " (text)",
            Form::Rss => " (RSS)",
            Form::Atom => " (Atom)",
        };
        grid.row([
            grouped(file.entries),
            blank_or(file.images),
            blank_or(file.videos),
            blank_or(file.news),
            size(file.bytes),
            file.milliseconds.filter(|took| *took >= SLOW).map_or("–".to_owned(), took),
            format!("{}{kind}", layout.urls(&file.address)),
        ]);
    }
    let mut out = grid.without_blank_columns().text(layout);
    if files.len() > shown {
        out += &format!("  and {} more: --verbose\n", grouped((files.len() - shown) as u64));
    }
    out + "\n"
}

/// The findings by code: what to do, and the first places.
fn findings(report: &Report, layout: &Layout) -> String {
    let mut out = String::new();
    for kind in report.findings.chunk_by(|one, next| one.code == next.code) {
        let Some(first) = kind.first() else { continue };
        let number = kind.len() as u64 + report.more.get(first.code).copied().unwrap_or(0);
        let style = match first.severity {
            Severity::Error => BAD,
            Severity::Warning => WARN,
            Severity::Advice => FAINT,
        };
        out += &format!("{style}{}{style:#} {}", first.severity, first.code);
        out += &if number > 1 { format!(", {} places\n", grouped(number)) } else { "\n".to_owned() };
        let mut mends: Vec<&str> = kind.iter().map(|finding| finding.mend).collect();
        mends.dedup();
        let shown = layout.shown(FEW_PLACES);
        for finding in kind.iter().take(shown) {
            out += &at(finding, layout);
        }
        let rest = number - kind.len().min(shown) as u64;
        if rest > 0 {
            out += &format!("    and {} more: --verbose\n", grouped(rest));
        }
        for mend in mends.iter().take(2) {
            out += &format!("  {FAINT}{mend}{FAINT:#}\n");
        }
        out.push('\n');
    }
    out
}

/// One place: what is wrong, and where.
fn at(finding: &Finding, layout: &Layout) -> String {
    let line = finding.line.map_or(String::new(), |line| format!(" line {line}"));
    let what = layout.urls(&finding.what);
    match (&finding.url, &finding.file) {
        (Some(url), Some(file)) => {
            format!("    {}: {what}\n      {FAINT}{}{line}{FAINT:#}\n", layout.urls(url), layout.urls(file))
        }
        (Some(about), None) | (None, Some(about)) => format!("    {}{line}: {what}\n", layout.urls(about)),
        (None, None) => format!("    {what}\n"),
    }
}
