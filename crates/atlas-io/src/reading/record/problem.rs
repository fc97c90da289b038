//! Problems with records and their fields: one by one, or in sum where many records have the same.

use std::collections::BTreeMap;

use atlas_core::number::count;

use crate::reading::field::Field;

/// Something to tell about a record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Found {
    /// A problem of its own.
    Problem(RecordProblem),
    /// One of many that are told in sum: an example.
    Sum(SummedProblem, String),
}

impl Found {
    /// A field cannot be read; the entry is listed without it.
    pub(super) fn cell(message: String) -> Self {
        Self::Problem(RecordProblem::cell(message))
    }

    /// The whole record is skipped.
    pub(super) fn row(message: String) -> Self {
        Self::Problem(RecordProblem::row(message))
    }

    /// The problem of a record that is told alone.
    #[cfg(feature = "markdown")]
    pub(crate) fn alone(self) -> Option<RecordProblem> {
        match self {
            Self::Problem(problem) => Some(problem),
            sum => {
                let mut sums = RecordSums::default();
                sums.add(0, sum);
                sums.remarks().pop().map(RecordProblem::cell)
            }
        }
    }
}

/// A problem with a record or one of its fields.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct RecordProblem {
    /// What is wrong, what was expected, and how to fix it.
    pub(crate) message: String,
    /// Whether the record is not listed because of it.
    pub(crate) passed_over: bool,
}

impl RecordProblem {
    /// A field cannot be read; the entry is listed without it.
    pub(crate) fn cell(message: String) -> Self {
        Self { message, passed_over: false }
    }

    /// The whole record is skipped.
    pub(crate) fn row(message: String) -> Self {
        Self { message, passed_over: true }
    }
}

/// What many records may have in common.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum SummedProblem {
    /// A URL in which a character with a meaning of its own ended or changed it.
    LostPart,
    /// A list field whose only item contains commas.
    Commas(Field),
}

/// The sums of one source: for each kind a count, and an example with its line.
#[derive(Debug, Default)]
pub(crate) struct RecordSums(BTreeMap<SummedProblem, (u64, u64, String)>);

impl RecordSums {
    /// Counts one. Returns whether every build has to count it again.
    pub(crate) fn add(&mut self, line: u64, found: Found) -> bool {
        let Found::Sum(kind, example) = found else { return false };
        self.0.entry(kind).or_insert((0, line, example)).0 += 1;
        kind == SummedProblem::LostPart
    }

    /// Adds the sums of records that come later.
    pub(crate) fn join(&mut self, later: Self) {
        for (kind, (number, line, example)) in later.0 {
            self.0.entry(kind).or_insert((0, line, example)).0 += number;
        }
    }

    /// The sums in words.
    pub(crate) fn remarks(self) -> Vec<String> {
        let remark = |(kind, (number, _, example)): (SummedProblem, (u64, u64, String))| match kind {
            SummedProblem::LostPart => format!(
                "{} lost a part, such as {example}: “#”, “\\”, tabs and line breaks have a meaning of their own in URLs. To encode them, make the URL by a template over columns: fields = {{ url = \"/depot/{{slug}}/\" }}",
                count(number, "URL", "URLs")
            ),
            SummedProblem::Commas(field) => format!(
                "{} of the field “{}” with commas in one item, such as “{example}”; if these are lists, add: lists = \",\"",
                count(number, "value", "values"),
                field.name()
            ),
        };
        self.0.into_iter().map(remark).collect()
    }
}
