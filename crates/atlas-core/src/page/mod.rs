//! Reading a page: everything that a sitemap needs to know, from its HTML in one pass.
//!
//! The reader takes tokens as the HTML Standard defines them and builds no tree, so its memory does not depend on how
//! deeply a page nests. The constants here limit what it collects.
//!
//! ```
//! use atlas_core::address::Address;
//! use atlas_core::page::{PageReader, read};
//!
//! let html = b"<html lang=cy><title>Amserlen</title><meta name=robots content=noindex><main>Tr\xc3\xaan 10:40";
//! let address = Address::parse("https://www.marrowvale.example/cy/amserlen/").unwrap();
//! let page = read(html, &address, &PageReader::default()).unwrap();
//! assert_eq!(page.title.as_deref(), Some("Amserlen"));
//! assert_eq!(page.language.as_deref(), Some("cy"));
//! assert_eq!(page.noindex.as_deref(), Some("<meta name=\"robots\" content=\"noindex\">"));
//! ```

mod facts;
mod tokens;
mod encoding;
mod digest;
mod media;
mod films;
mod linked_data;
mod players;
mod link_header;
mod reading;
mod metas;
mod feed_links;
mod head;
mod body;
mod reader;
mod link_spots;
mod oembed;

use jiff::tz::TimeZone;
use thiserror::Error;

use crate::address::Address;
use crate::entry::{Changefreq, DatePolicy, Priority};
use crate::language::Alternate;
use crate::lastmod::Lastmod;
use crate::query::Parameters;
use crate::titles;
use crate::video::{Video, read_yes_or_no};

pub use self::link_spots::{LinkSpot, link_spots};
pub use encoding::by_header;
pub use facts::PageFacts;
pub use feed_links::feed_links;
pub use link_header::HeaderLinks;
pub use metas::metas;
pub use oembed::read_oembed;
pub use players::{Player, PlayerError, player_entry};
pub use reader::{read, text_of};

/// The version of this reader. A new version finds other words on the same page, so digests of different versions are
/// never compared: the ledger takes over the new ones without an announcement.
pub const VERSION: u32 = 7;

/// The most pictures on one page: the limit of the image extension.
pub const MOST_IMAGES: usize = 1000;
/// The most videos on one page.
pub const MOST_VIDEOS: usize = 200;
/// The most links on one page.
pub(crate) const MOST_LINKS: usize = 10_000;
/// The most translations of one page.
pub(crate) const MOST_ALTERNATES: usize = 500;
/// The most headings on one page.
pub(crate) const MOST_HEADINGS: usize = 500;
/// The most categories, tags or authors of one page.
pub(crate) const MOST_NAMES: usize = 100;
/// The longest title, heading or other text that is kept, in bytes.
pub(crate) const LONGEST_TEXT: usize = 4096;
/// The largest block of linked data that is read, in bytes.
pub(crate) const LARGEST_DATA: usize = 1024 * 1024;

/// The settings for reading pages.
#[derive(Debug, Clone)]
pub struct PageReader {
    /// The zone of dates without one.
    pub timezone: TimeZone,
    /// The crawlers whose own robots directives count, besides those for all: lower-case product tokens.
    pub tokens: Vec<String>,
    /// The players that the site has configured.
    pub players: Vec<Player>,
    /// Whether to take the pictures of Open Graph and linked data even if the content does not contain them.
    pub lead_picture: bool,
    /// Query parameters that do not select another picture or video.
    pub drop_parameters: Parameters,
}

impl Default for PageReader {
    fn default() -> Self {
        Self {
            timezone: TimeZone::UTC,
            tokens: Vec::new(),
            players: Vec::new(),
            lead_picture: true,
            drop_parameters: Parameters::default(),
        }
    }
}

impl PageReader {
    /// The settings as text, which differs whenever they could change what is read from a page.
    pub fn written(&self) -> String {
        let Self { timezone, tokens, players, lead_picture, drop_parameters } = self;
        format!("{:?} {tokens:?} {players:?} {lead_picture} {}", timezone.iana_name(), drop_parameters.written())
    }
}

/// The contents of one page.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Page {
    /// The `title` of the head, else the first `h1`.
    pub title: Option<String>,
    /// Addresses of frames that look like players but match no configured one.
    pub unknown_players: Vec<Address>,
    /// The page's own heading, without the site's name: `headline` of its linked data, else the title of Open Graph,
    /// else the first `h1`.
    pub headline: Option<String>,
    /// The `description` of the head, else that of Open Graph.
    pub description: Option<String>,
    /// The `lang` of the root element.
    pub language: Option<String>,
    /// The canonical address that the page declares (RFC 6596), which may be its own.
    pub canonical: Option<Address>,
    /// The robots directive that forbids indexing, as written.
    pub noindex: Option<String>,
    /// The page asks crawlers not to follow its links.
    pub nofollow: bool,
    /// The day after which the page asks not to be listed.
    pub expires: Option<Lastmod>,
    /// Another address, to which visitors are redirected within a few seconds.
    pub refresh: Option<Address>,
    /// The declared date of the last change.
    pub modified: Option<Lastmod>,
    /// The declared date of publication.
    pub published: Option<Lastmod>,
    /// The pictures of the content, without duplicates, in the order of the page.
    pub images: Vec<Address>,
    /// The videos, with what the page says of them.
    pub videos: Vec<Video>,
    /// The same page in other languages.
    pub alternates: Vec<Alternate<'static>>,
    /// Where to ask for a description of the page's video (oEmbed discovery).
    pub oembed: Option<Address>,
    /// The frames on the page, players or not.
    pub frames: Vec<Address>,
    /// The headings of the content.
    pub headings: Vec<Heading>,
    /// The first paragraph of the content that is longer than a few words.
    pub first_paragraph: Option<String>,
    /// The links on the page, without duplicates, to any host.
    pub links: Vec<Link>,
    /// A digest of the main content, which navigation, header, footer, scripts, attributes and white space do not
    /// affect.
    pub digest: u64,
    /// The page's own instructions to this tool: `<meta name="idle-atlas" content="keep=no">`.
    pub own_word: OwnWord,
    /// Its categories: `article:section`, or `articleSection` of linked data.
    pub categories: Vec<String>,
    /// `article:tag`.
    pub tags: Vec<String>,
    /// Its authors: `<meta name="author">`, or `author` of linked data.
    pub authors: Vec<String>,
    /// The videos that the page describes as linked data.
    pub stated_videos: Vec<Video>,
    /// Whether it has a head, written or implied by a title.
    pub has_head: bool,
    /// An instruction that decides whether the page is listed and that cannot be read.
    pub unreadable: Option<String>,
    /// Other instructions to engines or to this tool that cannot be read: what, and what was expected.
    pub troubles: Vec<String>,
    /// The number of bytes of text in the content.
    pub text_bytes: usize,
    /// Facts about its content.
    pub facts: PageFacts,
    /// The number of scripts on the page, without data blocks.
    pub scripts: usize,
}

/// What a page or row asks of this tool for itself. It takes precedence over all rules.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct OwnWord {
    /// Whether it is listed.
    pub keep: Option<bool>,
    /// Its section.
    pub section: Option<String>,
    /// Its hint.
    pub priority: Option<Priority>,
    /// Its hint.
    pub changefreq: Option<Changefreq>,
    /// Which date is written.
    pub date_policy: Option<DatePolicy>,
    /// Whether engines are told of it.
    pub announce: Option<bool>,
}

impl OwnWord {
    /// Reads `keep=no, section=halts, priority=0.8`. What it does not understand is passed to `unread`, in words; a
    /// `keep` that is neither yes nor no is passed to `shut`.
    ///
    /// ```
    /// let word = atlas_core::page::OwnWord::read("keep = no, section=halts", &mut |_| (), &mut |_| ());
    /// assert_eq!((word.keep, word.section.as_deref()), (Some(false), Some("halts")));
    /// ```
    pub fn read(content: &str, unread: &mut impl FnMut(String), shut: &mut impl FnMut(String)) -> Self {
        let mut word = Self::default();
        for part in content.split(',').map(str::trim).filter(|part| !part.is_empty()) {
            let (key, value) = part.split_once('=').map_or((part, ""), |(key, value)| (key.trim(), value.trim()));
            let known = match key {
                "keep" => {
                    word.keep = read_yes_or_no(value);
                    if word.keep.is_none() {
                        shut(format!("keep “{value}”"));
                    }
                    true
                }
                "section" => {
                    word.section = Some(value.to_owned()).filter(|name| !name.is_empty());
                    word.section.is_some()
                }
                "priority" => {
                    word.priority = value.parse().ok().and_then(Priority::new);
                    word.priority.is_some()
                }
                "changefreq" => {
                    word.changefreq = value.parse().ok();
                    word.changefreq.is_some()
                }
                "date_policy" => {
                    word.date_policy = value.parse().ok();
                    word.date_policy.is_some()
                }
                "announce" => {
                    word.announce = read_yes_or_no(value);
                    word.announce.is_some()
                }
                _ => false,
            };
            if !known {
                unread(format!(
                    "its instruction to this tool, “{part}”, is not understood; expected keep=no, section=NAME, priority=0.8, changefreq=daily, date_policy=seen or announce=no"
                ));
            }
        }
        word
    }
}

/// A heading.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Heading {
    /// Its level, 1 to 6.
    pub level: u8,
    /// Its text, white space folded.
    pub text: String,
}

/// A link on a page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// Its target, without the fragment.
    pub address: Address,
    /// Whether its `rel` asks crawlers not to follow it.
    pub nofollow: bool,
}

/// A robots directive, in a `meta` element or in the header `X-Robots-Tag`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct RobotsWords<'a> {
    /// Do not list the page.
    pub noindex: bool,
    /// Do not follow its links.
    pub nofollow: bool,
    /// Do not list its pictures.
    pub no_image_index: bool,
    /// Do not list the page after this date.
    pub unavailable_after: Option<&'a str>,
}

/// Reads a robots directive: words separated by commas. After `unavailable_after` comes a date and perhaps further
/// words, for [`Lastmod::read_deadline`].
pub fn robots_words(content: &str) -> RobotsWords<'_> {
    let mut words = RobotsWords::default();
    for (at, word) in content.split(',').scan(0, |at, word| Some((std::mem::replace(at, *at + word.len() + 1), word))) {
        match word.trim().to_ascii_lowercase().as_str() {
            "noindex" => words.noindex = true,
            "nofollow" => words.nofollow = true,
            "none" => (words.noindex, words.nofollow) = (true, true),
            "noimageindex" => words.no_image_index = true,
            word if word.starts_with("unavailable_after") => {
                words.unavailable_after = content[at..].split_once(':').map(|(_, date)| date.trim());
            }
            _ => {}
        }
    }
    words
}

/// Reads a header `X-Robots-Tag`: as [`robots_words`], with the crawler that it addresses before a colon. Directives
/// for crawlers that are not among `tokens` are ignored.
pub fn robots_header<'a>(value: &'a str, tokens: &[String]) -> RobotsWords<'a> {
    let named = value.split_once(':').filter(|(name, _)| {
        let name = name.trim();
        !name.is_empty() && !name.contains([',', ' ']) && !name.eq_ignore_ascii_case("unavailable_after")
    });
    match named {
        Some((token, words)) if tokens.iter().any(|known| token.trim().eq_ignore_ascii_case(known)) => {
            robots_words(words)
        }
        Some(_) => RobotsWords::default(),
        None => robots_words(value),
    }
}

/// Why a file is not a page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum PageError {
    /// It contains bytes that no text contains.
    #[error("it is binary data, not HTML")]
    Binary,
    /// It is empty.
    #[error("it is empty")]
    Empty,
}

/// The words of pages that stand between a crawler and the site: a page matches if its text contains every word of a
/// group, anywhere.
const WALL_WORDS: [&[&str]; 7] = [
    &["captcha"],
    &["access", "denied"],
    &["verify", "human"],
    &["prove", "human"],
    &["confirm", "human"],
    &["you", "robot"],
    &["check", "browser"],
];
/// A page with fewer bytes of text than this is empty without its scripts.
const LEAST_TEXT: usize = 40;

impl Page {
    /// Whether the page is a challenge to robots rather than a page of the site.
    pub fn is_wall(&self) -> bool {
        let headings = self.headings.iter().map(|heading| heading.text.as_str());
        let texts = self.title.as_deref().into_iter().chain(self.first_paragraph.as_deref()).chain(headings);
        let says = |text: &str| {
            let text = text.to_lowercase();
            WALL_WORDS.iter().any(|words| words.iter().all(|word| text.contains(word)))
        };
        self.links.len() <= 3 && texts.take(8).any(says)
    }

    /// Whether the page is empty until a script has run.
    pub fn needs_script(&self) -> bool {
        self.text_bytes < LEAST_TEXT && self.scripts > 0 && self.links.len() <= 3
    }

    /// Its title, without the site's name after it if the page's headline shows that there is one.
    pub fn own_title(&self) -> Option<String> {
        let title = self.title.as_deref()?;
        let own = titles::ending(title).map(|(own, _)| own.trim());
        let own = own.filter(|own| self.headline.as_deref().map(str::trim) == Some(own) && !own.is_empty());
        Some(own.unwrap_or(title).to_owned())
    }
}
