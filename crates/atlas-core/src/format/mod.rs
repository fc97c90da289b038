//! The sitemap formats: writing and reading.
//!
//! ```
//! use atlas_core::entry::Entry;
//! use atlas_core::format::{Frame, read, write_url};
//!
//! let mut file = Frame::default().open(None);
//! write_url(&mut file, &Entry { address: "https://www.marrowvale.example/?a=1&b=2".into(), ..Entry::default() });
//! file.extend_from_slice(Frame::CLOSE);
//!
//! let mut locs = Vec::new();
//! read(&file, |url| locs.extend(url.loc), |_| ()).unwrap();
//! assert_eq!(locs, ["https://www.marrowvale.example/?a=1&b=2"]);
//! ```

mod text;
mod urlset;
mod index;
mod raw;
mod read;

pub use self::index::{IndexLine, index};
pub use self::raw::{RawNews, RawSitemap, RawUrl};
pub use self::read::{Document, ReadError, read};
pub use self::text::clean;
pub(crate) use self::text::{has_special, push_escaped};
pub use self::urlset::{Bare, ElementSink, Frame, URL_END, url_bytes, write_url};

/// The namespace of the protocol itself (sitemaps protocol 0.9).
pub const SITEMAP: &str = "http://www.sitemaps.org/schemas/sitemap/0.9";
/// The namespace of the image extension.
pub const IMAGE: &str = "http://www.google.com/schemas/sitemap-image/1.1";
/// The namespace of the video extension.
pub const VIDEO: &str = "http://www.google.com/schemas/sitemap-video/1.1";
/// The namespace of the news extension.
pub const NEWS: &str = "http://www.google.com/schemas/sitemap-news/0.9";
/// The namespace of links to the same page in other languages.
pub const XHTML: &str = "http://www.w3.org/1999/xhtml";
