//! What is wanted besides sitemaps.

use atlas_core::choose::{Section, Sections};
use atlas_core::fingerprint;
use atlas_core::visitor::PageTemplate;
use jiff::tz::TimeZone;
use serde::Serialize;

use crate::destination::Names;

/// What is wanted besides sitemaps.
#[derive(Debug, Clone, Default, Serialize)]
pub struct ExtrasSettings {
    /// The page for visitors.
    pub visitors: Option<VisitorSettings>,
    /// The feeds of the newest.
    pub newest: Option<NewestSettings>,
    /// The text form.
    pub text: bool,
    /// Structured data for pages with videos.
    pub structured_data: bool,
}

impl ExtrasSettings {
    /// A fingerprint of how they are made: the same entries then make the same files.
    pub(crate) fn print(&self, context: &ExtrasContext<'_>) -> u64 {
        let zone = context.timezone.iana_name();
        let sections: Vec<String> = context.sections.list().iter().map(Section::label).collect();
        let (version, names) = (env!("CARGO_PKG_VERSION"), context.names);
        fingerprint::canonical(&(version, self, names.style, &names.site, zone, sections))
    }

    /// Whether all entries are listed for people.
    pub(super) fn wants_lines(&self) -> bool {
        self.visitors.is_some() || self.newest.is_some() || self.text
    }

    /// Whether the rows of all entries have to be held in memory.
    pub(crate) fn wants_all(&self) -> bool {
        self.wants_lines() || self.structured_data
    }
}

/// How the page for visitors is made.
#[derive(Debug, Clone, Serialize)]
pub struct VisitorSettings {
    /// Its title.
    pub title: String,
    /// Its language tag.
    pub language: String,
    /// The HTML around the list.
    pub template: PageTemplate,
    /// At most so many links on one page.
    pub entries_per_page: usize,
}

/// How the feeds of the newest are made.
#[derive(Debug, Clone, Serialize)]
pub struct NewestSettings {
    /// Their title.
    pub title: String,
    /// As Atom.
    pub atom: bool,
    /// As RSS.
    pub rss: bool,
    /// At most so many entries.
    pub entries: usize,
    /// The sections whose entries are in them, by their places; all where none are named.
    pub sections: Vec<u16>,
}

/// What the files beside the sitemaps are made with, besides their settings and the entries.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ExtrasContext<'a> {
    pub(crate) names: &'a Names,
    pub(crate) sections: &'a Sections,
    pub(crate) timezone: &'a TimeZone,
}
