//! An entry: one URL of the site as it is written in a sitemap file.

use std::borrow::Cow;
use std::fmt;
use std::num::NonZeroU8;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::address::Address;
use crate::language::Alternate;
use crate::lastmod::Lastmod;
use crate::video::Video;

/// One `url` element with its extensions. Text is borrowed during a build, and owned if it was read back from a file.
#[derive(Debug, Clone, PartialEq)]
pub struct Entry<'a> {
    /// The `loc`, in the spelling of [`Address`].
    pub(crate) address: Cow<'a, str>,
    /// When the page last changed, if known.
    pub lastmod: Option<Lastmod>,
    /// A hint about how often the page changes.
    pub changefreq: Option<Changefreq>,
    /// A hint about this page's weight among its siblings.
    pub priority: Option<Priority>,
    /// Addresses of pictures on the page, at most 1,000 (image sitemap extension).
    pub images: Vec<Cow<'a, str>>,
    /// Videos on the page (video sitemap extension).
    pub videos: Vec<Video>,
    /// The article as news (news sitemap extension).
    pub news: Option<NewsArticle<'a>>,
    /// The page's whole group of translations, itself included.
    pub alternates: Vec<Alternate<'a>>,
}

impl Entry<'static> {
    /// An entry with an address and nothing else.
    #[must_use]
    pub fn new(address: Address) -> Self {
        Self::at(Cow::Owned(address.into_string()))
    }
}

impl<'a> Entry<'a> {
    /// An entry with this address, which is known to be in the spelling of [`Address`], as rows have it.
    pub(crate) fn at(address: Cow<'a, str>) -> Self {
        Self {
            address,
            lastmod: None,
            changefreq: None,
            priority: None,
            images: Vec::new(),
            videos: Vec::new(),
            news: None,
            alternates: Vec::new(),
        }
    }

    /// The `loc`, in the spelling of [`Address`].
    #[must_use]
    pub fn address(&self) -> &str {
        &self.address
    }

    /// The number of its pictures and videos that are written.
    pub fn media(&self) -> u32 {
        u32::try_from(self.images.len() + self.videos.len()).unwrap_or(u32::MAX)
    }
}

/// An article in a news file (news sitemap extension).
#[derive(Debug, Clone, PartialEq)]
pub struct NewsArticle<'a> {
    /// The publication's name, exactly as the publication writes it.
    pub publication: Cow<'a, str>,
    /// The language of the publication: ISO 639, or `zh-cn` or `zh-tw`.
    pub language: Cow<'a, str>,
    /// When the article was first published.
    pub published: Lastmod,
    /// The article's title.
    pub title: Cow<'a, str>,
}

/// Which date is written for an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum DatePolicy {
    /// The declared date, else the day on which its content was seen to change, else its publication date.
    #[default]
    Usual,
    /// The declared date or none.
    Declared,
    /// The day on which its content was seen to change, else its publication date; for declared dates that cannot be
    /// trusted.
    Seen,
    /// No date.
    None,
}

impl DatePolicy {
    /// All policies.
    pub const ALL: [Self; 4] = [Self::Usual, Self::Declared, Self::Seen, Self::None];

    /// The word for it in the configuration.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Usual => "usual",
            Self::Declared => "declared",
            Self::Seen => "seen",
            Self::None => "none",
        }
    }
}

impl FromStr for DatePolicy {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        let text = text.trim();
        Self::ALL.into_iter().find(|word| word.as_str().eq_ignore_ascii_case(text)).ok_or(())
    }
}

/// The `changefreq` of the sitemaps protocol 0.9: a hint that large engines ignore.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
#[expect(missing_docs, reason = "the seven words of the protocol say it")]
pub enum Changefreq {
    Always,
    Hourly,
    Daily,
    Weekly,
    Monthly,
    Yearly,
    Never,
}

impl Changefreq {
    /// All values, from the shortest interval to none.
    pub const ALL: [Self; 7] =
        [Self::Always, Self::Hourly, Self::Daily, Self::Weekly, Self::Monthly, Self::Yearly, Self::Never];

    /// The word in the protocol.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Always => "always",
            Self::Hourly => "hourly",
            Self::Daily => "daily",
            Self::Weekly => "weekly",
            Self::Monthly => "monthly",
            Self::Yearly => "yearly",
            Self::Never => "never",
        }
    }
}

impl FromStr for Changefreq {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        let text = text.trim();
        Self::ALL.into_iter().find(|word| word.as_str().eq_ignore_ascii_case(text)).ok_or(())
    }
}

/// The `priority` of the sitemaps protocol 0.9, kept in hundredths so that equal hints have equal bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Priority(
    /// One more than the hundredths, so that an optional priority takes one byte.
    NonZeroU8,
);

impl Default for Priority {
    fn default() -> Self {
        Self(NonZeroU8::MIN)
    }
}

impl Priority {
    /// Converts a number between 0.0 and 1.0, rounded to two places; `None` if it is outside this range.
    pub fn new(number: f64) -> Option<Self> {
        (0.0..=1.0).contains(&number).then(|| Self(NonZeroU8::MIN.saturating_add((number * 100.0).round() as u8)))
    }

    /// The inverse of [`Priority::hundredths`].
    pub fn from_hundredths(number: u8) -> Option<Self> {
        (number <= 100).then(|| Self(NonZeroU8::MIN.saturating_add(number)))
    }

    /// The value in hundredths, 0 to 100.
    pub fn hundredths(self) -> u8 {
        self.0.get() - 1
    }
}

impl Serialize for Priority {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_f64(f64::from(self.hundredths()) / 100.0)
    }
}

impl fmt::Display for Priority {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.hundredths() / 100, self.hundredths() % 100) {
            (whole, part) if part % 10 == 0 => write!(formatter, "{whole}.{}", part / 10),
            (whole, part) => write!(formatter, "{whole}.{part:02}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(0.0, "0.0")]
    #[case(0.5, "0.5")]
    #[case(0.25, "0.25")]
    #[case(1.0, "1.0")]
    fn priorities_are_written_as_the_protocol_shows_them(#[case] number: f64, #[case] wanted: &str) {
        assert_eq!(Priority::new(number).unwrap().to_string(), wanted);
    }

    #[rstest]
    #[case(-0.1)]
    #[case(1.01)]
    #[case(f64::NAN)]
    fn priorities_have_bounds(#[case] number: f64) {
        assert_eq!(Priority::new(number), None);
    }

    #[test]
    fn changefreq_reads_its_own_words() {
        for word in Changefreq::ALL {
            assert_eq!(word.as_str().to_uppercase().parse(), Ok(word));
        }
        assert_eq!("fortnightly".parse::<Changefreq>(), Err(()));
        for policy in DatePolicy::ALL {
            assert_eq!(policy.as_str().parse(), Ok(policy));
        }
    }
}
