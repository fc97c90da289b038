//! What an engine's answer means for the next message.

use serde::Serialize;

/// What to do after an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
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
    /// The status by which an engine says that it did not find the key in its file (IndexNow, response codes).
    pub const KEY_NOT_FOUND: u16 = 403;

    /// What to do after this answer (IndexNow, response codes; RFC 9110, section 15).
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
            (Self::Status(202), _) => {
                "accepted; the engine still has to check the key file. If this does not change, check that file"
            }
            (Self::Status(200..=299), _) => "accepted (received, not yet crawled)",
            (_, Then::Halve) => {
                "not accepted as a whole; sent again in two halves, to find out which URLs are at fault"
            }
            (Self::Status(400 | 422), Then::Refused) => {
                "not accepted: malformed, or on a host that the key is not for. It will not be sent again"
            }
            (_, Then::Refused) => "not accepted. It will not be sent again",
            (Self::Status(400 | 413 | 422), Then::MendFirst) => {
                "no URL is accepted: check the engine's key, and the hosts that it is for; kept until then"
            }
            (Self::Status(Self::KEY_NOT_FOUND), _) => {
                "the key file was not found or contains another key. Publish it, then announce again"
            }
            (Self::Status(401 | 407), _) => "it asks who is asking: check the engine's endpoint in the configuration",
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
                "an answer that IndexNow does not define: check the engine's endpoint in the configuration; kept until then"
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
