//! What survives a build, and the build itself.
//!
//! Modules stand here in the order in which each may use those above it. The way of the data:
//!
//! | step | module |
//! |---|---|
//! | gather | [`source`] (what a source is), [`arrival`] (where its rows go) |
//! | settle, choose | [`settle`] (one entry a URL, joined with what the ledger remembers) |
//! | derive | `derive` (archives, groups of translations) |
//! | judge | `page_changes` (what is news, and what has to be written) |
//! | arrange | [`arrange`] (section, kind of file and file) |
//! | hold back | `guard` |
//! | write, declare | [`publish`] (files at a [`destination`]), [`extras`] (those for visitors and templates) |
//! | remember | [`ledger`], in terms of the [`model`] |
//!
//! What does not fit into memory meanwhile waits on the [`disk`]. Where entries come from, and how, is told by [`provenance`].
//! [`diagnostics`] is what deserves notice about a settled site, [`report`] is what there is to say, and [`build`] drives it all, at
//! an instant of the [`clock`] and until it is asked to [`stop`].
#![deny(missing_docs)]

mod bytes;

pub mod error;
pub mod report;
pub mod stop;
pub mod clock;
pub mod disk;
pub mod model;
pub mod ledger;
pub mod destination;
pub mod arrival;
pub mod provenance;
pub mod source;
pub mod settle;
mod derive;
mod page_changes;
pub mod arrange;
pub mod extras;
pub mod publish;
mod guard;
pub mod diagnostics;
pub mod build;
