//! From a record of whatever source (a line of a table, a row of a database, an object of JSON) to what it says of a URL.

mod settings;
mod trouble;
mod header;
mod values;
mod media;
mod reader;

pub(crate) use self::header::Header;
pub use self::settings::{Dates, RecordSettings};
pub(crate) use self::trouble::RecordProblem;
pub(crate) use self::values::{Record, RecordReader};
