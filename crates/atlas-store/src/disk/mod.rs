//! The disk: files that appear whole, stamps of files, data that does not fit into memory, and segmented gzip.

mod stamp;
mod draft;
pub mod spill;
pub mod segmented_gzip;

pub(crate) use self::draft::bring;
pub use self::draft::{TempFile, put_in_place, remove, replace, sweep, sync_folder};
pub use self::stamp::{Stamp, stamp, stamp_of};
