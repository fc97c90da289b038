//! How the test engine answers, whatever it receives.

use serde::Serialize;
use thiserror::Error;

/// How the engine behaves, whatever it receives.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub enum Mood {
    /// As published.
    Fair,
    /// Answers 429 with this `Retry-After` in seconds.
    TooMany(u64),
    /// Answers with this status.
    Status(u16),
    /// Does not answer.
    Hang,
    /// Closes the connection without an answer.
    Reset,
    /// Answers with a status that no standard knows, and a megabyte of noise.
    Garbage,
    /// Answers as published, after this many seconds.
    Slow(u64),
}

/// Why a text does not say how the engine behaves.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum MoodError {
    /// It names no way to answer.
    #[error(
        "“{0}” is not a way to answer; expected fair, 429:SECONDS, another status such as 503, hang, reset, garbage, or slow:SECONDS"
    )]
    Unknown(String),
    /// What follows `429:` or `slow:` is not a number.
    #[error("“{0}” is not a number of seconds")]
    Seconds(String),
}

impl Mood {
    /// Parses `fair`, `429`, `429:SECONDS`, another status such as `503`, `hang`, `reset`, `garbage` or `slow:SECONDS`.
    ///
    /// # Errors
    ///
    /// Returns a [`MoodError`] for any other text.
    pub fn parse(text: &str) -> Result<Self, MoodError> {
        let number = |seconds: &str| seconds.parse().map_err(|_| MoodError::Seconds(seconds.to_owned()));
        match text.split_once(':').map_or((text, None), |(word, seconds)| (word, Some(seconds))) {
            ("fair", None) => Ok(Self::Fair),
            ("hang", None) => Ok(Self::Hang),
            ("reset", None) => Ok(Self::Reset),
            ("garbage", None) => Ok(Self::Garbage),
            ("429", seconds) => number(seconds.unwrap_or("60")).map(Self::TooMany),
            ("slow", seconds) => number(seconds.unwrap_or("3")).map(Self::Slow),
            (_, Some(_)) => Err(MoodError::Unknown(text.to_owned())),
            (status, _) => match status.parse() {
                Ok(status @ 200..=599) => Ok(Self::Status(status)),
                _ => Err(MoodError::Unknown(text.to_owned())),
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("429", Ok(Mood::TooMany(60)))]
    #[case("429:3", Ok(Mood::TooMany(3)))]
    #[case("503", Ok(Mood::Status(503)))]
    #[case("410", Ok(Mood::Status(410)))]
    #[case("hang", Ok(Mood::Hang))]
    #[case("fair", Ok(Mood::Fair))]
    #[case("reset", Ok(Mood::Reset))]
    #[case("slow:2", Ok(Mood::Slow(2)))]
    #[case("slow:soon", Err(MoodError::Seconds("soon".into())))]
    #[case("fair:2", Err(MoodError::Unknown("fair:2".into())))]
    fn moods(#[case] text: &str, #[case] wanted: Result<Mood, MoodError>) {
        assert_eq!(Mood::parse(text), wanted);
        assert!(Mood::parse("sulk").unwrap_err().to_string().contains("not a way to answer"));
    }
}
