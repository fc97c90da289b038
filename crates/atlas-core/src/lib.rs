//! What a sitemap is and how one comes about: values in, values out.
//!
//! This crate reads no clock, no file and no network. It holds the small machines that a build drives, in the order
//! in which the data passes through them:
//!
//! | step | module |
//! |---|---|
//! | gather | [`page`] (what a page says), [`contribution`] (what one source says of one URL) |
//! | settle | [`contribution::Said::merge`], [`fingerprint`] |
//! | choose | [`choose`] (decisions with their reasons), [`robots`], [`section`] |
//! | derive | [`archive`], [`alternates`], [`news`] |
//! | arrange | [`strand`], [`placement`] (which file an entry lives in) |
//! | write | [`shape`] (what of an entry is written), [`format`](mod@format) (the sitemap formats, written and read), [`people`] (what visitors read), [`structured`] |
//! | declare | [`robots::declare`] |
//! | announce | [`indexnow`] |
//! | check | [`inspect`], [`finding`], [`accepted`] (what is not told any more) |
//!
//! Underneath stand the words of the field as types: [`address`], [`lastmod`], [`calendar`], [`entry`].
#![deny(missing_docs)]

pub mod accepted;
pub mod address;
pub mod alternates;
pub mod archive;
pub mod calendar;
pub mod choose;
pub mod contribution;
pub mod entry;
pub mod finding;
pub mod fingerprint;
pub mod format;
pub mod frontier;
pub mod indexnow;
pub mod inspect;
pub mod language;
pub mod lastmod;
pub mod links;
pub mod news;
pub mod page;
pub mod people;
pub mod placement;
pub mod query;
pub mod rfc3339;
pub mod robots;
pub mod section;
pub mod shape;
pub mod strand;
pub mod structured;
pub mod titles;
pub mod video;

mod varint;
