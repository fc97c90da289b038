//! Numbers, sizes and dates in words.

use atlas_core::lastmod::Lastmod;
pub use atlas_core::number::{count, grouped};
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// A size in kB or MB (of 1,000).
pub fn size(bytes: u64) -> String {
    match bytes {
        0..1_000 => format!("{bytes} B"),
        1_000..1_000_000 => format!("{:.1} kB", bytes as f64 / 1e3),
        _ => format!("{}.{} MB", grouped(bytes / 1_000_000), bytes % 1_000_000 / 100_000),
    }
}

/// An instant in the site's zone, to the minute, with the zone's abbreviation: `2026-07-04 09:30 BST`.
pub fn instant(seconds: i64, zone: &TimeZone) -> String {
    let Ok(timestamp) = Timestamp::from_second(seconds) else { return seconds.to_string() };
    timestamp.to_zoned(zone.clone()).strftime("%Y-%m-%d %H:%M %Z").to_string()
}

/// How long something took, by its milliseconds: `12 ms`, `1.5 s`.
pub fn took(milliseconds: u64) -> String {
    match milliseconds {
        0 => "under 1 ms".to_owned(),
        1..1_000 => format!("{milliseconds} ms"),
        _ => format!("{}.{} s", grouped(milliseconds / 1_000), milliseconds % 1_000 / 100),
    }
}

/// A date: a day as it is; an instant as [`instant`] shows it.
pub fn date(date: &Lastmod, zone: &TimeZone) -> String {
    match date {
        Lastmod::Day(day) => day.to_string(),
        Lastmod::Instant { seconds, .. } => instant(*seconds, zone),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(940, "940 B")]
    #[case(4_120, "4.1 kB")]
    #[case(12_400_000, "12.4 MB")]
    fn sizes(#[case] bytes: u64, #[case] wanted: &str) {
        assert_eq!(size(bytes), wanted);
    }

    #[rstest]
    #[case("Europe/London", "2026-07-02 00:30 BST")]
    #[case("UTC", "2026-07-01 23:30 UTC")]
    #[case("America/Los_Angeles", "2026-07-01 16:30 PDT")]
    fn instants_are_shown_in_the_sites_zone(#[case] zone: &str, #[case] wanted: &str) {
        let zone = TimeZone::get(zone).unwrap();
        assert_eq!(instant(1_782_948_600, &zone), wanted);
        let dates =
            ["2026-07-01T23:30:00Z", "2026-07-02"].map(|text| date(&Lastmod::read(text, &zone).unwrap(), &zone));
        assert_eq!(dates, [wanted, "2026-07-02"]);
    }

    #[rstest]
    #[case(7, "7 ms")]
    #[case(1_560, "1.5 s")]
    #[case(3_600_000, "3,600.0 s")]
    fn durations(#[case] milliseconds: u64, #[case] wanted: &str) {
        assert_eq!(took(milliseconds), wanted);
    }

    #[test]
    fn counts_agree_in_number() {
        assert_eq!(
            (count(1, "entry", "entries"), count(2, "entry", "entries")),
            ("1 entry".into(), "2 entries".into())
        );
    }
}
