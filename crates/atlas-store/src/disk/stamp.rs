//! Stamps of files: size and time of change, which show whether a file was touched.

use std::path::Path;
use std::time::UNIX_EPOCH;
use std::{fs, io};

/// The size and time of a file when it was read, which show whether it was touched since.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    /// Bytes.
    pub size: u64,
    /// Nanoseconds since the Unix epoch.
    pub modified: i64,
}

/// The stamp of a file; `None` if it does not exist.
///
/// # Errors
///
/// Returns an error if the file exists but cannot be examined.
pub fn stamp(path: &Path) -> io::Result<Option<Stamp>> {
    match fs::metadata(path) {
        Ok(metadata) => Ok(Some(stamp_of(&metadata))),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

/// The stamp from a file's metadata.
pub fn stamp_of(metadata: &fs::Metadata) -> Stamp {
    let since = metadata.modified().ok().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
    let modified = since.map_or(0, |since| i64::try_from(since.as_nanos()).unwrap_or(i64::MAX));
    Stamp { size: metadata.len(), modified }
}
