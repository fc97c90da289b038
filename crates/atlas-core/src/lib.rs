//! What a sitemap is and how one comes about: values in, values out.
//!
//! This crate reads no clock, no file and no network. It holds the small machines that a build drives. Modules stand here in the
//! order in which each may use those above it, which is nearly that in which data passes through them:
//!
//! | step | module |
//! |---|---|
//! | words of the field | [`address`], [`lastmod`], [`calendar`], [`language`], [`video`], [`entry`], [`hint`] |
//! | gather | [`robots`], [`page`] (what a page says), [`frontier`] (where a crawl goes next) |
//! | settle | [`contribution`] (what one source says of one URL, and how several are merged) |
//! | choose | [`archive`], [`choose`] (decisions with their reasons) |
//! | know again | [`fingerprint`] |
//! | derive | [`derive`](mod@derive) (groups of translations, news, structured data) |
//! | judge | [`judge`] (redesigns, shares of dates, losses) |
//! | arrange | [`placement`] (which file an entry lives in, and what files are called) |
//! | write | [`shape`] (what of an entry is written), [`format`](mod@format) (the sitemap formats), [`visitor`] (what visitors read) |
//! | declare | [`robots::declare`] |
//! | announce | [`announce`] |
//! | check | [`check`], [`accepted`] (what is not told any more) |
#![deny(missing_docs)]

mod varint;

pub mod address;
pub mod lastmod;
pub mod calendar;
pub mod rfc3339;
pub mod number;
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
