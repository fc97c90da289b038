//! Query parameters that do not select another page or picture: signatures, cache busters, campaign marks.

use std::borrow::Cow;

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};

/// The names of parameters that are removed from addresses.
///
/// ```
/// use atlas_core::query::Parameters;
///
/// let dropped = Parameters::new(&["utm_*", "v"]).unwrap();
/// assert_eq!(dropped.clean("https://www.marrowvale.example/a?utm_source=x&page=2&v=9"), "https://www.marrowvale.example/a?page=2");
/// assert_eq!(dropped.clean("https://www.marrowvale.example/a?v=9"), "https://www.marrowvale.example/a");
/// ```
#[derive(Debug, Clone, Default)]
pub struct Parameters {
    set: GlobSet,
    written: String,
}

impl Parameters {
    /// Compiles names, in which `*` matches any text, whatever the case of letters.
    ///
    /// # Errors
    ///
    /// Returns an error if a pattern is invalid.
    pub fn new<T: AsRef<str>>(patterns: &[T]) -> Result<Self, globset::Error> {
        let mut set = GlobSetBuilder::new();
        for pattern in patterns {
            set.add(GlobBuilder::new(pattern.as_ref()).case_insensitive(true).build()?);
        }
        let written = patterns.iter().map(AsRef::as_ref).collect::<Vec<_>>().join(" ");
        Ok(Self { set: set.build()?, written })
    }

    /// The patterns as typed.
    pub fn written(&self) -> &str {
        &self.written
    }

    /// The address without these parameters. The others keep their order.
    pub fn clean<'a>(&self, address: &'a str) -> Cow<'a, str> {
        let Some((before, query)) = address.split_once('?').filter(|_| !self.set.is_empty()) else {
            return Cow::Borrowed(address);
        };
        let name = |part: &str| part.split('=').next().unwrap_or("").to_owned();
        let kept: Vec<&str> = query.split('&').filter(|part| !self.set.is_match(name(part))).collect();
        match kept.len() {
            0 => Cow::Borrowed(before),
            length if length == query.split('&').count() => Cow::Borrowed(address),
            _ => Cow::Owned(format!("{before}?{}", kept.join("&"))),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("https://a.example/x", "https://a.example/x")]
    #[case("https://a.example/x?", "https://a.example/x?")]
    #[case("https://a.example/x?W=3", "https://a.example/x?W=3")]
    #[case("https://a.example/x?X-Sign-Date=1&w=3&X-Sign-Key=k", "https://a.example/x?w=3")]
    #[case("https://a.example/x?VER=1", "https://a.example/x")]
    fn drops_by_name(#[case] address: &str, #[case] wanted: &str) {
        assert_eq!(Parameters::new(&["x-sign-*", "ver"]).unwrap().clean(address), wanted);
        assert_eq!(Parameters::default().clean(address), address);
    }
}
