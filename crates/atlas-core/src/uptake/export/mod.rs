//! Exports of consoles: tables and lists of URLs, each with what the engine says of it.

mod columns;
mod state;

pub use self::columns::{Columns, ColumnsError, ExportColumn, MOST_SAMPLE, Subject};
pub use self::state::{Taken, read_number};
