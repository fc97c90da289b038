//! The time of a request, in the forms that servers write.

use jiff::civil::{Date, DateTime};
use jiff::fmt::strtime;

const MONTHS: [&[u8; 3]; 12] =
    [b"Jan", b"Feb", b"Mar", b"Apr", b"May", b"Jun", b"Jul", b"Aug", b"Sep", b"Oct", b"Nov", b"Dec"];
/// `10/Oct/2026:13:55:36 +0000`.
const LOCAL: usize = 26;
/// The part of it that is the same within a minute.
const MINUTE: usize = 17;

/// Reads times. The last minute is remembered, because lines of a log follow one another.
#[derive(Debug, Clone, Default)]
pub(super) struct TimeReader {
    minute: [u8; MINUTE],
    zone: [u8; 6],
    /// The instant at which that minute begins, in seconds since 1970.
    begins: i64,
}

fn number(digits: &[u8]) -> Option<i64> {
    digits.iter().try_fold(0i64, |number, digit| digit.is_ascii_digit().then(|| number * 10 + i64::from(digit - b'0')))
}

impl TimeReader {
    /// Common Log Format: `10/Oct/2026:13:55:36 +0000`, in seconds since 1970.
    pub(super) fn local(&mut self, text: &[u8]) -> Option<i64> {
        let text: &[u8; LOCAL] = text.try_into().ok()?;
        let second = number(&text[18..20]).filter(|second| *second <= 60 && text[MINUTE] == b':')?;
        if text[..MINUTE] != self.minute || text[20..] != self.zone {
            self.begins = minute_of(text)?;
            self.minute.copy_from_slice(&text[..MINUTE]);
            self.zone.copy_from_slice(&text[20..]);
        }
        Some(self.begins + second)
    }
}

fn minute_of(text: &[u8; LOCAL]) -> Option<i64> {
    let [_, _, b'/', _, _, _, b'/', _, _, _, _, b':', _, _, b':', ..] = text else { return None };
    let month = MONTHS.iter().position(|month| month[..] == text[3..6])? + 1;
    let date = Date::new(
        i16::try_from(number(&text[7..11])?).ok()?,
        i8::try_from(month).ok()?,
        i8::try_from(number(&text[..2])?).ok()?,
    );
    let at = |part: &[u8]| i8::try_from(number(part)?).ok();
    let local =
        DateTime::from_parts(date.ok()?, jiff::civil::Time::new(at(&text[12..14])?, at(&text[15..17])?, 0, 0).ok()?);
    let sign = match text[21] {
        b'+' => 1,
        b'-' => -1,
        _ => return None,
    };
    let offset = sign * (number(&text[22..24])? * 3_600 + number(&text[24..26])? * 60);
    Some(local.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp().as_second() - offset)
}

/// Any of the usual forms: that of the Common Log Format, RFC 3339, or seconds since 1970 (also in thousandths of a
/// second and finer).
pub(super) fn any(reader: &mut TimeReader, text: &str) -> Option<i64> {
    let text = text.trim();
    if let Some(seconds) = reader.local(text.as_bytes()) {
        return Some(seconds);
    }
    if let Ok(at) = text.parse::<jiff::Timestamp>() {
        return Some(at.as_second());
    }
    if let Ok(number) = text.parse::<f64>() {
        return since_1970(number);
    }
    let local = strtime::parse("%Y-%m-%d %H:%M:%S", text).ok()?.to_datetime().ok()?;
    Some(local.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp().as_second())
}

/// Seconds since 1970, from seconds, thousandths, millionths or milliardths of a second.
pub(super) fn since_1970(number: f64) -> Option<i64> {
    let unit = match number.abs() {
        0.0..1e11 => 1.0,
        1e11..1e14 => 1e3,
        1e14..1e17 => 1e6,
        1e17..1e20 => 1e9,
        _ => return None,
    };
    Some((number / unit).floor() as i64)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("10/Oct/2026:13:55:36 +0000", Some(1_791_640_536))]
    #[case("10/Oct/2026:13:55:36 -0730", Some(1_791_667_536))]
    #[case("2026-10-10T13:55:36Z", Some(1_791_640_536))]
    #[case("2026-10-10T15:55:36.123+02:00", Some(1_791_640_536))]
    #[case("1791640536.123", Some(1_791_640_536))]
    #[case("1791640536123", Some(1_791_640_536))]
    #[case("1791640536123000000", Some(1_791_640_536))]
    #[case("2026-10-10 13:55:36", Some(1_791_640_536))]
    #[case("31/Feb/2026:13:55:36 +0000", None)]
    #[case("10/Oct/2026:13:55", None)]
    #[case("10/Okt/2026:13:55:36 +0000", None)]
    #[case("yesterday", None)]
    fn times_are_read(#[case] text: &str, #[case] wanted: Option<i64>) {
        assert_eq!(any(&mut TimeReader::default(), text), wanted);
    }

    #[test]
    fn the_remembered_minute_is_that_of_the_line() {
        let mut reader = TimeReader::default();
        let mut read = |text: &str| reader.local(text.as_bytes());
        let first = read("10/Oct/2026:13:55:36 +0000").unwrap();
        assert_eq!(read("10/Oct/2026:13:55:37 +0000"), Some(first + 1));
        assert_eq!(read("10/Oct/2026:13:55:37 +0100"), Some(first + 1 - 3_600));
        assert_eq!(read("10/Oct/2026:13:56:00 +0100"), Some(first + 24 - 3_600));
        assert_eq!(read("10/Oct/2026:13:5x:00 +0100"), None);
        assert_eq!(read("10/Oct/2026:13:56:99 +0100"), None);
    }
}
