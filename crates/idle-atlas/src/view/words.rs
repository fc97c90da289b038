//! Numbers, sizes and dates in words.

pub use atlas_core::people::grouped;
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// A number with its noun: `1 entry`, `2 entries`.
pub fn count(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { many })
}

/// Bytes in kB or MB (of 1,000).
pub fn size(bytes: u64) -> String {
    match bytes {
        0..1_000 => format!("{bytes} B"),
        1_000..1_000_000 => format!("{:.1} kB", bytes as f64 / 1e3),
        _ => format!("{}.{} MB", grouped(bytes / 1_000_000), bytes % 1_000_000 / 100_000),
    }
}

/// An instant in the machine's own zone, to the minute.
pub fn instant(seconds: i64) -> String {
    let Ok(timestamp) = Timestamp::from_second(seconds) else { return seconds.to_string() };
    timestamp.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
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

    #[test]
    fn one_is_not_many() {
        assert_eq!(
            (count(1, "entry", "entries"), count(2, "entry", "entries")),
            ("1 entry".into(), "2 entries".into())
        );
    }
}
