//! The logic of sitemaps, without input or output: values in, values out.
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
