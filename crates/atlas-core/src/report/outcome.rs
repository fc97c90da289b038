//! The outcome of one source.

use serde::Serialize;

use super::problem::Problem;
use crate::lastmod::Lastmod;

/// The most problems of one source that are kept in words. Further ones are only counted.
const MOST_PROBLEMS: usize = 1000;

/// Why a source could not be read whole, and what becomes of what it named before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SourceFailure {
    /// What happened, and how to fix it.
    pub why: String,
    /// Whether the rest of it was read.
    pub in_part: bool,
    /// Since when it could not be read whole.
    pub since: Option<Lastmod>,
    /// The number of entries that stay as they were because of it.
    pub stand: u64,
}

/// What a source was asked for that can be asked for changes alone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Increment {
    /// Since when: the beginning of the last run that read it.
    pub since: Lastmod,
    /// The number of entries that it did not name and that stand as they were.
    pub stand: u64,
}

/// The outcome of one source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Outcome {
    /// The name of the source.
    pub name: String,
    /// Why it could not be read whole, if so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub failure: Option<SourceFailure>,
    /// What it was asked for, if that was not everything.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub increment: Option<Increment>,
    /// The number of rows that it yielded.
    pub rows: u64,
    /// The number of files that were not read again because they had not changed.
    pub unchanged_files: u64,
    /// Remarks about the source itself: what it skipped, where it stopped and why.
    pub remarks: Vec<String>,
    /// What could not be read: at most the first 1,000 problems.
    pub problems: Vec<Problem>,
    /// The number of all problems.
    pub problem_count: u64,
    /// The number of problems because of which a row or file is not listed.
    pub passed_over: u64,
}

impl Outcome {
    /// The outcome of a source before it yields anything.
    pub fn of(name: String) -> Self {
        Self {
            name,
            failure: None,
            increment: None,
            rows: 0,
            unchanged_files: 0,
            remarks: Vec::new(),
            problems: Vec::new(),
            problem_count: 0,
            passed_over: 0,
        }
    }

    /// Records that it could not be read whole. The first reason counts.
    pub fn fail(&mut self, why: String, in_part: bool) {
        self.failure.get_or_insert(SourceFailure { why, in_part, since: None, stand: 0 });
    }

    fn count(&mut self, problem: &Problem) {
        self.problem_count += 1;
        self.passed_over += u64::from(problem.passed_over);
    }

    /// Counts a problem, and keeps its words unless there are too many.
    pub fn problem(&mut self, problem: Problem) {
        self.count(&problem);
        if self.problems.len() < MOST_PROBLEMS {
            self.problems.push(problem);
        }
    }

    /// Adds a problem of a row that was read out of order; problems stay sorted by line.
    pub fn late_problem(&mut self, problem: Problem) {
        let before = |other: &Problem| (&other.file, other.line) <= (&problem.file, problem.line);
        let at = self.problems.partition_point(before);
        self.count(&problem);
        self.problems.insert(at, problem);
        self.problems.truncate(MOST_PROBLEMS);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn problem(line: u64) -> Problem {
        Problem {
            file: "halts.csv".into(),
            line: Some(line),
            message: "no URL".into(),
            passed_over: line.is_multiple_of(2),
        }
    }

    #[test]
    fn late_problems_are_sorted_by_line() {
        let mut outcome = Outcome::of("table halts.csv".into());
        [2, 9].into_iter().for_each(|line| outcome.problem(problem(line)));
        outcome.late_problem(problem(4));
        assert_eq!(outcome.problems.iter().map(|one| one.line).collect::<Vec<_>>(), [Some(2), Some(4), Some(9)]);
        assert_eq!((outcome.problem_count, outcome.passed_over), (3, 2));
    }

    #[test]
    fn the_first_problems_are_kept_and_all_are_counted() {
        let mut outcome = Outcome::of("table halts.csv".into());
        (1..=1001).for_each(|line| outcome.problem(problem(line)));
        outcome.late_problem(problem(1));
        assert_eq!((outcome.problems.len(), outcome.problem_count), (1000, 1002));
        assert_eq!(outcome.problems[1].line, Some(1));
    }
}
