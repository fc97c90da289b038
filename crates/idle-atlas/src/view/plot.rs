//! Plots in the terminal: columns of blocks, or of letters where blocks cannot be shown.

use atlas_store::model::{Announced, RunRow};
use jiff::tz::TimeZone;
use serde::Serialize;

use crate::screen::{FAINT, Layout, STRONG, count, grouped, instant};

/// The heights of a cell in eighths.
const BLOCKS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
/// The same where only ASCII can be shown.
const LETTERS: [char; 9] = [' ', '.', '.', ':', ':', '|', '|', '#', '#'];
/// How many columns a plot has at most.
const MOST_COLUMNS: usize = 96;
/// The room for the labels at its left.
const LABEL: usize = 12;

/// What happened over time, oldest first.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct Timeline {
    pub runs: Vec<RunRow>,
    pub announcements: Vec<Announced>,
}

/// Whether the terminal shows more than ASCII, by the usual variables of the environment.
pub fn shows_blocks() -> bool {
    let set = ["LC_ALL", "LC_CTYPE", "LANG"]
        .into_iter()
        .find_map(|name| std::env::var(name).ok().filter(|value| !value.is_empty()));
    set.is_none_or(|locale| {
        let locale = locale.to_lowercase();
        locale.contains("utf-8") || locale.contains("utf8")
    })
}

/// Entries, changes and announcements over time.
pub fn timeline(timeline: &Timeline, blocks: bool, layout: &Layout) -> String {
    let Timeline { runs, announcements } = timeline;
    let (Some(first), Some(last)) = (runs.first(), runs.last()) else {
        return "Nothing has been built yet.\n".to_owned();
    };
    let end = announcements.iter().map(|one| one.at).chain([last.at]).max().unwrap_or(last.at);
    let columns = layout.width.unwrap_or(MOST_COLUMNS + LABEL + 2).saturating_sub(LABEL + 2).clamp(10, MOST_COLUMNS);
    let axis = Axis { first: first.at, last: end, columns };
    let entries: Vec<(i64, u64)> = runs.iter().map(|run| (run.at, run.counts.entries)).collect();
    // The first build brings everything; beside it nothing else would be seen.
    let is_baseline = |run: &&RunRow| run.run > 1 || runs.len() == 1;
    let changed = runs.iter().filter(is_baseline).map(|run| {
        let counts = run.counts;
        (run.at, counts.added + counts.changed + counts.removed)
    });
    let changed: Vec<(i64, u64)> = changed.collect();
    let told: Vec<(i64, u64)> = announcements.iter().map(|one| (one.at, one.urls)).collect();
    let sum = |values: &[(i64, u64)]| values.iter().map(|(_, value)| value).sum::<u64>();
    let mut out = String::new();
    let draw = |columns: &[u64], rows: usize| plot(columns, rows, blocks);
    out += &titled("Entries", &format!("now {}", grouped(last.counts.entries)));
    out += &draw(&axis.levels(&entries), 6);
    out += &axis.days(&layout.zone);
    let builds = count(runs.len() as u64, "build", "builds");
    out += &titled("Added, changed and removed", &format!("{} in {builds}", grouped(sum(&changed))));
    out += &draw(&axis.sums(&changed), 4);
    out += &axis.days(&layout.zone);
    if told.is_empty() {
        out += &titled("Announcements", "none yet");
    } else {
        out += &titled("URLs announced", &grouped(sum(&told)));
        out += &draw(&axis.sums(&told), 4);
        out += &axis.days(&layout.zone);
    }
    out.trim_matches('\n').to_owned() + &format!("\n\n{FAINT}The numbers: idle-atlas history{FAINT:#}\n")
}

fn titled(title: &str, note: &str) -> String {
    format!("\n{STRONG}{title}{STRONG:#}  {FAINT}{note}{FAINT:#}\n\n")
}

/// The time from left to right.
struct Axis {
    first: i64,
    last: i64,
    columns: usize,
}

impl Axis {
    fn column(&self, at: i64) -> usize {
        let span = (self.last - self.first).max(1) as f64;
        let share = (at - self.first).max(0) as f64 / span;
        ((share * (self.columns - 1) as f64).round() as usize).min(self.columns - 1)
    }

    /// The last value in each column; it lasts until the next.
    fn levels(&self, values: &[(i64, u64)]) -> Vec<u64> {
        let mut levels = vec![None; self.columns];
        values.iter().for_each(|(at, value)| levels[self.column(*at)] = Some(*value));
        let mut known = 0;
        let lasting = levels.into_iter().map(|level| {
            known = level.unwrap_or(known);
            known
        });
        lasting.collect()
    }

    /// The sum of the values in each column.
    fn sums(&self, values: &[(i64, u64)]) -> Vec<u64> {
        let mut sums = vec![0; self.columns];
        values.iter().for_each(|(at, value)| sums[self.column(*at)] += value);
        sums
    }

    /// The first and the last day below a plot.
    fn days(&self, zone: &TimeZone) -> String {
        let day = |at: i64| instant(at, zone).chars().take(10).collect::<String>();
        let (first, last) = (day(self.first), day(self.last));
        let gap = self.columns.saturating_sub(first.len() + last.len()).max(1);
        format!("{:LABEL$}  {FAINT}{first}{:gap$}{last}{FAINT:#}\n", "", "")
    }
}

/// Columns of blocks, with the greatest value and 0 at the left.
fn plot(columns: &[u64], rows: usize, blocks: bool) -> String {
    let top = columns.iter().copied().max().unwrap_or(0).max(1);
    let cells = if blocks { BLOCKS } else { LETTERS };
    let eighths = |value: u64| ((value as f64 / top as f64) * (rows * 8) as f64).ceil() as usize;
    let mut out = String::new();
    for row in (0..rows).rev() {
        let label = match row {
            row if row + 1 == rows => grouped(top),
            0 => "0".to_owned(),
            _ => String::new(),
        };
        let line: String = columns.iter().map(|value| cells[eighths(*value).saturating_sub(row * 8).min(8)]).collect();
        out += &format!("{FAINT}{label:>LABEL$}{FAINT:#}  {}\n", line.trim_end());
    }
    out
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn bare(text: &str) -> String {
        anstream::adapter::strip_str(text).to_string()
    }

    #[test]
    fn heights_follow_values() {
        assert_eq!(bare(&plot(&[0, 1, 2, 4], 2, true)), "           4     █\n           0   ▄██\n");
        assert_eq!(bare(&plot(&[0, 1, 2, 4], 2, false)), "           4     #\n           0   :##\n");
    }

    #[test]
    fn levels_last_and_sums_add_up() {
        let axis = Axis { first: 0, last: 100, columns: 11 };
        let values = [(0, 5), (30, 7), (31, 9), (100, 2)];
        assert_eq!(axis.levels(&values), [5, 5, 5, 9, 9, 9, 9, 9, 9, 9, 2]);
        assert_eq!(axis.sums(&values), [5, 0, 0, 16, 0, 0, 0, 0, 0, 0, 2]);
    }

    proptest! {
        #[test]
        fn every_value_can_be_seen(values in proptest::collection::vec(0u64..1_000_000, 1..60), blocks: bool) {
            let drawn = bare(&plot(&values, 4, blocks));
            let last = drawn.lines().last().unwrap();
            for (nth, value) in values.iter().enumerate() {
                let cell = last.chars().nth(LABEL + 2 + nth).unwrap_or(' ');
                prop_assert_eq!(cell != ' ', *value > 0);
            }
        }
    }
}
