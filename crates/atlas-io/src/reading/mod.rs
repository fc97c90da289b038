//! Reading records: from the bytes of a table, a query or a program to contributions; and mapping addresses to files.

mod zstd;
mod served_path;
pub mod input;
pub mod files;
pub mod template;
pub mod field;
pub(crate) mod csv_split;
pub(crate) mod chunker;
pub(crate) mod row_text;
mod surrogates;
pub mod record;
mod record_blocks;
pub(crate) mod rows;
pub(crate) mod pipe;
pub(crate) mod metered;
pub(crate) mod json_array;

pub use self::served_path::relative_path;
