//! The build, and what is remembered from one build to the next.
//!
//! What others need stands at the top of the crate: a [`Job`] says what to build from and where to, and [`build`](fn@build),
//! [`survey`] and [`recorded`] do it. Everything else is what Idle Atlas is made of: it is documented, and may change with any
//! version.
//!
//! # Build a site into a folder, from an iterator of your own
//!
//! ```
//! use atlas_core::{Choices, Contribution, Site};
//! use atlas_core::choose::Sections;
//! use atlas_store::{Ended, Folder, Job, MadeSource, Names, Source, ledger};
//! use jiff::Timestamp;
//!
//! let folder = tempfile::tempdir()?;
//! let (public, memory) = (folder.path().join("public"), folder.path().join("memory"));
//! std::fs::create_dir(&public)?;
//!
//! let root = "https://www.marrowvale.example/";
//! let rows = MadeSource::new("halts", move || {
//!     ["lampworks", "kettlewend"].map(|halt| Contribution {
//!         url: format!("{root}halts/{halt}/").into(),
//!         title: Some(halt.into()),
//!         ..Contribution::default()
//!     })
//! });
//! let sources: Vec<Box<dyn Source>> = vec![Box::new(rows)];
//! let choices = Choices::of(Site::parse(root)?, Sections::new(Vec::new(), []));
//! let (destination, names) = (Folder::new(public.clone(), public.clone(), None, None), Names::of(root));
//!
//! let mut ledger = ledger::open(&memory)?;
//! let job = Job::new(&sources, &choices, (&destination, &names), &memory, Timestamp::now());
//! let Ended::Built(built) = atlas_store::build(&job, &mut *ledger)? else { panic!("a guard held it back") };
//! assert_eq!(built.survey.entries(), 2);
//! assert!(public.join("sitemap.xml").exists());
//!
//! // A second build finds nothing to do.
//! let Ended::Built(again) = atlas_store::build(&job, &mut *ledger)? else { panic!() };
//! assert!(again.written.is_empty());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # Look, without writing anything
//!
//! ```
//! # use atlas_core::{Choices, Contribution, Site};
//! # use atlas_core::choose::{Reason, Sections};
//! # use atlas_store::{InMemory, Job, MadeSource, Names, Source, ledger};
//! # let folder = tempfile::tempdir()?;
//! # let root = "https://www.marrowvale.example/";
//! let rows = MadeSource::new("pages", move || {
//!     let page = |path: &str| Contribution { url: format!("{root}{path}").into(), ..Contribution::default() };
//!     [page("fares/"), Contribution { draft: true, ..page("gala/") }]
//! });
//! let sources: Vec<Box<dyn Source>> = vec![Box::new(rows)];
//! let choices = Choices::of(Site::parse(root)?, Sections::new(Vec::new(), []));
//! let (destination, names) = (InMemory::default(), Names::of(root));
//! let mut ledger = ledger::open(folder.path())?;
//! let job = Job::new(&sources, &choices, (&destination, &names), folder.path(), jiff::Timestamp::now());
//! let survey = atlas_store::survey(&job, &mut *ledger)?;
//! assert_eq!(survey.entries(), 1);
//! assert_eq!(survey.left_out[0].reason, Reason::Draft);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # Ask what is remembered of a URL
//!
//! ```
//! # use atlas_core::{Choices, Contribution, Site};
//! # use atlas_core::choose::Sections;
//! # use atlas_store::{InMemory, Job, MadeSource, Names, Source, ledger};
//! # let folder = tempfile::tempdir()?;
//! # let root = "https://www.marrowvale.example/";
//! # let rows = MadeSource::new("pages", move || [Contribution { url: format!("{root}fares/").into(), ..Contribution::default() }]);
//! # let sources: Vec<Box<dyn Source>> = vec![Box::new(rows)];
//! # let choices = Choices::of(Site::parse(root)?, Sections::new(Vec::new(), []));
//! # let (destination, names) = (InMemory::default(), Names::of(root));
//! # let mut ledger = ledger::open(folder.path())?;
//! # let job = Job::new(&sources, &choices, (&destination, &names), folder.path(), jiff::Timestamp::now());
//! atlas_store::build(&job, &mut *ledger)?;
//! let known = atlas_store::recorded(&job, &*ledger, "https://www.marrowvale.example/fares/")?;
//! assert!(known.is_some());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # How it is made
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
//! results, and [`build`](mod@build) drives everything, at an instant given by the [`clock`] and until it is asked to [`stop`].
#![deny(missing_docs, unnameable_types)]

mod bytes;

pub mod error;
pub mod report;
pub mod stop;
pub mod clock;
pub mod disk;
pub mod model;
pub mod provenance;
pub mod ledger;
pub mod destination;
pub mod consoles;
pub mod arrival;
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

pub use build::{Ended, Job, build, recorded, survey};
pub use destination::{Destination, Folder, InMemory, Names};
pub use ledger::Ledger;
pub use source::{MadeSource, Source};
