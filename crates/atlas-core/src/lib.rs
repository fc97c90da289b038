//! The logic of sitemaps, without input or output: values in, values out.
//!
//! What others need stands at the top of the crate: [`UrlsetWriter`] writes sitemap files, [`read_sitemap`] reads them,
//! [`Robots`] matches robots.txt, and [`Choices`] decide about a page. Everything else is what Idle Atlas is made of: it is
//! documented, and may change with any version.
//!
//! # Write a sitemap with pictures, and split it
//!
//! ```
//! use atlas_core::{Address, Entry, Lastmod, Limits, UrlsetWriter};
//! use jiff::tz::TimeZone;
//!
//! let limits = Limits { urls: 2, ..Limits::PROTOCOL };
//! let (mut files, mut writer) = (Vec::new(), UrlsetWriter::new(limits));
//! for halt in ["lampworks", "kettlewend", "upper-weir"] {
//!     let address = Address::parse(&format!("https://www.marrowvale.example/halts/{halt}/"))?;
//!     let mut entry = Entry::new(address);
//!     entry.lastmod = Lastmod::read("2026-11-23", &TimeZone::UTC);
//!     entry.images = vec![format!("https://www.marrowvale.example/pictures/{halt}.jpg").into()];
//!     if writer.push(&entry).is_err() {
//!         let full = std::mem::replace(&mut writer, UrlsetWriter::new(limits));
//!         files.push(full.finish(None));
//!         writer.push(&entry)?;
//!     }
//! }
//! files.push(writer.finish(None));
//! assert_eq!(files.len(), 2);
//! assert!(String::from_utf8_lossy(&files[0]).contains("<image:loc>https://www.marrowvale.example/pictures/lampworks.jpg"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # Read a sitemap
//!
//! ```
//! let file = br#"<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">
//! <url><loc>https://www.marrowvale.example/fares/</loc><lastmod>2026-11-02</lastmod></url></urlset>"#;
//! let mut pages = Vec::new();
//! atlas_core::read_sitemap(file, |url| pages.push((url.loc.unwrap_or_default(), url.lastmod)), |_index| ())?;
//! assert_eq!(pages, [("https://www.marrowvale.example/fares/".into(), Some("2026-11-02".into()))]);
//! # Ok::<(), atlas_core::format::ReadError>(())
//! ```
//!
//! # Decide about a page
//!
//! ```
//! use atlas_core::choose::{Reason, Sections, Verdict};
//! use atlas_core::{Calendar, Choices, Contribution, Robots, Site};
//!
//! let site = Site::parse("https://www.marrowvale.example/")?;
//! let choices = Choices::of(site, Sections::new(Vec::new(), []));
//! let chooser = choices.chooser(Robots::read(b"User-agent: *\nDisallow: /staff/\n"), Calendar::utc(1_795_435_200));
//! let page = |path: &str| Contribution {
//!     url: format!("https://www.marrowvale.example{path}").into(),
//!     ..Contribution::default()
//! };
//! assert!(matches!(chooser.choose(&page("/fares/"), &[0]), Verdict::Kept(_)));
//! assert_eq!(chooser.choose(&page("/staff/rota/"), &[0]), Verdict::LeftOut(Reason::Disallowed));
//! // Each step of the decision, in words.
//! let (_, steps) = chooser.explain(&page("/staff/rota/"), &[0]);
//! assert!(steps.iter().any(|step| step.question == "robots.txt"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # Match robots.txt
//!
//! ```
//! use atlas_core::{Robots, sitemap_lines};
//!
//! let file = b"User-agent: lampbot\nDisallow: /staff/\nAllow: /staff/welcome/\n\nSitemap: https://www.marrowvale.example/sitemap.xml\n";
//! let robots = Robots::read(file);
//! assert_eq!(robots.barred("lampbot", "/staff/rota/").map(|rule| rule.line), Some(2));
//! assert!(robots.barred("lampbot", "/staff/welcome/").is_none());
//! assert!(robots.barred("other", "/staff/rota/").is_none());
//! assert_eq!(sitemap_lines(file)[0].1, "https://www.marrowvale.example/sitemap.xml");
//! ```
//!
//! # How it is made
//!
//! This crate has no clock, file system or network. It holds the small machines that a build drives. The modules are
//! declared in an order in which each may use only those above it, which is nearly the order in which data passes
//! through them:
//!
//! | step | module |
//! |---|---|
//! | vocabulary | [`address`], [`lastmod`], [`calendar`], [`language`], [`video`], [`entry`], [`hint`] |
//! | gather | [`robots`], [`page`] (what a page says), [`frontier`] (where a crawl goes next) |
//! | settle | [`contribution`] (what one source says of one URL, and how several are merged) |
//! | choose | [`archive`], [`choose`] (decisions with their reasons) |
//! | recognise | [`fingerprint`] |
//! | derive | [`derive`](mod@derive) (groups of translations, news, structured data) |
//! | judge | [`judge`] (redesigns, unreliable dates, losses) |
//! | arrange | [`placement`] (which file an entry is in, and how files are named) |
//! | write | [`output_policy`] (what is written for an entry), [`format`](mod@format) (the sitemap formats), [`visitor`] (pages and feeds for visitors) |
//! | declare | [`robots::declare`] |
//! | announce | [`announce`] |
//! | check | [`check`], [`accepted`] (findings that are no longer shown) |
//! | look back | [`uptake`] (what engines took) |
#![deny(missing_docs, unnameable_types)]

/// The library of dates and time zones whose types are part of the interface.
pub use jiff;

mod varint;

pub mod number;
pub mod address;
pub mod lastmod;
pub mod calendar;
pub mod rfc3339;
pub mod language;
pub mod query;
pub mod titles;
pub mod links;
pub mod frontier;
pub mod video;
pub mod entry;
pub mod hint;
pub mod report;
pub mod accepted;
pub mod robots;
pub mod placement;
pub mod page;
pub mod contribution;
pub mod archive;
pub mod choose;
pub mod fingerprint;
pub mod derive;
pub mod judge;
pub mod output_policy;
pub mod format;
pub mod visitor;
pub mod announce;
pub mod check;
pub mod uptake;
#[cfg(feature = "schema")]
mod schema;

pub use address::{Address, Site};
pub use calendar::Calendar;
pub use choose::Choices;
pub use contribution::Contribution;
pub use entry::Entry;
pub use format::{UrlsetWriter, read as read_sitemap};
pub use lastmod::Lastmod;
pub use placement::Limits;
pub use robots::{Robots, sitemap_lines};
