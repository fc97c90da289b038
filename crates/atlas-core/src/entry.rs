//! An entry: one URL of the site as it stands in a sitemap file.

use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::lastmod::Lastmod;

/// One `url` element with the extensions that are written. Text is borrowed while a build writes it and owned when it
/// has been read back from a file.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Entry<'a> {
    /// The `loc`, in the spelling of [`Address`](crate::address::Address).
    pub address: Cow<'a, str>,
    /// When the page last changed, if anyone knows.
    pub lastmod: Option<Lastmod>,
    /// A hint about how often the page changes.
    pub changefreq: Option<Changefreq>,
    /// A hint about this page's weight among its siblings.
    pub priority: Option<Priority>,
    /// Addresses of pictures on the page, at most 1,000 (image sitemap extension).
    pub images: Vec<Cow<'a, str>>,
    /// Videos on the page (video sitemap extension).
    pub videos: Vec<Video>,
}

/// The `changefreq` of the sitemaps protocol 0.9: a hint that large engines ignore.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
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
    /// All of them, from the shortest interval to none.
    pub const ALL: [Self; 7] =
        [Self::Always, Self::Hourly, Self::Daily, Self::Weekly, Self::Monthly, Self::Yearly, Self::Never];

    /// The word of the protocol.
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
pub struct Priority(u8);

impl Priority {
    /// From a number between 0.0 and 1.0, rounded to two places; `None` outside of it.
    pub fn new(number: f64) -> Option<Self> {
        (0.0..=1.0).contains(&number).then(|| Self((number * 100.0).round() as u8))
    }

    /// From [`Priority::hundredths`].
    pub fn from_hundredths(number: u8) -> Option<Self> {
        (number <= 100).then_some(Self(number))
    }

    /// 0 to 100.
    pub fn hundredths(self) -> u8 {
        self.0
    }
}

impl Serialize for Priority {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_f64(f64::from(self.0) / 100.0)
    }
}

impl fmt::Display for Priority {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.0 / 100, self.0 % 100) {
            (whole, part) if part % 10 == 0 => write!(formatter, "{whole}.{}", part / 10),
            (whole, part) => write!(formatter, "{whole}.{part:02}"),
        }
    }
}

/// One video, by the elements of the video sitemap extension. Fields that hold addresses hold them in the spelling of
/// [`Address`](crate::address::Address).
///
/// A source may say less than the extension requires: [`Video::lacks`] names what keeps it from being written.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Video {
    /// A picture of it; required.
    #[serde(alias = "thumbnail", skip_serializing_if = "Option::is_none")]
    pub thumbnail_loc: Option<String>,
    /// Required.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// Required, at most 2,048 characters.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// The media file itself; this or the player is required.
    #[serde(alias = "content", skip_serializing_if = "Option::is_none")]
    pub content_loc: Option<String>,
    /// The player as pages embed it.
    #[serde(alias = "player", skip_serializing_if = "Option::is_none")]
    pub player_loc: Option<String>,
    /// Whole seconds, 1 to 28,800.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub duration: Option<u32>,
    /// When it will no longer be there, in a form of the protocol.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expiration_date: Option<String>,
    /// When it was first published, in a form of the protocol.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub publication_date: Option<String>,
}

/// The longest description the video extension takes, in characters.
pub const VIDEO_DESCRIPTION_LONGEST: usize = 2048;

/// A required part that a video is missing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum VideoPart {
    /// `thumbnail_loc`.
    Thumbnail,
    /// `title`.
    Title,
    /// `description`.
    Description,
    /// Both `content_loc` and `player_loc`, or the only one there equals the page itself.
    ContentOrPlayer,
}

impl VideoPart {
    /// The words for it in a sentence: "lacks a …".
    pub fn words(self) -> &'static str {
        match self {
            Self::Thumbnail => "thumbnail",
            Self::Title => "title",
            Self::Description => "description",
            Self::ContentOrPlayer => "media file or player",
        }
    }
}

impl Video {
    /// What the video extension requires and this video, on the page at `page`, does not have.
    pub fn lacks(&self, page: &str) -> Vec<VideoPart> {
        let blank = |text: &Option<String>| text.as_ref().is_none_or(|text| text.trim().is_empty());
        let unusable = |place: &Option<String>| place.as_ref().is_none_or(|place| place == page);
        let mut missing = Vec::new();
        if blank(&self.thumbnail_loc) {
            missing.push(VideoPart::Thumbnail);
        }
        if blank(&self.title) {
            missing.push(VideoPart::Title);
        }
        if blank(&self.description) {
            missing.push(VideoPart::Description);
        }
        if unusable(&self.content_loc) && unusable(&self.player_loc) {
            missing.push(VideoPart::ContentOrPlayer);
        }
        missing
    }

    /// The address by which two tellings of one video are recognised: its file, else its player.
    pub fn place(&self) -> Option<&str> {
        self.content_loc.as_deref().or(self.player_loc.as_deref())
    }

    /// Fills what is missing here from another telling of the same video.
    pub fn complete_from(&mut self, other: &Self) {
        fn fill<T: Clone>(mine: &mut Option<T>, theirs: &Option<T>) {
            if mine.is_none() {
                mine.clone_from(theirs);
            }
        }
        fill(&mut self.thumbnail_loc, &other.thumbnail_loc);
        fill(&mut self.title, &other.title);
        fill(&mut self.description, &other.description);
        fill(&mut self.content_loc, &other.content_loc);
        fill(&mut self.player_loc, &other.player_loc);
        fill(&mut self.duration, &other.duration);
        fill(&mut self.expiration_date, &other.expiration_date);
        fill(&mut self.publication_date, &other.publication_date);
    }

    /// Whether this is another telling of `other`: the same file or player.
    pub fn same_as(&self, other: &Self) -> bool {
        let same = |mine: &Option<String>, theirs: &Option<String>| mine.is_some() && mine == theirs;
        same(&self.content_loc, &other.content_loc) || same(&self.player_loc, &other.player_loc)
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
    }

    #[test]
    fn a_video_names_what_it_lacks() {
        let page = "https://www.marrowvale.example/films/cutting/";
        let mut video = Video { content_loc: Some(page.into()), title: Some(" ".into()), ..Video::default() };
        assert_eq!(
            video.lacks(page),
            [VideoPart::Thumbnail, VideoPart::Title, VideoPart::Description, VideoPart::ContentOrPlayer]
        );
        video.complete_from(&Video {
            thumbnail_loc: Some("https://www.marrowvale.example/p.svg".into()),
            description: Some("Through the cutting".into()),
            player_loc: Some("https://player.example/1".into()),
            ..Video::default()
        });
        assert_eq!(video.lacks(page), [VideoPart::Title], "a title of spaces is no title, and not ours to replace");
    }
}
