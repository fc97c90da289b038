//! The disk: files that appear whole, how files look, what waits outside of memory, and gzip in pieces.

mod stamp;
mod draft;
pub mod spill;
pub mod segmented_gzip;

pub(crate) use self::draft::bring;
pub use self::draft::{TempFile, put_in_place, remove, replace, sweep, sync_folder};
pub use self::stamp::{Stamp, stamp, stamp_of};
