//! What stands in the way.

/// What stands in the way of a record or of one of its fields.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct RecordProblem {
    /// What is wrong, what was expected, how to mend it.
    pub(crate) message: String,
    /// The record is not listed because of it.
    pub(crate) passed_over: bool,
}

impl RecordProblem {
    /// A field cannot be read; the entry is listed without it.
    pub(crate) fn cell(message: String) -> Self {
        Self { message, passed_over: false }
    }

    /// The whole record is passed over.
    pub(crate) fn row(message: String) -> Self {
        Self { message, passed_over: true }
    }
}
