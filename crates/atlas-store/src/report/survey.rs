//! What was found, and what would be written.

use std::collections::BTreeMap;

use atlas_core::choose::Reason;
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::FileKind;
use atlas_core::report::{Counted, Noticed, Outcome};
use serde::Serialize;

use super::guard::Held;
use super::robots::{OtherSitemap, RobotsFate};

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
    pub changes: ChangeReport,
    /// Entries that go in or leave by themselves when their time comes.
    pub waiting: DueReport,
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
    #[serde(rename = "strand")]
    pub kind: FileKind,
    /// Entries in it.
    pub entries: u64,
    /// Unpacked size.
    pub bytes: u64,
    /// What becomes of it.
    pub fate: FileFate,
}

/// What becomes of a sitemap file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum FileFate {
    /// It was not there before.
    New,
    /// Its content changed.
    Changed,
    /// It is as it was.
    Unchanged,
    /// It is as it was, but the file had been touched or lost and was written again.
    Restored,
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
pub struct ChangeReport {
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

/// What changed about a source since an entry was looked at last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum SourceChange {
    /// It maps its fields in another way.
    Mapping,
    /// It is new in the configuration.
    Joined,
    /// It is no longer in the configuration.
    Left,
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
pub struct DueReport {
    /// How many entries.
    pub count: u64,
    /// The first few, the soonest first.
    pub soonest: Vec<Due>,
}
