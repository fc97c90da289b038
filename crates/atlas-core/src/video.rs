//! Videos, by the elements of the video sitemap extension.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use thiserror::Error;

use crate::address::{Address, LONGEST};
use crate::lastmod::Lastmod;

/// One video, with the elements of the video sitemap extension. After [`Video::settled`], fields that hold addresses
/// are spelt as [`Address`], and dates are in a form of the protocol.
///
/// A source may give less than the extension requires: [`Video::lacks`] says what is missing.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(default, deny_unknown_fields)]
pub struct Video {
    /// A picture of it (required).
    #[serde(alias = "thumbnail", skip_serializing_if = "Option::is_none")]
    pub thumbnail_loc: Option<String>,
    /// Its title (required).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// Its description (required, at most 2,048 characters).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// The media file itself. Either this or the player is required.
    #[serde(alias = "content", skip_serializing_if = "Option::is_none")]
    pub content_loc: Option<String>,
    /// The player, as pages embed it.
    #[serde(alias = "player", skip_serializing_if = "Option::is_none")]
    pub player_loc: Option<String>,
    /// Its duration in whole seconds, 1 to 28,800. An ISO 8601 duration is read, too.
    #[serde(deserialize_with = "duration", skip_serializing_if = "Option::is_none")]
    pub duration: Option<u32>,
    /// When it expires, in a form of the protocol.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expiration_date: Option<String>,
    /// Its rating, 0.0 to 5.0.
    #[serde(deserialize_with = "number", skip_serializing_if = "Option::is_none")]
    pub rating: Option<f64>,
    /// How often it was viewed.
    #[serde(deserialize_with = "number", skip_serializing_if = "Option::is_none")]
    pub view_count: Option<u64>,
    /// When it was first published, in a form of the protocol.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub publication_date: Option<String>,
    /// Its tags, at most 32.
    #[serde(alias = "tag", deserialize_with = "words", skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
    /// Whether it is suitable for everyone.
    #[serde(deserialize_with = "yes_or_no", skip_serializing_if = "Option::is_none")]
    pub family_friendly: Option<bool>,
    /// The countries in which it is, or is not, available: ISO 3166-1 alpha-2 codes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub restriction: Option<Access>,
    /// Whether access requires payment.
    #[serde(deserialize_with = "yes_or_no", skip_serializing_if = "Option::is_none")]
    pub requires_subscription: Option<bool>,
    /// Who uploaded it, at most 255 characters.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub uploader: Option<String>,
    /// A page about the uploader, on the host of the page.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub uploader_info: Option<String>,
    /// The devices on which it is, or is not, available: any of web, mobile, tv.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub platform: Option<Access>,
    /// Whether it is a live stream.
    #[serde(deserialize_with = "yes_or_no", skip_serializing_if = "Option::is_none")]
    pub live: Option<bool>,
}

/// Where a video is available: `allow GB IE`, `deny tv`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Access {
    /// Whether it is available only there; else it is available everywhere but there.
    pub allow: bool,
    /// The names, separated by spaces.
    pub names: String,
}

impl Access {
    /// The value of the `relationship` attribute.
    pub fn relationship(&self) -> &'static str {
        if self.allow { "allow" } else { "deny" }
    }

    /// Takes both parts as a sitemap gives them; `None` if the relationship is neither `allow` nor `deny`.
    pub fn new(relationship: &str, names: &str) -> Option<Self> {
        let allow = match relationship.trim() {
            "allow" => true,
            "deny" => false,
            _ => return None,
        };
        let names = names.split([' ', ',']).filter(|name| !name.is_empty()).collect::<Vec<_>>().join(" ");
        Some(Self { allow, names })
    }
}

/// A text that does not say where a video is available.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("“{0}” does not begin with allow or deny")]
pub struct AccessError(String);

impl FromStr for Access {
    type Err = AccessError;

    fn from_str(text: &str) -> Result<Self, AccessError> {
        let (relationship, names) = text.trim().split_once(' ').unwrap_or((text, ""));
        Self::new(relationship, names).ok_or_else(|| AccessError(text.to_owned()))
    }
}

impl fmt::Display for Access {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(formatter, "{} {}", self.relationship(), self.names)
    }
}

impl Serialize for Access {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Access {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// A number, or a text that contains one: rows of tables have nothing else.
#[derive(Deserialize)]
#[serde(untagged)]
enum Loose<T> {
    Value(T),
    Text(String),
}

fn number<'de, D: Deserializer<'de>, T: Deserialize<'de> + FromStr>(deserializer: D) -> Result<Option<T>, D::Error> {
    match Option::<Loose<T>>::deserialize(deserializer)? {
        None => Ok(None),
        Some(Loose::Value(value)) => Ok(Some(value)),
        Some(Loose::Text(text)) if text.trim().is_empty() => Ok(None),
        Some(Loose::Text(text)) => text
            .trim()
            .parse()
            .map(Some)
            .map_err(|_| serde::de::Error::custom(format!("“{text}” is not such a number"))),
    }
}

fn duration<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<u32>, D::Error> {
    match Option::<Loose<u32>>::deserialize(deserializer)? {
        None => Ok(None),
        Some(Loose::Value(seconds)) => Ok(Some(seconds)),
        Some(Loose::Text(text)) if text.trim().is_empty() => Ok(None),
        Some(Loose::Text(text)) => {
            let seconds = text.trim().parse().ok().or_else(|| read_duration(text.trim()));
            let expected =
                || format!("“{text}” is neither seconds nor a duration such as PT1M35S, from 1 to 28,800 seconds");
            seconds.map(Some).ok_or_else(|| serde::de::Error::custom(expected()))
        }
    }
}

/// Reads an ISO 8601 duration such as `PT1M35S` as whole seconds. Returns `None` if it is invalid or outside
/// [`DURATIONS`].
pub(crate) fn read_duration(text: &str) -> Option<u32> {
    let span: jiff::SignedDuration = text.parse().ok()?;
    u32::try_from(span.as_secs()).ok().filter(|seconds| DURATIONS.contains(seconds))
}

fn yes_or_no<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<bool>, D::Error> {
    match Option::<Loose<bool>>::deserialize(deserializer)? {
        None => Ok(None),
        Some(Loose::Value(value)) => Ok(Some(value)),
        Some(Loose::Text(text)) => read_yes_or_no(&text)
            .map(Some)
            .ok_or_else(|| serde::de::Error::custom(format!("“{text}” is neither yes nor no"))),
    }
}

fn words<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<String>, D::Error> {
    let words = match Option::<Loose<Vec<String>>>::deserialize(deserializer)? {
        None => Vec::new(),
        Some(Loose::Value(words)) => words,
        Some(Loose::Text(text)) => text.split(',').map(str::to_owned).collect(),
    };
    Ok(words.into_iter().map(|word| word.trim().to_owned()).filter(|word| !word.is_empty()).collect())
}

/// Reads the words that people and databases write for yes and no, including a single bit as a byte.
///
/// ```
/// use atlas_core::video::read_yes_or_no;
///
/// assert_eq!(["Yes", "t", "on", "1", "\u{1}"].map(read_yes_or_no), [Some(true); 5]);
/// assert_eq!(["no", "F", "off", "0", "\0"].map(read_yes_or_no), [Some(false); 5]);
/// assert_eq!(read_yes_or_no("perhaps"), None);
/// ```
pub fn read_yes_or_no(text: &str) -> Option<bool> {
    match text.trim().to_ascii_lowercase().as_str() {
        "yes" | "y" | "true" | "t" | "on" | "1" | "\u{1}" => Some(true),
        "no" | "n" | "false" | "f" | "off" | "0" | "\0" => Some(false),
        _ => None,
    }
}

/// The most tags of a video.
pub(crate) const MOST_TAGS: usize = 32;
/// The longest name of an uploader, in characters.
pub(crate) const UPLOADER_LONGEST: usize = 255;
/// The durations that the extension allows, in seconds.
pub const DURATIONS: std::ops::RangeInclusive<u32> = 1..=28_800;
/// The longest description that the video extension allows, in characters.
pub(crate) const VIDEO_DESCRIPTION_LONGEST: usize = 2048;

/// A required part that a video lacks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum VideoPart {
    /// `thumbnail_loc`.
    Thumbnail,
    /// `title`.
    Title,
    /// `description`.
    Description,
    /// Both `content_loc` and `player_loc`; or the only one given is the page itself.
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
    /// The parts that the video extension requires and that this video on the page at `page` lacks.
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

    /// The video as it may be written for the page at `page`: neither file nor player may be the page itself.
    #[must_use]
    pub fn beside(&self, page: &str) -> Self {
        let other = |place: &Option<String>| place.clone().filter(|place| place != page);
        Self { content_loc: other(&self.content_loc), player_loc: other(&self.player_loc), ..self.clone() }
    }

    /// The address by which two descriptions of one video are recognised: its file, else its player.
    pub fn place(&self) -> Option<&str> {
        self.content_loc.as_deref().or(self.player_loc.as_deref())
    }

    /// Fills what is missing from another description of the same video.
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
        fill(&mut self.rating, &other.rating);
        fill(&mut self.view_count, &other.view_count);
        fill(&mut self.publication_date, &other.publication_date);
        fill(&mut self.family_friendly, &other.family_friendly);
        fill(&mut self.restriction, &other.restriction);
        fill(&mut self.requires_subscription, &other.requires_subscription);
        fill(&mut self.uploader, &other.uploader);
        fill(&mut self.uploader_info, &other.uploader_info);
        fill(&mut self.platform, &other.platform);
        fill(&mut self.live, &other.live);
        if self.tags.is_empty() {
            self.tags.clone_from(&other.tags);
        }
    }

    /// Whether `other` describes the same video: it has the same file or player.
    pub(crate) fn same_as(&self, other: &Self) -> bool {
        let same = |mine: &Option<String>, theirs: &Option<String>| mine.is_some() && mine == theirs;
        same(&self.content_loc, &other.content_loc) || same(&self.player_loc, &other.player_loc)
    }

    /// The video as it may be written in a sitemap: addresses are completed by `place`, dates are read by `date`, and
    /// what the extension does not allow is removed.
    #[must_use]
    pub fn settled(self, place: impl Fn(&str) -> Option<Address>, date: impl Fn(&str) -> Option<Lastmod>) -> Self {
        let place = |text: Option<String>| {
            let address = place(text.as_deref().filter(|text| !text.trim().is_empty())?)?;
            Some(address.as_str().to_owned()).filter(|address| address.len() <= LONGEST)
        };
        let date = |text: Option<String>| date(&text?).map(|date| date.to_string());
        Self {
            thumbnail_loc: place(self.thumbnail_loc),
            content_loc: place(self.content_loc),
            player_loc: place(self.player_loc),
            uploader_info: place(self.uploader_info),
            expiration_date: date(self.expiration_date),
            publication_date: date(self.publication_date),
            duration: self.duration.filter(|seconds| DURATIONS.contains(seconds)),
            rating: self.rating.filter(|rating| (0.0..=5.0).contains(rating)),
            tags: self.tags.into_iter().take(MOST_TAGS).collect(),
            uploader: self.uploader.map(|name| name.chars().take(UPLOADER_LONGEST).collect()),
            ..self
        }
    }
}

/// Adds a description of a video to the known ones. A video that is described twice stays one video.
pub fn unite(videos: &mut Vec<Video>, telling: Video) {
    match videos.iter_mut().find(|known| known.same_as(&telling)) {
        Some(known) => known.complete_from(&telling),
        None => videos.push(telling),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn a_video_names_its_missing_fields() {
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

    #[rstest]
    #[case::as_written(r#"{"duration": 95, "rating": 4.5, "tags": ["cab", "film"], "family_friendly": true, "restriction": "allow GB IE"}"#)]
    #[case::as_text(r#"{"duration": "95", "rating": "4.5", "tag": "cab, film", "family_friendly": "yes", "restriction": "allow GB IE"}"#)]
    fn numbers_and_words_may_be_text(#[case] json: &str) {
        let video: Video = serde_json::from_str(json).unwrap();
        assert_eq!((video.duration, video.rating, video.family_friendly), (Some(95), Some(4.5), Some(true)));
        assert_eq!(video.tags, ["cab", "film"]);
        assert_eq!(video.restriction, Access::new("allow", "GB IE"));
        assert_eq!(serde_json::from_str::<Video>(&serde_json::to_string(&video).unwrap()).unwrap(), video);
    }

    #[rstest]
    #[case(r#"{"duration": "long"}"#, "neither seconds nor a duration")]
    #[case(r#"{"live": "maybe"}"#, "neither yes nor no")]
    #[case(r#"{"platform": "web"}"#, "allow or deny")]
    #[case(r#"{"length": 3}"#, "unknown field")]
    fn says_what_is_wrong(#[case] json: &str, #[case] wanted: &str) {
        let error = serde_json::from_str::<Video>(json).unwrap_err().to_string();
        assert!(error.contains(wanted), "{error}");
    }

    #[test]
    fn settling_leaves_out_what_the_extension_does_not_allow() {
        let page = Address::parse("https://www.marrowvale.example/films/").unwrap();
        let video = Video {
            content_loc: Some("cutting.webm".into()),
            player_loc: Some("javascript:play()".into()),
            duration: Some(30_000),
            rating: Some(5.5),
            tags: vec!["lamp".into(); 40],
            publication_date: Some("last May".into()),
            ..Video::default()
        };
        let video = video.settled(|text| page.join(text).ok(), |text| Lastmod::read(text, &jiff::tz::TimeZone::UTC));
        assert_eq!(video.content_loc.as_deref(), Some("https://www.marrowvale.example/films/cutting.webm"));
        assert_eq!((video.player_loc, video.duration, video.rating, video.publication_date), (None, None, None, None));
        assert_eq!(video.tags.len(), MOST_TAGS);
    }
}
