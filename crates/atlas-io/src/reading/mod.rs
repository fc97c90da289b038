//! Reading records: from the bytes of a table, a query or a program to contributions.

pub mod input;
pub mod template;
pub mod field;
mod chunker;
mod csv_split;
pub mod record;
pub(crate) mod rows;
pub(crate) mod json_array;
