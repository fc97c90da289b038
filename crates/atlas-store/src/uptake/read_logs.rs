//! How far logs have been read, so that no line is counted twice.

use serde::{Deserialize, Serialize};

/// A log that was read: it is recognised by its first line, whatever its file is called by now, and continued behind what
/// was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LogMark {
    /// A fingerprint of its first line.
    pub first_line: u64,
    /// How many bytes of it were read, unpacked, up to the end of a line.
    pub bytes: u64,
    /// A fingerprint of the end of what was read.
    pub end: u64,
}

impl LogMark {
    /// How many of the last bytes the fingerprint of the end covers.
    pub const END: usize = 4_096;
}

/// What access logs said as a whole.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LogsRead {
    /// The lines that were read.
    pub lines: u64,
    /// Lines that could not be read.
    pub broken: u64,
    /// Requests of crawlers for other hosts.
    pub other_hosts: u64,
    /// Lines that name no user agent.
    pub nameless: u64,
    /// The time of the first line, in seconds since 1970.
    pub from: Option<i64>,
    /// The time of the last line.
    pub to: Option<i64>,
    /// How far each log has been read.
    pub marks: Vec<LogMark>,
}

/// The most logs whose ends are remembered: the oldest are forgotten first.
const MOST_MARKS: usize = 10_000;

impl LogsRead {
    /// Adds what another part of the logs said.
    pub(super) fn add(&mut self, other: &Self) {
        self.lines += other.lines;
        self.broken += other.broken;
        self.other_hosts += other.other_hosts;
        self.nameless += other.nameless;
        self.from = [self.from, other.from].into_iter().flatten().min();
        self.to = self.to.max(other.to);
    }

    /// Widens the time that the logs cover.
    pub(super) fn at(&mut self, seconds: i64) {
        if self.from.is_none_or(|from| seconds < from) {
            self.from = Some(seconds);
        }
        if self.to.is_none_or(|to| seconds > to) {
            self.to = Some(seconds);
        }
    }

    /// Remembers how far a log has been read, in place of a mark before it.
    pub fn mark(&mut self, mark: LogMark) {
        self.marks.retain(|known| known.first_line != mark.first_line || known.bytes > mark.bytes);
        self.marks.push(mark);
        let excess = self.marks.len().saturating_sub(MOST_MARKS);
        self.marks.drain(..excess);
    }

    /// The marks of logs that begin with this line, the furthest first.
    pub fn marks_of(&self, first_line: u64) -> Vec<LogMark> {
        let mut marks: Vec<LogMark> = self.marks.iter().filter(|mark| mark.first_line == first_line).cloned().collect();
        marks.sort_by_key(|mark| std::cmp::Reverse(mark.bytes));
        marks
    }
}
