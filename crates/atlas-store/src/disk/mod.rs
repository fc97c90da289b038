//! The disk: files that appear whole, stamps of files, data that does not fit into memory, and segmented gzip.

mod stamp;
mod draft;
pub mod spill;
pub mod segmented_gzip;

pub(crate) use self::draft::{TempFile, bring, put_in_place, sweep, sync_folder};
pub use self::draft::{remove, replace};
pub use self::stamp::{Stamp, stamp, stamp_of};
