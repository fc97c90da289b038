//! Addresses in object stores.

use std::fmt;

/// The schemes of addresses, and what they are called.
const SCHEMES: [&str; 3] = ["s3", "gs", "az"];

/// An address in an object store: `s3://bucket/exports/halts.csv`. The key may be empty, or name many objects.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct ObjectAddress {
    /// The kind of store: `s3`, `gs` or `az`.
    pub scheme: &'static str,
    /// The bucket, or container.
    pub bucket: String,
    /// What follows, without the first `/`.
    pub key: String,
}

impl ObjectAddress {
    /// Parses an address; `None` if the text is not one of an object store.
    ///
    /// # Errors
    ///
    /// Returns a message if it names no bucket, or a key that no store keeps as it is.
    pub fn parse(text: &str) -> Option<Result<Self, String>> {
        let (scheme, rest) = text.split_once("://")?;
        let scheme = SCHEMES.into_iter().find(|known| known.eq_ignore_ascii_case(scheme))?;
        let (bucket, key) = rest.split_once('/').unwrap_or((rest, ""));
        let is_name = |letter: char| letter.is_ascii_alphanumeric() || "-._$".contains(letter);
        if bucket.is_empty() || !bucket.chars().all(is_name) {
            return Some(Err(format!("“{text}” names no bucket; expected {scheme}://BUCKET/KEY")));
        }
        if key.split('/').any(|part| part == "." || part == "..") || key.contains("//") {
            return Some(Err(format!("“{text}”: a key has no “.”, “..” or empty part")));
        }
        Some(Ok(Self { scheme, bucket: bucket.to_owned(), key: key.to_owned() }))
    }

    /// The address of another key in the same bucket.
    #[must_use]
    pub fn at(&self, key: &str) -> Self {
        Self { key: key.to_owned(), ..self.clone() }
    }
}

impl fmt::Display for ObjectAddress {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { scheme, bucket, key } = self;
        write!(formatter, "{scheme}://{bucket}/{key}")
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::s3("s3://depot/exports/halts.csv", "s3", "depot", "exports/halts.csv")]
    #[case::no_key("gs://depot", "gs", "depot", "")]
    #[case::capitals("S3://depot/a", "s3", "depot", "a")]
    #[case::azure("az://$web/site/", "az", "$web", "site/")]
    fn addresses(#[case] text: &str, #[case] scheme: &str, #[case] bucket: &str, #[case] key: &str) {
        let parsed = ObjectAddress::parse(text).unwrap().unwrap();
        assert_eq!((parsed.scheme, parsed.bucket.as_str(), parsed.key.as_str()), (scheme, bucket, key));
    }

    #[rstest]
    #[case::no_bucket("s3:///a.csv")]
    #[case::up("s3://depot/../other")]
    #[case::empty_part("s3://depot/a//b")]
    #[case::a_strange_bucket("s3://de pot/a")]
    fn what_is_no_address(#[case] text: &str) {
        assert!(ObjectAddress::parse(text).unwrap().is_err());
    }

    #[rstest]
    #[case("exports/halts.csv")]
    #[case("https://files.example/halts.csv")]
    fn other_places(#[case] text: &str) {
        assert!(ObjectAddress::parse(text).is_none());
    }
}
