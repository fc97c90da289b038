//! What `check` shows.

use std::path::Path;

use atlas_core::finding::Severity;
use atlas_core::inspect::Report;

use super::grid::Grid;
use super::words::{count, grouped, size};
use crate::screen::{BAD, FAINT, GOOD, STRONG, WARN};

/// How many files are listed.
const FEW: usize = 20;

/// The text of `check`.
pub fn check(report: &Report, folder: &Path) -> String {
    let urls: u64 = report.files.iter().filter(|file| !file.is_index).map(|file| file.entries).sum();
    let mut out = format!(
        "{STRONG}Read {} with {}{STRONG:#} in {}, starting at robots.txt.\n\n",
        count(report.files.len() as u64, "sitemap file", "sitemap files"),
        count(urls, "URL", "URLs"),
        folder.display()
    );
    if !report.files.is_empty() {
        let mut grid = Grid::new(&[">entries", ">pictures", ">videos", ">size", "file"]);
        for file in report.files.iter().take(FEW) {
            let kind = if file.is_index { " (index)" } else { "" };
            let blank = |number: u64| if number == 0 { "–".to_owned() } else { grouped(number) };
            grid.row([
                grouped(file.entries),
                blank(file.images),
                blank(file.videos),
                size(file.bytes),
                format!("{}{kind}", file.address),
            ]);
        }
        out += &grid.text();
        if report.files.len() > FEW {
            out += &format!("  and {} more: --json\n", grouped((report.files.len() - FEW) as u64));
        }
        out.push('\n');
    }
    if report.findings.is_empty() {
        return out + &format!("{GOOD}Nothing is wrong{GOOD:#}: an engine can read it all.\n");
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
        out += &format!("  {}{line}\n  {}\n  {FAINT}{}{FAINT:#}\n\n", finding.file, finding.message, finding.mend);
    }
    let number = |wanted: Severity| report.findings.iter().filter(|finding| finding.severity == wanted).count() as u64;
    out + &format!(
        "{}, {}, {} of advice.\n",
        count(number(Severity::Error), "error", "errors"),
        count(number(Severity::Warning), "warning", "warnings"),
        count(number(Severity::Advice), "piece", "pieces"),
    )
}
