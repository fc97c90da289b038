//! Instants in JSON: RFC 3339, in UTC, to the second, for serde's `serialize_with`.

use jiff::Timestamp;
use serde::{Serialize, Serializer};

/// An instant, in seconds since 1970.
///
/// # Errors
///
/// Fails only if the serializer does.
pub fn seconds<S: Serializer>(seconds: &i64, serializer: S) -> Result<S::Ok, S::Error> {
    text(*seconds).serialize(serializer)
}

/// An optional instant.
///
/// # Errors
///
/// Fails only if the serializer does.
pub fn maybe_seconds<S: Serializer>(seconds: &Option<i64>, serializer: S) -> Result<S::Ok, S::Error> {
    seconds.map(text).serialize(serializer)
}

fn text(seconds: i64) -> String {
    Timestamp::from_second(seconds).map_or_else(|_| seconds.to_string(), |instant| instant.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn instants_are_written_in_utc() {
        assert_eq!(text(1_795_435_200), "2026-11-23T12:00:00Z");
        assert_eq!(text(i64::MAX), i64::MAX.to_string());
    }
}
