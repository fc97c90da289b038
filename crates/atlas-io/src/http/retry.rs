//! `Retry-After`: when a server allows another try.

use std::time::Duration;

use jiff::Timestamp;
use reqwest::header::{HeaderMap, RETRY_AFTER};

/// The longest pause that is accepted, in seconds.
const LONGEST: u64 = 24 * 3600;

/// The pause that a server asks for, given in seconds or as a date (RFC 9110 section 10.2.3), at most one day.
pub(crate) fn retry_after(headers: &HeaderMap, now: Timestamp) -> Option<Duration> {
    let value = headers.get(RETRY_AFTER)?.to_str().ok()?.trim();
    let seconds = match value.parse::<u64>() {
        Ok(seconds) => seconds,
        Err(_) => {
            let until = jiff::fmt::rfc2822::parse(value).ok()?.timestamp();
            u64::try_from(until.as_second() - now.as_second()).unwrap_or(0)
        }
    };
    Some(Duration::from_secs(seconds.min(LONGEST)))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("7", Some(7))]
    #[case("999999999", Some(86_400))]
    #[case("Mon, 23 Nov 2026 07:08:00 GMT", Some(60))]
    #[case("Mon, 23 Nov 2026 07:00:00 GMT", Some(0))]
    #[case("soon", None)]
    fn retry_after_values(#[case] value: &str, #[case] wanted: Option<u64>) {
        let headers = HeaderMap::from_iter([(RETRY_AFTER, value.parse().unwrap())]);
        let now = "2026-11-23T07:07:00Z".parse().unwrap();
        assert_eq!(retry_after(&headers, now), wanted.map(Duration::from_secs));
    }
}
