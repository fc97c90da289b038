//! What an engine's answer means for the next message.

use serde::Serialize;

/// What to do after an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Then {
    /// Nothing: the message was accepted.
    Done,
    /// Something in it is not accepted: send it again in two halves. A single URL is refused for good.
    Halve,
    /// Never send this message again.
    Refused,
    /// Send it again once the user has fixed the cause.
    MendFirst,
    /// Send it again later.
    Later,
    /// Never send anything again: the engine has given up this way of being told.
    Retired,
}

impl Then {
    /// Its word in the ledger.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Halve => "halve",
            Self::Refused => "refused",
            Self::MendFirst => "mend-first",
            Self::Later => "later",
            Self::Retired => "retired",
        }
    }
}

/// What an engine answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// An HTTP status.
    Status(u16),
    /// No answer, and why.
    None(String),
}

impl Answer {
    /// What to do after this answer, unless the protocol says otherwise (RFC 9110, section 15).
    pub fn then(&self) -> Then {
        match self {
            Self::Status(200..=299) => Then::Done,
            Self::Status(400 | 413 | 422) => Then::Halve,
            Self::Status(408 | 425 | 429 | 500..=599) | Self::None(_) => Then::Later,
            Self::Status(_) => Then::MendFirst,
        }
    }

    /// What the answer means and what to do about it, for the user, if this follows from it.
    pub fn words(&self, then: Then) -> String {
        let words = match (self, then) {
            (Self::Status(200..=299), Then::Done) => "accepted (received, not yet crawled)",
            (_, Then::Done) => "accepted",
            (_, Then::Retired) => "the engine has given up this way of being told; nothing is kept for it",
            (_, Then::Halve) => {
                "not accepted as a whole; sent again in two halves, to find out which URLs are at fault"
            }
            (_, Then::Refused) => "not accepted. It will not be sent again",
            (Self::Status(400 | 413 | 422), Then::MendFirst) => {
                "nothing is accepted: check the engine's settings in the configuration; kept until then"
            }
            (Self::Status(401 | 403 | 407), _) => {
                "it asks who is asking, or does not allow it: check the engine's settings in the configuration; kept until then"
            }
            (Self::Status(200..=299), _) => {
                "a status that is not expected: check “expect” in the engine's settings; kept until then"
            }
            (Self::Status(300..=399), _) => {
                "the endpoint has moved, and messages do not follow redirects: correct the engine's endpoint in the configuration"
            }
            (Self::Status(404 | 410), _) => {
                "there is no such endpoint: check the engine's endpoint in the configuration"
            }
            (Self::Status(408 | 425), _) => "the engine had no time for it; kept, and will be sent again later",
            (Self::Status(429), _) => "too many announcements; kept, and will be sent again later",
            (Self::Status(500..=599), _) => "the engine has a problem; kept, and will be sent again later",
            (Self::Status(_), _) => {
                "an answer that was not expected: check the engine's endpoint in the configuration; kept until then"
            }
            (Self::None(why), _) => return format!("no answer ({why}); kept, and will be sent again later"),
        };
        words.to_owned()
    }

    /// The status, if there was one.
    pub fn status(&self) -> Option<u16> {
        match self {
            Self::Status(status) => Some(*status),
            Self::None(_) => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(200, Then::Done)]
    #[case(202, Then::Done)]
    #[case(301, Then::MendFirst)]
    #[case(400, Then::Halve)]
    #[case(401, Then::MendFirst)]
    #[case(403, Then::MendFirst)]
    #[case(404, Then::MendFirst)]
    #[case(405, Then::MendFirst)]
    #[case(408, Then::Later)]
    #[case(413, Then::Halve)]
    #[case(422, Then::Halve)]
    #[case(425, Then::Later)]
    #[case(429, Then::Later)]
    #[case(500, Then::Later)]
    #[case(503, Then::Later)]
    fn answers(#[case] status: u16, #[case] then: Then) {
        assert_eq!(Answer::Status(status).then(), then);
        assert!(!Answer::Status(status).words(then).is_empty());
    }

    #[test]
    fn a_missing_answer_is_retried() {
        let answer = Answer::None("timed out".into());
        assert_eq!(answer.then(), Then::Later);
        assert!(answer.words(Then::Later).contains("timed out"));
    }
}
