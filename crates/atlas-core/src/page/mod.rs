//! What a page says about itself: everything a sitemap needs to know, read from its HTML in one pass.
//!
//! The reader takes tokens as the HTML Standard cuts them and builds no tree, so its memory does not depend on how deep
//! a page nests. What it collects is bounded: see the constants here.
//!
//! ```
//! use atlas_core::address::Address;
//! use atlas_core::page::{Reader, read};
//! use jiff::tz::TimeZone;
//!
//! let html = b"<html lang=cy><title>Amserlen</title><meta name=robots content=noindex><main>Tr\xc3\xaan 10:40";
//! let address = Address::parse("https://www.marrowvale.example/cy/amserlen/").unwrap();
//! let page = read(html, &address, &Reader { timezone: TimeZone::UTC, tokens: vec![] }).unwrap();
//! assert_eq!(page.title.as_deref(), Some("Amserlen"));
//! assert_eq!(page.language.as_deref(), Some("cy"));
//! assert_eq!(page.noindex.as_deref(), Some("<meta name=\"robots\" content=\"noindex\">"));
//! ```

mod digest;
mod encoding;
mod linked_data;
mod media;
mod reader;

use std::borrow::Cow;

use jiff::tz::TimeZone;
use thiserror::Error;

use crate::address::Address;
use crate::contribution::Said;
use crate::entry::Video;
use crate::lastmod::Lastmod;

pub use reader::read;

/// The version of this reader. A new one finds other words on the same page, so digests taken by different versions are
/// never compared: the ledger takes the new ones over in silence.
pub const VERSION: u32 = 1;

/// The most pictures of one page: the limit of the image extension.
pub const MOST_IMAGES: usize = 1000;
/// The most videos of one page.
pub const MOST_VIDEOS: usize = 200;
/// The most links of one page.
pub const MOST_LINKS: usize = 10_000;
/// The most headings of one page.
pub const MOST_HEADINGS: usize = 500;
/// The longest title, heading or other text that is kept, in bytes.
pub const LONGEST_TEXT: usize = 4096;
/// The largest block of linked data that is read, in bytes.
pub const LARGEST_DATA: usize = 1024 * 1024;

/// How pages are read.
#[derive(Debug, Clone)]
pub struct Reader {
    /// The zone of dates that state none.
    pub timezone: TimeZone,
    /// Crawlers whose own robots directives count, besides those for all: lower-case product tokens.
    pub tokens: Vec<String>,
}

/// What one page says.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Page {
    /// The `title` of the head, else the first heading of the first level.
    pub title: Option<String>,
    /// The `description` of the head, else the one of Open Graph.
    pub description: Option<String>,
    /// The `lang` of the root element.
    pub language: Option<String>,
    /// Where the page says its original is (RFC 6596), itself included.
    pub canonical: Option<Address>,
    /// The robots directive that forbids indexing, as it stands on the page.
    pub noindex: Option<String>,
    /// Another address that visitors are sent on to within a few seconds.
    pub refresh: Option<Address>,
    /// The declared date of the last change.
    pub modified: Option<Lastmod>,
    /// The declared date of publication.
    pub published: Option<Lastmod>,
    /// Pictures of the content, each once, in the order of the page.
    pub images: Vec<Address>,
    /// Videos, with what the page knows of them.
    pub videos: Vec<Video>,
    /// Headings of the content.
    pub headings: Vec<Heading>,
    /// Links as they stand on the page.
    pub links: Vec<Link>,
    /// A digest of the main content: navigation, header, footer, scripts, attributes and white space do not move it.
    pub digest: u64,
    /// The page's own word to this tool: `<meta name="idle-atlas" content="keep=no">`.
    pub keep: Option<bool>,
    /// Whether it has a head, stated or implied by a title.
    pub has_head: bool,
}

/// A heading.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Heading {
    /// 1 to 6.
    pub level: u8,
    /// Its text, white space folded.
    pub text: String,
}

/// A link on a page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// The reference as it stands there; complete it with [`Address::join`].
    pub href: String,
    /// Its `rel`, such as `nofollow`; empty where there is none.
    pub rel: String,
}

/// Why a file is no page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum PageError {
    /// It holds bytes that no text holds.
    #[error("it is binary data, not HTML")]
    Binary,
    /// It holds nothing.
    #[error("it is empty")]
    Empty,
}

impl Page {
    /// The page as a contribution for its address.
    pub fn into_said(self, address: &Address) -> Said<'static> {
        let owned = |address: Address| Cow::Owned(address.as_str().to_owned());
        Said {
            url: owned(address.clone()),
            modified: self.modified,
            published: self.published,
            title: self.title.map(Cow::Owned),
            description: self.description.map(Cow::Owned),
            language: self.language.map(Cow::Owned),
            images: self.images.into_iter().map(owned).collect(),
            videos: self.videos,
            digest: Some(self.digest),
            noindex: self.noindex.map(Cow::Owned),
            canonical: self.canonical.map(owned),
            refresh: self.refresh.map(owned),
            keep: self.keep,
            no_head: !self.has_head,
            ..Said::default()
        }
    }
}
