//! A small site that is built line by line, with defaults for everything that a test does not mention.

use std::collections::BTreeMap;
use std::fs;

use atlas_core::address::Site;
use atlas_core::choose::{Choices, Sections};
use atlas_core::format::read;
use atlas_core::output_policy::{Media, SectionPolicy};
use atlas_core::placement::{OwnFiles, UrlsPerFile};
use atlas_store::arrange::Cut;
use atlas_store::build::{Ended, Job, build, survey};
use atlas_store::destination::{Gzip, InMemory, Names};
use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger};
use atlas_store::report::{Built, Guard, Held, Survey};
use atlas_store::source::Source;
use jiff::Timestamp;

use crate::railway::{MadePage, MadeRows, ROOT};

/// A site whose files are in memory.
pub struct Small {
    pub folder: tempfile::TempDir,
    pub memory: InMemory,
    pub root: &'static str,
    pub main: &'static str,
    pub gzip: Gzip,
    pub sections: Vec<&'static str>,
    pub allow: Vec<Guard>,
    pub urls_per_file: u32,
    pub media_per_file: u32,
    pub files_per_index: usize,
    /// Whether all rows are read in every build, including unchanged ones.
    pub reads_rows: bool,
    pub day: i64,
}

/// This many pages of a section, from a number on.
pub fn pages(section: &'static str, numbers: std::ops::Range<u32>) -> Vec<(String, MadePage)> {
    let page = |number: u32| MadePage {
        section,
        modified: Some(15_000 + number as i32),
        title: 0,
        width: 0,
        pictures: 0,
        published: 14_000,
        gone: false,
    };
    numbers.map(|number| (format!("{ROOT}{section}/{number}/"), page(number))).collect()
}

impl Small {
    pub fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join(".idle-atlas")).unwrap();
        Self {
            folder,
            memory: InMemory::default(),
            root: ROOT,
            main: "sitemap.xml",
            gzip: Gzip::Off,
            sections: vec!["halts", "films"],
            allow: Vec::new(),
            urls_per_file: 100,
            media_per_file: 1000,
            files_per_index: 50_000,
            reads_rows: false,
            day: 20_000,
        }
    }

    pub fn ledger(&self) -> Box<dyn Ledger> {
        ledger::open(&self.folder.path().join(".idle-atlas")).unwrap()
    }

    fn rows(&self, name: &'static str, rows: &[(String, MadePage)]) -> MadeRows {
        let rows = MadeRows::new(name, rows.to_vec());
        if self.reads_rows { rows.read_anew() } else { rows }
    }

    /// A job for these sources, in the order of their precedence.
    fn with_job<T>(
        &self,
        sources: &[&[(String, MadePage)]],
        run: impl FnOnce(&Job<'_>, &mut dyn Ledger) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let named = ["first", "second", "third"].into_iter().zip(sources);
        let sources: Vec<Box<dyn Source>> =
            named.map(|(name, rows)| -> Box<dyn Source> { Box::new(self.rows(name, rows)) }).collect();
        self.with_sources(&sources, run)
    }

    /// The same, with sources of its own.
    pub fn with_sources<T>(
        &self,
        sources: &[Box<dyn Source>],
        run: impl FnOnce(&Job<'_>, &mut dyn Ledger) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let choices = Choices {
            own_files: OwnFiles { folder: self.root.into(), main: self.main.into(), ..OwnFiles::default() },
            ..Choices::of(
                Site::parse(self.root).unwrap(),
                Sections::new(vec![], self.sections.iter().map(|name| (*name).to_owned())),
            )
        };
        let names = Names {
            main: self.main.into(),
            files_per_index: self.files_per_index,
            gzip: self.gzip,
            ..Names::of(self.root)
        };
        let now = Timestamp::from_second(self.day * 86_400).unwrap();
        let scratch = self.folder.path().join(".idle-atlas");
        let cut = Cut {
            urls_per_file: UrlsPerFile::Fixed(self.urls_per_file),
            media_per_file: self.media_per_file,
            ..Cut::default()
        };
        let with_pictures = SectionPolicy { images: Media::WithPages, most_images: 10, ..SectionPolicy::default() };
        let job = Job::new(sources, &choices, (&self.memory, &names), &scratch, now)
            .shape(vec![with_pictures; choices.sections.list().len()])
            .cut(cut)
            .allow(self.allow.iter().copied());
        run(&job, &mut *self.ledger())
    }

    /// Builds from these sources.
    pub fn run(&self, sources: &[&[(String, MadePage)]]) -> Ended {
        self.try_run(sources).unwrap()
    }

    /// Builds from these sources, and may fail.
    pub fn try_run(&self, sources: &[&[(String, MadePage)]]) -> Result<Ended, StoreError> {
        self.with_job(sources, build)
    }

    /// Surveys these sources.
    pub fn survey(&self, sources: &[&[(String, MadePage)]]) -> Survey {
        self.with_job(sources, survey).unwrap()
    }

    /// Builds from one source; no guard may hold the build back.
    pub fn build(&self, rows: &[(String, MadePage)]) -> Built {
        match self.run(&[rows]) {
            Ended::Built(built) => *built,
            Ended::Held(held) => panic!("held: {:?}", held.survey.held),
        }
    }

    /// The guards that hold a build back, with their messages.
    pub fn held(&self, rows: &[(String, MadePage)]) -> Vec<Held> {
        match self.run(&[rows]) {
            Ended::Built(_) => Vec::new(),
            Ended::Held(held) => held.survey.held,
        }
    }

    /// The guards that hold a build back.
    pub fn guards(&self, rows: &[(String, MadePage)]) -> Vec<Guard> {
        self.held(rows).into_iter().map(|held| held.guard).collect()
    }

    /// The paths in each existing file, in order.
    pub fn files(&self) -> BTreeMap<String, Vec<String>> {
        let files = self.memory.files().into_iter().map(|(name, bytes)| {
            let (mut urls, mut children) = (Vec::new(), Vec::new());
            read(&bytes, |url| urls.extend(url.loc), |child| children.extend(child.loc)).unwrap();
            (name, [urls, children].concat().into_iter().map(|url| url[ROOT.len()..].to_owned()).collect())
        });
        files.collect()
    }

    /// The paths in one file.
    pub fn file(&self, name: &str) -> Vec<String> {
        self.files().remove(name).unwrap_or_else(|| panic!("no {name} among {:?}", self.files().keys()))
    }
}
