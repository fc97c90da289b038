//! What an engine's answer means for the next message.

use serde::Serialize;

/// What to do after an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Then {
    /// Nothing: the message was accepted.
    Done,
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

    /// What to do after this answer (IndexNow, response codes).
    pub fn then(&self) -> Then {
        match self {
            Self::Status(200..=299) => Then::Done,
            Self::Status(Self::KEY_NOT_FOUND | 404 | 410) => Then::MendFirst,
            Self::Status(429 | 500..=599) | Self::None(_) => Then::Later,
            Self::Status(_) => Then::Refused,
        }
    }

    /// What the answer means and what to do about it, for the user.
    pub fn words(&self) -> String {
        let words = match self {
            Self::Status(202) => {
                "accepted; the engine still has to check the key file. If this does not change, check that file"
            }
            Self::Status(200..=299) => "accepted (received, not yet crawled)",
            Self::Status(400) => {
                "malformed: this is a bug in Idle Atlas, please report it. The message will not be sent again"
            }
            Self::Status(Self::KEY_NOT_FOUND) => {
                "the key file was not found or contains another key. Publish it, then announce again"
            }
            Self::Status(404 | 410) => "there is no such endpoint: check the engine's endpoint in the configuration",
            Self::Status(422) => {
                "a URL is on another host, or the key is not valid. This message will not be sent again"
            }
            Self::Status(429) => "too many announcements; kept, and will be sent again later",
            Self::Status(500..=599) => "the engine has a problem; kept, and will be sent again later",
            Self::Status(_) => "an answer that IndexNow does not define. This message will not be sent again",
            Self::None(why) => return format!("no answer ({why}); kept, and will be sent again later"),
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
    #[case(400, Then::Refused)]
    #[case(403, Then::MendFirst)]
    #[case(404, Then::MendFirst)]
    #[case(422, Then::Refused)]
    #[case(429, Then::Later)]
    #[case(500, Then::Later)]
    #[case(503, Then::Later)]
    fn answers(#[case] status: u16, #[case] then: Then) {
        assert_eq!(Answer::Status(status).then(), then);
        assert!(!Answer::Status(status).words().is_empty());
    }

    #[test]
    fn a_missing_answer_is_retried() {
        let answer = Answer::None("timed out".into());
        assert_eq!(answer.then(), Then::Later);
        assert!(answer.words().contains("timed out"));
    }
}
