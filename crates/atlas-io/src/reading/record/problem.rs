//! Problems with a record or one of its fields.

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
