//! What survives a build, and the build itself.
//!
//! The way of the data, one module a step:
//!
//! | step | module |
//! |---|---|
//! | gather | [`source`] (what a source is), [`arrival`] (where its rows go) |
//! | settle, choose | [`settle`] (one entry a URL, joined with what the ledger remembers) |
//! | derive | `derive` (archives, groups of translations) |
//! | arrange | [`arrange`] (section, strand and file) |
//! | write, declare | [`publish`] (files in the web root), [`people`] (those for people), [`disk`], [`squeeze`] |
//! | remember | [`ledger`] |
//!
//! What does not fit into memory meanwhile waits in [`spill`]. Where entries come from, and how, is told by [`provenance`].
//!
//! [`build`] drives them; [`report`] is what it has to say.
#![deny(missing_docs)]

mod bytes;

pub mod error;
pub mod report;
pub mod disk;
pub mod model;
pub mod ledger;
pub mod arrival;
pub mod provenance;
pub mod source;
pub mod settle;
mod derive;
pub mod arrange;
pub mod people;
pub mod publish;
pub mod look;
pub mod build;
