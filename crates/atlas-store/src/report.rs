//! What a survey or a build has to say: plain data, the same for people and for programs.

use std::fmt;

use atlas_core::choose::Reason;
use atlas_core::lastmod::Lastmod;
use atlas_core::video::VideoPart;
use serde::Serialize;

use crate::look::Noticed;
use crate::source::Outcome;

/// What was found and what would be written.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Survey {
    /// The one URL to submit.
    pub main: String,
    /// What came of each source.
    pub sources: Vec<SourceReport>,
    /// Sections that have entries, in their order.
    pub sections: Vec<SectionReport>,
    /// Why entries are left out, in the order of the questions.
    pub left_out: Vec<LeftOut>,
    /// What changed since the last build.
    pub changes: Changes,
    /// Videos that are not written because they lack a required part.
    pub incomplete_videos: Vec<IncompleteVideo>,
    /// Pages without a head, hence without title or canonical.
    pub headless: Counted,
    /// What deserves notice about the site as a whole; a build does not look for it.
    pub notices: Vec<Noticed>,
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
}

/// A video that is not written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct IncompleteVideo {
    /// The page it is on.
    pub page: String,
    /// What it lacks.
    pub lacks: Vec<VideoPart>,
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
    /// What became of robots.txt.
    pub robots: RobotsFate,
}

/// What became of robots.txt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum RobotsFate {
    /// The configuration names none.
    Unnamed,
    /// It was not there and was made.
    Created,
    /// A line was added, or one of ours taken out.
    Declared,
    /// It was right already.
    Unchanged,
}

/// Which guard held a build back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Guard {
    /// A section would lose a large share of its entries.
    Shrink,
    /// Nothing at all would be left.
    Empty,
}

/// A build that was held back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Held {
    /// By which guard.
    pub guard: Guard,
    /// What would have happened.
    pub message: String,
}

impl fmt::Display for Held {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(&self.message)
    }
}
