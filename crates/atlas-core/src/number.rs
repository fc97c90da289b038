//! Numbers in messages.

/// A number with thousands separators: 1204567 is `1,204,567`.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// A number with its noun: `1 entry`, `2 entries`.
pub fn count(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { many })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(0, "0")]
    #[case(999, "999")]
    #[case(1_000, "1,000")]
    #[case(1_204_567, "1,204,567")]
    fn thousands_are_separated(#[case] number: u64, #[case] wanted: &str) {
        assert_eq!(grouped(number), wanted);
    }
}
