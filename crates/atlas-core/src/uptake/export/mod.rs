//! Exports of consoles: tables and lists of URLs, each with what the engine says of it.

mod state;
mod columns;

pub use self::columns::{Columns, ColumnsError, ExportColumn, MOST_SAMPLE, Subject};
pub use self::state::{ReasonMeaning, read_number};
