//! The summary after a command has run for several sites.

use super::grid::Grid;
use std::path::PathBuf;
use std::time::Duration;

use serde_json::Value;

use crate::exit::Exit;
use crate::screen::{Layout, STRONG, count, grouped};

/// The result for one site.
pub struct SiteResult {
    pub config: PathBuf,
    pub site: Option<String>,
    pub exit: Exit,
    /// Counts, by name.
    pub counts: Vec<(&'static str, u64)>,
    pub result: Value,
    /// The error, if it failed.
    pub error: Option<String>,
}

/// One row per site.
pub fn table(told: &[SiteResult], layout: &Layout) -> String {
    let names: Vec<&str> = told
        .iter()
        .map(|one| &one.counts)
        .max_by_key(|counts| counts.len())
        .map_or_else(Vec::new, |counts| counts.iter().map(|(name, _)| *name).collect());
    let numbers: Vec<String> = names.iter().map(|name| format!(">{name}")).collect();
    let header: Vec<&str> = ["site", "ended"].into_iter().chain(numbers.iter().map(String::as_str)).collect();
    let mut grid = Grid::new(&header);
    for one in told {
        let site = one.site.clone().unwrap_or_else(|| one.config.display().to_string());
        let number = |name: &&str| {
            let known = one.counts.iter().find(|(known, _)| known == name);
            known.map_or("–".to_owned(), |(_, number)| grouped(*number))
        };
        grid.row([site, word(one.exit).to_owned()].into_iter().chain(names.iter().map(number)));
    }
    format!("{STRONG}{}{STRONG:#}\n\n{}", count(told.len() as u64, "site", "sites"), grid.text(layout))
}

/// The line of a site that has ended, after this time.
pub fn line(one: &SiteResult, took: Duration) -> String {
    let site = one.site.clone().unwrap_or_else(|| "not read".to_owned());
    let counts = one.counts.iter().filter(|(_, number)| *number > 0);
    let counts: Vec<String> = counts.map(|(name, number)| format!("{name} {}", grouped(*number))).collect();
    let counts = if counts.is_empty() { String::new() } else { format!(": {}", counts.join(", ")) };
    format!("{:>7.2} s  {:12}  {site} ({}){counts}\n", took.as_secs_f64(), word(one.exit), one.config.display())
}

fn word(exit: Exit) -> &'static str {
    match exit {
        Exit::Done => "done",
        Exit::InPart => "done in part",
        Exit::NotDone => "not done",
        Exit::Held => "held back",
        Exit::Interrupted => "stopped",
    }
}
