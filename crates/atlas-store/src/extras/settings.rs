//! Settings for the files beside the sitemaps.

use atlas_core::choose::{Section, Sections};
use atlas_core::fingerprint;
use atlas_core::visitor::PageTemplate;
use jiff::tz::TimeZone;
use serde::Serialize;

use crate::destination::Names;

/// What is written besides sitemaps.
#[derive(Debug, Clone, Default, Serialize)]
pub struct ExtrasSettings {
    /// The visitor page.
    pub visitors: Option<VisitorSettings>,
    /// The feeds of the newest entries.
    pub newest: Option<NewestSettings>,
    /// Whether to write the text sitemap.
    pub text: bool,
    /// Whether to write structured data for pages with videos.
    pub structured_data: bool,
}

impl ExtrasSettings {
    /// A fingerprint of these settings: under the same settings, the same entries make the same files.
    pub(crate) fn print(&self, context: &ExtrasContext<'_>) -> u64 {
        let zone = context.timezone.iana_name();
        let sections: Vec<String> = context.sections.list().iter().map(Section::label).collect();
        let (version, names) = (env!("CARGO_PKG_VERSION"), context.names);
        fingerprint::canonical(&(version, self, names.style, &names.site, zone, sections))
    }

    /// Whether any file shows all entries to visitors.
    pub(super) fn wants_lines(&self) -> bool {
        self.visitors.is_some() || self.newest.is_some() || self.text
    }

    /// Whether the rows of all entries have to be in memory.
    pub(crate) fn wants_all(&self) -> bool {
        self.wants_lines() || self.structured_data
    }
}

/// Settings for the visitor page.
#[derive(Debug, Clone, Serialize)]
pub struct VisitorSettings {
    /// Its title.
    pub title: String,
    /// Its language tag.
    pub language: String,
    /// The HTML around the list.
    pub template: PageTemplate,
    /// The most links on one page.
    pub entries_per_page: usize,
}

/// Settings for the feeds of the newest entries.
#[derive(Debug, Clone, Serialize)]
pub struct NewestSettings {
    /// Their title.
    pub title: String,
    /// Whether to write Atom.
    pub atom: bool,
    /// Whether to write RSS.
    pub rss: bool,
    /// The most entries.
    pub entries: usize,
    /// The hubs that they name.
    pub hubs: Vec<String>,
    /// The indexes of the sections whose entries they contain; all sections if empty.
    pub sections: Vec<u16>,
}

/// What these files are made with, besides their settings and the entries.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ExtrasContext<'a> {
    pub(crate) names: &'a Names,
    pub(crate) sections: &'a Sections,
    pub(crate) timezone: &'a TimeZone,
}
