//! What came of one source.

use serde::Serialize;

use super::problem::Problem;

/// The most problems of one source that are kept with their words; more are counted.
const MOST_PROBLEMS: usize = 1000;

/// What came of one source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Outcome {
    /// The name of the source.
    pub name: String,
    /// Rows that it yielded.
    pub rows: u64,
    /// Files that were not read again because they had not been touched.
    pub unchanged_files: u64,
    /// What the source has to say of itself: what it passed over, where it stopped and why.
    pub remarks: Vec<String>,
    /// What could not be read, at most the first 1,000.
    pub problems: Vec<Problem>,
    /// How many problems there are in all.
    pub problem_count: u64,
    /// Because of how many of them a row or file is not listed.
    pub passed_over: u64,
}

impl Outcome {
    /// A source of this name that has yielded nothing yet.
    pub fn of(name: String) -> Self {
        Self {
            name,
            rows: 0,
            unchanged_files: 0,
            remarks: Vec::new(),
            problems: Vec::new(),
            problem_count: 0,
            passed_over: 0,
        }
    }

    fn count(&mut self, problem: &Problem) {
        self.problem_count += 1;
        self.passed_over += u64::from(problem.passed_over);
    }

    /// Counts a problem, and keeps its words while there are not too many.
    pub fn problem(&mut self, problem: Problem) {
        self.count(&problem);
        if self.problems.len() < MOST_PROBLEMS {
            self.problems.push(problem);
        }
    }

    /// A problem of a row that was read after others: told in the order of lines all the same.
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
    fn problems_that_come_late_stand_in_the_order_of_lines() {
        let mut outcome = Outcome::of("table halts.csv".into());
        [2, 9].into_iter().for_each(|line| outcome.problem(problem(line)));
        outcome.late_problem(problem(4));
        assert_eq!(outcome.problems.iter().map(|one| one.line).collect::<Vec<_>>(), [Some(2), Some(4), Some(9)]);
        assert_eq!((outcome.problem_count, outcome.passed_over), (3, 2));
    }

    #[test]
    fn of_very_many_problems_the_first_are_kept_and_all_are_counted() {
        let mut outcome = Outcome::of("table halts.csv".into());
        (1..=1001).for_each(|line| outcome.problem(problem(line)));
        outcome.late_problem(problem(1));
        assert_eq!((outcome.problems.len(), outcome.problem_count), (1000, 1002));
        assert_eq!(outcome.problems[1].line, Some(1));
    }
}
