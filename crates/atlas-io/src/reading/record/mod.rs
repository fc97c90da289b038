//! Turning a record of any source (a line of a table, a row of a database, a JSON object) into a contribution.

mod settings;
mod problem;
mod header;
mod values;
mod media;
mod reader;

pub(crate) use self::header::{Header, UrlPlace};
pub(crate) use self::problem::{Found, RecordProblem, RecordSums};
pub use self::settings::{Dates, RecordSettings, SEPARATOR, SectionTemplate, SourceSection};
pub(crate) use self::values::{Record, RecordReader};
