//! What a survey or a build has to say: plain data, the same for people and for programs.

use std::collections::BTreeMap;
use std::fmt;

use atlas_core::choose::Reason;
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::Strand;
use serde::{Deserialize, Serialize};

use crate::build::LastBuild;
use crate::look::Noticed;
use crate::provenance::SourceChange;
use crate::source::Outcome;
use atlas_core::placement::is_aside;

/// What was found and what would be written.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Survey {
    /// The one URL to submit.
    pub main: String,
    /// The addresses of further indexes, where one does not hold all files.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub more_indexes: Vec<String>,
    /// What came of each source.
    pub sources: Vec<SourceReport>,
    /// Sections that have entries, in their order.
    pub sections: Vec<SectionReport>,
    /// Why entries are left out, in the order of the questions.
    pub left_out: Vec<LeftOut>,
    /// What changed since the last build.
    pub changes: Changes,
    /// Entries that go in or leave by themselves when their time comes.
    pub waiting: Waiting,
    /// What deserves notice about the site as a whole; a build tells only what it meets by itself.
    pub notices: Vec<Noticed>,
    /// How many remarks are not told because they were accepted, by code.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub accepted: BTreeMap<String, u64>,
    /// Lines that accept a remark that is not made any more, by number and code; a build does not look for them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub accepted_in_vain: Vec<(usize, String)>,
    /// What became of robots.txt, or would.
    pub robots: RobotsFate,
    /// Sitemaps of others that robots.txt declares.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub other_sitemaps: Vec<OtherSitemap>,
    /// The guards that would hold a build back; empty for a build that was done.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub held: Vec<Held>,
}

impl Survey {
    /// How many entries are in.
    pub fn entries(&self) -> u64 {
        self.sections.iter().map(|section| section.entries).sum()
    }

    /// Whether something could not be read, so that an entry may be missing.
    pub fn is_in_part(&self) -> bool {
        self.sources.iter().any(|source| source.outcome.passed_over > 0)
    }

    /// Whether there is something worth a look besides the result itself.
    pub fn has_remarks(&self) -> bool {
        let of_source = |outcome: &Outcome| outcome.problem_count > 0 || !outcome.remarks.is_empty();
        self.sources.iter().any(|source| of_source(&source.outcome))
            || !self.notices.is_empty()
            || !self.other_sitemaps.is_empty()
            || !self.held.is_empty()
    }
}

/// One source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct SourceReport {
    /// What came of it.
    #[serde(flatten)]
    pub outcome: Outcome,
    /// Entries it speaks of that go in.
    pub kept: u64,
    /// Entries it speaks of that are left out.
    pub left_out: u64,
}

/// One section.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct SectionReport {
    /// Its name.
    pub name: String,
    /// Entries in it.
    pub entries: u64,
    /// Pictures of them.
    pub images: u64,
    /// Videos of them.
    pub videos: u64,
    /// Those of them that are news: articles of the last two days.
    pub news: u64,
    /// The newest date that is written.
    pub newest: Option<Lastmod>,
    /// Its files.
    pub files: Vec<FileReport>,
}

impl SectionReport {
    /// Unpacked size of its files.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|file| file.bytes).sum()
    }
}

/// One sitemap file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FileReport {
    /// Its address, to submit or count alone.
    pub address: String,
    /// What of its section it holds.
    pub strand: Strand,
    /// Entries in it.
    pub entries: u64,
    /// Unpacked size.
    pub bytes: u64,
    /// What becomes of it.
    pub fate: Fate,
}

/// What becomes of a sitemap file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Fate {
    /// It was not there before.
    New,
    /// Its content changed.
    Changed,
    /// It is as it was.
    Unchanged,
    /// It is as it was, but the file had been touched or lost and was written again.
    Restored,
}

/// How many, and a few examples.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Default)]
pub struct Counted {
    /// How many.
    pub count: u64,
    /// The first few addresses.
    pub examples: Vec<String>,
}

/// Entries left out for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct LeftOut {
    /// The reason.
    pub reason: Reason,
    /// What it means.
    pub words: &'static str,
    /// How many, and a few of them.
    #[serde(flatten)]
    pub counted: Counted,
}

/// What changed since the last build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Default)]
pub struct Changes {
    /// There was no build before: everything is new, and nothing is news.
    pub first: bool,
    /// Entries that were not in before.
    pub added: Counted,
    /// Entries whose page changed.
    pub changed: Counted,
    /// Entries that no source knows any more.
    pub removed: Counted,
    /// Entries that are now left out.
    pub left_out: Counted,
    /// Most pages changed at once without a declared date: taken for a redesign, so dates hold and nothing is told.
    pub redesign: bool,
    /// Entries that are taken as they are, because something about a source changed; nothing of them is told.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub remapped: Vec<Remapped>,
}

/// Entries that are taken as they are, because something about one of their sources changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Remapped {
    /// The source.
    pub source: String,
    /// What changed about it.
    pub change: SourceChange,
    /// How many entries.
    pub entries: u64,
}

/// An entry that goes in or leaves by itself when its time comes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Due {
    /// When.
    pub at: Lastmod,
    /// Its URL.
    pub url: String,
    /// What it will do.
    pub to: DueTo,
}

/// What an entry will do when its time comes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum DueTo {
    /// It is published: it goes in.
    GoIn,
    /// It expires: it leaves.
    Leave,
}

/// What will fall due.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Default)]
pub struct Waiting {
    /// How many entries.
    pub count: u64,
    /// The first few, the soonest first.
    pub soonest: Vec<Due>,
}

/// What a build did.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Built {
    /// The number of the run.
    pub run: i64,
    /// What was found and written.
    #[serde(flatten)]
    pub survey: Survey,
    /// Names of the files in the web root that were written, index and copies included.
    pub written: Vec<String>,
    /// Names of files that left the index; they stay on disk for some days.
    pub retired: Vec<String>,
    /// Names of files that were removed from disk.
    pub removed: Vec<String>,
    /// How many changes engines are to be told of.
    pub to_announce: u64,
    /// A fingerprint of the configuration.
    pub configuration: String,
    /// What the last build said, where it was made under the same configuration.
    #[serde(skip)]
    pub last: Option<LastBuild>,
}

impl Built {
    /// Of the files that were written, those that are no sitemaps.
    pub fn asides(&self) -> impl Iterator<Item = &str> {
        self.written.iter().map(String::as_str).filter(|name| is_aside(name))
    }
}

/// A build as it would be.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Preview {
    /// What was found.
    #[serde(flatten)]
    pub survey: Survey,
    /// What would become of each sitemap file, those that vanish last.
    pub files: Vec<FilePreview>,
    /// URLs that would come in, at most the first 10,000.
    pub comes: Vec<String>,
    /// URLs whose pages changed, at most the first 10,000.
    pub edited: Vec<String>,
    /// URLs that would go, at most the first 10,000.
    pub goes: Vec<Goes>,
    /// URLs that would change their section, at most the first 10,000.
    pub moves: Vec<Moves>,
    /// Other files that would be written.
    pub asides: Vec<String>,
}

/// What would become of one sitemap file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FilePreview {
    /// Its address.
    pub address: String,
    /// What of its section it holds.
    pub strand: Strand,
    /// What would become of it.
    pub fate: Planned,
    /// Entries in it, as of the last build.
    pub entries_before: u64,
    /// Entries that would be in it.
    pub entries: u64,
    /// Its unpacked size, as of the last build.
    pub bytes_before: u64,
    /// The unpacked size it would have.
    pub bytes: u64,
}

/// What would become of a sitemap file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Planned {
    /// It is not there yet.
    New,
    /// It would have more entries.
    Grows,
    /// It would have fewer entries.
    Shrinks,
    /// It would have as many entries, and say something else of them.
    Changes,
    /// Nothing would happen to it.
    Stays,
    /// It was touched or lost, and would be written again as it was.
    Restored,
    /// It would leave the index.
    Vanishes,
}

/// A URL that would go.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Goes {
    /// The URL.
    pub url: String,
    /// Why it is left out; none where no source knows it any more.
    pub reason: Option<Reason>,
    /// The same, in words.
    pub because: &'static str,
}

/// A URL that would change its section.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Moves {
    /// The URL.
    pub url: String,
    /// The section it is in.
    pub from: String,
    /// The section it would be in.
    pub to: String,
}

/// A sitemap of others that robots.txt declares.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OtherSitemap {
    /// The line, counted from 1.
    pub line: usize,
    /// Its address.
    pub address: String,
}

/// What became of robots.txt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum RobotsFate {
    /// The configuration names none.
    Unnamed,
    /// It is not there, and must not be made: the site may well have one elsewhere.
    Missing,
    /// It was not there and was made.
    Created,
    /// It was not there and was made from the one that the live site serves.
    #[serde(rename = "taken-over")]
    TakenOver,
    /// A line was added, or one of ours taken out.
    Declared,
    /// It was right already.
    Unchanged,
}

/// Which guard held a build back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Guard {
    /// A section would lose a large share of its entries.
    Shrink,
    /// Nothing at all would be left.
    Empty,
    /// One reason would leave out most of the site.
    LeftOut,
    /// The site has another URL than before.
    NewUrl,
    /// The file to submit has another name than before.
    NewMain,
    /// A section has another name than before.
    NewSections,
    /// Files end in `.gz` that did not before, or the other way round.
    Gzip,
    /// robots.txt shuts engines out.
    ShutOut,
    /// A file that another tool wrote would be written over.
    Overwrite,
}

impl Guard {
    /// What it holds a build back for, for people.
    pub fn words(self) -> &'static str {
        match self {
            Self::Shrink => "a section would lose a large share of its entries",
            Self::Empty => "nothing would be left to list",
            Self::LeftOut => "one reason would leave out most of the site",
            Self::NewUrl => "the site has another URL than before",
            Self::NewMain => "the file to submit has another name than before",
            Self::NewSections => "a section has another name than before",
            Self::Gzip => "files would end in .gz that did not before, or the other way round",
            Self::ShutOut => "robots.txt shuts engines out of the home page",
            Self::Overwrite => "a file that another tool wrote would be written over",
        }
    }

    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Shrink,
        Self::LeftOut,
        Self::NewUrl,
        Self::NewMain,
        Self::NewSections,
        Self::Gzip,
        Self::ShutOut,
        Self::Overwrite,
        Self::Empty,
    ];

    /// Its name in reports.
    pub fn code(self) -> &'static str {
        self.option().unwrap_or("empty")
    }

    /// The word that lets a build pass it; none where there is nothing to pass to.
    pub fn option(self) -> Option<&'static str> {
        match self {
            Self::Empty => None,
            Self::Shrink => Some("shrink"),
            Self::LeftOut => Some("left-out"),
            Self::NewUrl => Some("new-url"),
            Self::NewMain => Some("new-main"),
            Self::NewSections => Some("new-sections"),
            Self::Gzip => Some("gzip"),
            Self::ShutOut => Some("shut-out"),
            Self::Overwrite => Some("overwrite"),
        }
    }
}

/// A build that was held back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Held {
    /// By which guard.
    pub guard: Guard,
    /// What would have happened.
    pub message: String,
    /// How to go on.
    pub mend: String,
}

impl fmt::Display for Held {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(formatter, "{}. {}", self.message, self.mend)
    }
}
