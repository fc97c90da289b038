//! Contributions: what one source says of one URL, as a compact row of bytes.
//!
//! Sources yield contributions by the million, so a row stays bytes until it is chosen. [`Contribution::write`] writes
//! a row, [`Contribution::read`] reads one, and [`Contribution::merge`] combines what several sources say of the same
//! URL. All fields are declared in one table, `field_table`.

pub(crate) mod field_table;
mod value;
mod absence;
mod row;
mod merge;
mod from_page;

pub(crate) use self::absence::Absence;
pub use self::absence::NO_ANSWER;
pub use self::field_table::Contribution;
pub use self::row::{address_of, is_dead, url_of};
