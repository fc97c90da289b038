//! Why there is no page at a URL.

/// How a failure text begins if the server gave no answer.
pub const NO_ANSWER: &str = "no answer";

/// Why there is no page at a URL.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Absence {
    /// The server says that nothing is there.
    NotThere,
    /// The server failed or did not answer. It may do better another time.
    ServerError,
    /// Something is there, but it is not a page.
    OtherThing,
}

impl Absence {
    /// Classifies the text in [`Contribution::failure`](super::Contribution::failure).
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
