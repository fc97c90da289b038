//! Why there is no page at a URL.

/// How a failure begins where the server gave no answer.
pub const NO_ANSWER: &str = "no answer";

/// Why there is no page at a URL.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Absence {
    /// The server says so.
    NotThere,
    /// The server failed, or did not answer: it may do better another time.
    ServerError,
    /// What is there is not a page.
    OtherThing,
}

impl Absence {
    /// Reads [`Contribution::failure`](super::Said::failure).
    pub fn of(failure: &str) -> Self {
        if failure.starts_with(['5']) || failure.starts_with("429") || failure.starts_with(NO_ANSWER) {
            Self::ServerError
        } else if failure.starts_with(|letter: char| letter.is_ascii_digit()) {
            Self::NotThere
        } else {
            Self::OtherThing
        }
    }
}
