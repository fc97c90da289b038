//! The sitemap formats: writing and reading.
//!
//! ```
//! use atlas_core::address::Address;
//! use atlas_core::entry::Entry;
//! use atlas_core::format::{UrlsetWriter, read};
//! use atlas_core::placement::Limits;
//!
//! let mut writer = UrlsetWriter::new(Limits::PROTOCOL);
//! writer.push(&Entry::new(Address::parse("https://www.marrowvale.example/?a=1&b=2").unwrap())).unwrap();
//!
//! let mut locs = Vec::new();
//! let file = writer.finish(None);
//! read(&file, |url| locs.extend(url.loc), |_| ()).unwrap();
//! assert_eq!(locs, ["https://www.marrowvale.example/?a=1&b=2"]);
//! ```

mod text;
mod urlset;
mod writer;
mod index;
mod oddity;
mod elements;
mod raw;
mod plain;
mod well_formed;
mod decode;
mod read;
mod feed;

pub use self::decode::{Decoded, decode};
pub use self::elements::VideoElement;
pub use self::feed::{Feed, read_feed, read_lines};
pub use self::index::{IndexLine, index};
pub use self::oddity::{Oddity, OddityKind};
pub use self::raw::{RawNews, RawSitemap, RawUrl, RawVideo, VideoText};
pub use self::read::{Document, ReadError, SitemapVisitor, read, read_element, visit};
pub use self::text::clean;
pub(crate) use self::text::{has_special, push_escaped};
pub use self::urlset::{Bare, Frame, URL_END, url_bytes};
pub use self::writer::UrlsetWriter;

/// The namespace of the protocol itself (sitemaps protocol 0.9).
pub(crate) const SITEMAP: &str = "http://www.sitemaps.org/schemas/sitemap/0.9";
/// The namespace of the image extension.
pub(crate) const IMAGE: &str = "http://www.google.com/schemas/sitemap-image/1.1";
/// The namespace of the video extension.
pub(crate) const VIDEO: &str = "http://www.google.com/schemas/sitemap-video/1.1";
/// The namespace of the news extension.
pub const NEWS: &str = "http://www.google.com/schemas/sitemap-news/0.9";
/// The namespace of links to the same page in other languages.
pub(crate) const XHTML: &str = "http://www.w3.org/1999/xhtml";

#[cfg(test)]
mod round_trip;
