//! Reading records: from the bytes of a table, a query or a program to contributions.

mod zstd;
pub mod input;
pub mod template;
pub mod field;
pub(crate) mod csv_split;
pub(crate) mod chunker;
mod surrogates;
pub mod record;
mod record_blocks;
pub(crate) mod rows;
pub(crate) mod pipe;
pub(crate) mod json_array;
