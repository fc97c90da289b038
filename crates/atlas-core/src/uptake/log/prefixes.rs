//! The addresses from which a crawler comes, by its engine's own word.

use core::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use serde_json::Value;

/// Address prefixes, such as `192.0.2.0/27`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Prefixes {
    /// First and last address of each range.
    v4: Vec<(u32, u32)>,
    v6: Vec<(u128, u128)>,
}

impl Prefixes {
    /// Reads prefixes from JSON, as engines publish them: every text in it that is a prefix or an address counts,
    /// whatever it is called.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be used: it is not JSON, or there is no prefix in it.
    pub fn from_json(text: &str) -> Result<Self, String> {
        let value: Value = serde_json::from_str(text).map_err(|error| format!("it is not JSON: {error}"))?;
        let mut prefixes = Self::default();
        prefixes.collect(&value);
        match prefixes.v4.is_empty() && prefixes.v6.is_empty() {
            true => Err("it holds no address prefix such as “192.0.2.0/27”".to_owned()),
            false => Ok(prefixes),
        }
    }

    fn collect(&mut self, value: &Value) {
        match value {
            Value::String(text) => drop(self.add(text)),
            Value::Array(list) => list.iter().for_each(|value| self.collect(value)),
            Value::Object(object) => object.values().for_each(|value| self.collect(value)),
            _ => {}
        }
    }

    /// Adds a prefix or a single address; `None` if it is neither.
    pub fn add(&mut self, prefix: &str) -> Option<()> {
        let (address, length) = match prefix.trim().split_once('/') {
            Some((address, length)) => (address, Some(length.parse::<u32>().ok()?)),
            None => (prefix.trim(), None),
        };
        match address.parse().ok()? {
            IpAddr::V4(address) => {
                let host = 32u32.checked_sub(length.unwrap_or(32))?;
                let mask = u32::MAX.checked_shl(host).unwrap_or(0);
                let first = address.to_bits() & mask;
                self.v4.push((first, first | !mask));
            }
            IpAddr::V6(address) => {
                let host = 128u32.checked_sub(length.unwrap_or(128))?;
                let mask = u128::MAX.checked_shl(host).unwrap_or(0);
                let first = address.to_bits() & mask;
                self.v6.push((first, first | !mask));
            }
        }
        Some(())
    }

    /// Whether an address, as a log writes it, is in one of the ranges.
    pub fn hold(&self, address: &[u8]) -> bool {
        let parsed = std::str::from_utf8(address).ok().and_then(|text| text.parse::<IpAddr>().ok());
        match parsed.map(|address| address.to_canonical()) {
            Some(IpAddr::V4(address)) => self.hold_v4(address),
            Some(IpAddr::V6(address)) => self.hold_v6(address),
            None => false,
        }
    }

    fn hold_v4(&self, address: Ipv4Addr) -> bool {
        self.v4.iter().any(|(first, last)| (*first..=*last).contains(&address.to_bits()))
    }

    fn hold_v6(&self, address: Ipv6Addr) -> bool {
        self.v6.iter().any(|(first, last)| (*first..=*last).contains(&address.to_bits()))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const JSON: &str = r#"{"creationTime": "2026-11-01T00:00:00", "prefixes": [{"ipv4Prefix": "192.0.2.0/27"}, {"ipv6Prefix": "2001:db8:5::/64"}, {"ipv4Prefix": "198.51.100.9"}]}"#;

    #[rstest]
    #[case("192.0.2.31", true)]
    #[case("192.0.2.32", false)]
    #[case("::ffff:192.0.2.1", true)]
    #[case("2001:db8:5::7", true)]
    #[case("2001:db8:6::7", false)]
    #[case("198.51.100.9", true)]
    #[case("lamp.example", false)]
    fn addresses_are_in_ranges(#[case] address: &str, #[case] wanted: bool) {
        assert_eq!(Prefixes::from_json(JSON).unwrap().hold(address.as_bytes()), wanted);
    }

    #[rstest]
    #[case("{", "it is not JSON")]
    #[case(r#"{"prefixes": ["192.0.2.0/99"]}"#, "no address prefix")]
    fn bad_files_are_errors(#[case] text: &str, #[case] wanted: &str) {
        assert!(Prefixes::from_json(text).unwrap_err().contains(wanted));
    }

    #[test]
    fn a_prefix_of_no_length_holds_everything() {
        let mut prefixes = Prefixes::default();
        prefixes.add("0.0.0.0/0").unwrap();
        assert!(prefixes.hold(b"203.0.113.1") && !prefixes.hold(b"2001:db8::1"));
    }
}
