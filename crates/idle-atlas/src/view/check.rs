//! The output of `check`.

use std::path::Path;

use atlas_core::check::Report;
use atlas_core::report::Severity;

use super::found::blank_or;
use super::grid::Grid;
use crate::screen::{BAD, FAINT, GOOD, Layout, STRONG, WARN, count, grouped, size};

/// How many files are listed.
const FEW: usize = 20;

/// The text of `check`.
pub fn check(report: &Report, folder: &Path, accepted: u64, layout: &Layout) -> String {
    let urls: u64 = report.files.iter().filter(|file| !file.is_index).map(|file| file.entries).sum();
    let mut out = format!(
        "{STRONG}Read {} with {}{STRONG:#} in {}, starting at robots.txt.\n{}",
        count(report.files.len() as u64, "sitemap file", "sitemap files"),
        count(urls, "entry", "entries"),
        folder.display(),
        if layout.brief { "" } else { "\n" },
    );
    out += &layout.host();
    if !report.files.is_empty() && !layout.brief {
        let mut grid = Grid::new(&[">entries", "?>pictures", "?>videos", "?>size", "file"]);
        let shown = layout.shown(FEW);
        for file in report.files.iter().take(shown) {
            let kind = if file.is_index { " (index)" } else { "" };
            grid.row([
                grouped(file.entries),
                blank_or(file.images),
                blank_or(file.videos),
                size(file.bytes),
                format!("{}{kind}", layout.urls(&file.address)),
            ]);
        }
        out += &grid.text(layout);
        if report.files.len() > shown {
            out += &format!("  and {} more: --verbose\n", grouped((report.files.len() - shown) as u64));
        }
        out.push('\n');
    }
    if accepted > 0 {
        out += &format!(
            "{FAINT}{} not shown, because accepted.{FAINT:#}\n\n",
            count(accepted, "finding is", "findings are")
        );
    }
    if report.findings.is_empty() {
        return out + &format!("{GOOD}Nothing is wrong{GOOD:#}: an engine can read everything.\n");
    }
    for finding in &report.findings {
        let (style, word) = match finding.severity {
            Severity::Error => (BAD, "error"),
            Severity::Warning => (WARN, "warning"),
            Severity::Advice => (FAINT, "advice"),
        };
        let line = finding.line.map_or(String::new(), |line| format!(" line {line}"));
        let often =
            if finding.count > 1 { format!(", {} times in this file", grouped(finding.count)) } else { String::new() };
        out += &format!("{style}{word}{style:#} {}{often}\n", finding.code);
        out += &format!(
            "  {}{line}\n  {}\n  {FAINT}{}{FAINT:#}\n\n",
            layout.urls(&finding.file),
            layout.urls(&finding.message),
            finding.mend
        );
    }
    let number = |wanted: Severity| report.findings.iter().filter(|finding| finding.severity == wanted).count() as u64;
    out + &format!(
        "{}, {}, {}.\n",
        count(number(Severity::Error), "error", "errors"),
        count(number(Severity::Warning), "warning", "warnings"),
        count(number(Severity::Advice), "piece of advice", "pieces of advice"),
    )
}
