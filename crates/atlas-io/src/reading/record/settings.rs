//! The settings of a source of records.

use atlas_core::address::Site;
use atlas_core::query::Parameters;
use jiff::tz::TimeZone;

use crate::reading::field::ColumnMapping;

/// The format of a source's dates.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Dates {
    /// ISO 8601 and other unambiguous formats.
    #[default]
    Plain,
    /// A `strptime` format.
    Format(String),
}

/// The default separator between the items of a list in a text.
pub const SEPARATOR: &str = "|";

/// The settings of a source of records.
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
    /// The separator between the items of a list in a text.
    pub separator: String,
    /// The zone of dates without one.
    pub timezone: TimeZone,
    /// Query parameters that do not select another picture or video.
    pub drop_parameters: Parameters,
}

impl RecordSettings {
    /// The settings as text, which differs whenever they could change what is read from a record.
    pub(crate) fn written(&self) -> String {
        let Self { site, section, mapping, dates, separator, timezone, drop_parameters } = self;
        let zone = timezone.iana_name();
        format!("{} {section:?} {mapping:?} {dates:?} {separator} {zone:?} {}", site.root(), drop_parameters.written())
    }
}
