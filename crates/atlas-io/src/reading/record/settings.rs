//! What the configuration says of a source of records.

use atlas_core::address::Site;
use atlas_core::query::Parameters;
use jiff::tz::TimeZone;

use crate::reading::field::ColumnMapping;

/// How the dates of a source are written.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Dates {
    /// ISO 8601 and whatever else cannot be mistaken.
    #[default]
    Plain,
    /// A `strptime` format.
    Format(String),
}

/// What the configuration says of a source of records.
#[derive(Debug, Clone)]
pub struct RecordSettings {
    /// The site.
    pub site: Site,
    /// The section of its entries.
    pub section: Option<String>,
    /// Where fields are found.
    pub mapping: ColumnMapping,
    /// How dates are written.
    pub dates: Dates,
    /// What separates the items of a list in a text.
    pub separator: String,
    /// The zone of dates that state none.
    pub timezone: TimeZone,
    /// Query parameters that do not make another picture or film.
    pub drop_parameters: Parameters,
}

impl RecordSettings {
    /// The settings as a text that differs wherever they make the same record say something else.
    pub(crate) fn written(&self) -> String {
        let Self { site, section, mapping, dates, separator, timezone, drop_parameters } = self;
        let zone = timezone.iana_name();
        format!("{} {section:?} {mapping:?} {dates:?} {separator} {zone:?} {}", site.root(), drop_parameters.written())
    }
}
