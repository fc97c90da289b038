//! The settings of a source of records.

use atlas_core::address::Site;
use atlas_core::query::Parameters;
use jiff::tz::TimeZone;

use crate::reading::field::ColumnMapping;
use crate::reading::template::{ColumnTemplate, ColumnTemplateError, Piece};

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

/// The section of a source's entries.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SourceSection {
    /// The same for all.
    Named(String),
    /// Made from each row, such as `{category}`.
    Template(SectionTemplate),
}

/// A template that makes a section's name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SectionTemplate(pub(crate) Vec<Piece>);

impl SourceSection {
    /// Parses the text in the configuration: a name, or a template with columns in braces.
    ///
    /// # Errors
    ///
    /// Returns a [`ColumnTemplateError`] if a template is not valid.
    pub fn parse(text: &str) -> Result<Self, ColumnTemplateError> {
        Ok(match ColumnTemplate::parse(text)? {
            ColumnTemplate::Column(name) => Self::Named(name),
            ColumnTemplate::Pieces(pieces) => Self::Template(SectionTemplate(pieces)),
        })
    }

    /// The name, if it is the same for all entries.
    pub(crate) fn name(&self) -> Option<&str> {
        match self {
            Self::Named(name) => Some(name),
            Self::Template(_) => None,
        }
    }

    /// The template, if it is made from each row.
    #[cfg(feature = "parquet")]
    pub(crate) fn template(&self) -> Option<ColumnTemplate> {
        match self {
            Self::Named(_) => None,
            Self::Template(SectionTemplate(pieces)) => Some(ColumnTemplate::Pieces(pieces.clone())),
        }
    }
}

/// The settings of a source of records.
#[derive(Debug, Clone)]
pub struct RecordSettings {
    /// The site.
    pub site: Site,
    /// The section of its entries.
    pub section: Option<SourceSection>,
    /// Whether rows make the sections that they name.
    pub makes_sections: bool,
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
        let Self { site, section, makes_sections, mapping, dates, separator, timezone, drop_parameters } = self;
        let zone = timezone.iana_name();
        let sections = format!("{section:?} {makes_sections}");
        format!("{} {sections} {mapping:?} {dates:?} {separator} {zone:?} {}", site.root(), drop_parameters.written())
    }
}
