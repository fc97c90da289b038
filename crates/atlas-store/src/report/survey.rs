//! The result of a survey: what was found, and what would be written.

use std::collections::BTreeMap;

use atlas_core::choose::Reason;
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::FileKind;
use atlas_core::report::{Counted, Noticed, Outcome, SourceFailure};
use serde::{Deserialize, Serialize};

use super::guard::Held;
use super::robots::{OtherSitemap, RobotsFate};

/// What was found, and what would be written.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Survey {
    /// The URL to submit.
    pub main: String,
    /// The addresses of further indexes, if one does not hold all files.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub more_indexes: Vec<String>,
    /// The outcome of each source.
    pub sources: Vec<SourceReport>,
    /// Sections with entries, in order.
    pub sections: Vec<SectionReport>,
    /// Why entries are left out, in the order in which reasons are checked.
    pub left_out: Vec<LeftOut>,
    /// What changed since the last build.
    pub changes: ChangeReport,
    /// Entries that will be listed, or will leave, at a known time.
    pub waiting: DueReport,
    /// Notices about the site as a whole. A build reports only those that it finds anyway.
    pub notices: Vec<Noticed>,
    /// The number of remarks that are not shown because they were accepted, by code.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub accepted: BTreeMap<String, u64>,
    /// Lines that accept remarks which no longer occur, by number and code. A build does not check this.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub accepted_in_vain: Vec<(usize, String)>,
    /// The comparison with the sitemap from which the site has moved. A build does not compare.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub moved: Option<MoveReport>,
    /// What happened, or would happen, to robots.txt.
    pub robots: RobotsFate,
    /// Sitemaps of other tools that robots.txt declares.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub other_sitemaps: Vec<OtherSitemap>,
    /// The guards that would hold a build back; empty after a build.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub held: Vec<Held>,
}

impl Survey {
    /// The number of listed entries.
    pub fn entries(&self) -> u64 {
        self.sections.iter().map(|section| section.entries).sum()
    }

    /// Whether something could not be read, so that entries may be missing.
    pub fn is_in_part(&self) -> bool {
        self.failures().next().is_some() || self.sources.iter().any(|source| source.outcome.passed_over > 0)
    }

    /// The sources that could not be read whole, by name.
    pub fn failures(&self) -> impl Iterator<Item = (&str, &SourceFailure)> {
        self.sources.iter().filter_map(|source| Some((source.outcome.name.as_str(), source.outcome.failure.as_ref()?)))
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

/// What would be listed, compared with the sitemap from which the site has moved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct MoveReport {
    /// The number of entries that both list.
    pub both: u64,
    /// URLs that only the old one lists.
    pub only_old: Counted,
    /// URLs that only the new one lists.
    pub only_new: Counted,
    /// URLs that the old one lists and the new one leaves out; each example with the reason, on a second line.
    pub left_out: Counted,
    /// Entries that now have another day; each example with both dates, on a second line.
    pub other_date: Counted,
}

/// The report on one source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SourceReport {
    /// Its outcome.
    #[serde(flatten)]
    pub outcome: Outcome,
    /// The number of its entries that are kept.
    pub kept: u64,
    /// The number of its entries that are left out.
    pub left_out: u64,
}

/// The report on one section.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SectionReport {
    /// Its name.
    pub name: String,
    /// The number of entries.
    pub entries: u64,
    /// The number of their pictures.
    pub images: u64,
    /// The number of their videos.
    pub videos: u64,
    /// The number of news articles: those of the last two days.
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

/// The report on one sitemap file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FileReport {
    /// Its address, to submit or count alone.
    pub address: String,
    /// Its kind.
    #[serde(rename = "strand")]
    pub kind: FileKind,
    /// Entries in it.
    pub entries: u64,
    /// Unpacked size.
    pub bytes: u64,
    /// What happens to it.
    pub fate: FileFate,
}

/// What happens to a sitemap file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum FileFate {
    /// It is new.
    New,
    /// Its content changed.
    Changed,
    /// Nothing changed.
    Unchanged,
    /// Its content is the same, but the file had been touched or lost and was restored.
    Restored,
}

/// Entries left out for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LeftOut {
    /// The reason.
    pub reason: Reason,
    /// What it means.
    pub words: &'static str,
    /// The number, with a few examples.
    #[serde(flatten)]
    pub counted: Counted,
}

/// What changed since the last build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Default)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ChangeReport {
    /// Whether this is the first build: everything is new, and nothing is announced.
    pub first: bool,
    /// Entries that were not listed before.
    pub added: Counted,
    /// Entries whose page changed.
    pub changed: Counted,
    /// Entries that no source names any more.
    pub removed: Counted,
    /// Entries that are now left out.
    pub left_out: Counted,
    /// Whether most pages changed at once without a declared date. This is taken for a redesign: dates hold, and
    /// nothing is announced.
    pub redesign: bool,
    /// Entries that are accepted as they are, because something about a source changed. None of them is announced.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub remapped: Vec<Remapped>,
}

/// Entries that are accepted as they are, because something about one of their sources changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Remapped {
    /// The source.
    pub source: String,
    /// What changed about it.
    pub change: SourceChange,
    /// The number of entries.
    pub entries: u64,
}

/// What changed about a source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum SourceChange {
    /// It maps its fields differently.
    Mapping,
    /// It is new in the configuration.
    Joined,
    /// It is no longer in the configuration.
    Left,
}

/// An entry that will be listed, or will leave, at a known time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Due {
    /// The time.
    pub at: Lastmod,
    /// Its URL.
    pub url: String,
    /// What will happen then.
    pub to: DueTo,
}

/// What happens to an entry when its time comes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum DueTo {
    /// It is published and will be listed.
    GoIn,
    /// It expires and will be left out.
    Leave,
}

/// Entries with a known time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Default)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct DueReport {
    /// The number of entries.
    pub count: u64,
    /// The first few, soonest first.
    pub soonest: Vec<Due>,
}
