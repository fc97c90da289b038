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

pub mod arrange;
pub mod arrival;
pub mod build;
mod bytes;
mod derive;
pub mod disk;
pub mod error;
pub mod ledger;
pub mod look;
pub mod people;
pub mod provenance;
pub mod publish;
pub mod report;
pub mod settle;
pub mod source;
pub mod spill;
pub mod squeeze;
