//! The build, and what is remembered from one build to the next.
//!
//! The modules are declared in an order in which each may use only those above it. The way of the data:
//!
//! | step | module |
//! |---|---|
//! | gather | [`source`] (what a source is), [`arrival`] (where its rows go) |
//! | settle, choose | [`settle`] (one entry per URL, joined with what the ledger remembers) |
//! | derive | `derive` (archives, groups of translations) |
//! | judge | `page_changes` (what is announced, and what has to be rewritten) |
//! | arrange | [`arrange`] (section, kind of file and file) |
//! | hold back | `guard` |
//! | write, declare | [`publish`] (files at a [`destination`]), [`extras`] (files for visitors and templates) |
//! | remember | [`ledger`], in terms of the [`model`] |
//!
//! Data that does not fit into memory is written to [`disk`]. [`provenance`] tracks which sources an entry comes from,
//! and how they map its fields. [`diagnostics`] finds what is worth knowing about a settled site, [`report`] holds the
//! results, and [`build`] drives everything, at an instant given by the [`clock`] and until it is asked to [`stop`].
#![deny(missing_docs, unnameable_types)]

mod bytes;

pub mod error;
pub mod report;
pub mod stop;
pub mod clock;
pub mod disk;
pub mod model;
pub mod ledger;
pub mod destination;
pub mod consoles;
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
mod page_texts;
pub mod uptake;
pub mod site_state;
