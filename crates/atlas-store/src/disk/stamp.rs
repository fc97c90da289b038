//! How files look: enough to see that one was not touched since.

use std::path::Path;
use std::time::UNIX_EPOCH;
use std::{fs, io};

/// How a file looked when it was read: enough to see that it was not touched since.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    /// Bytes.
    pub size: u64,
    /// Nanoseconds since the Unix epoch.
    pub modified: i64,
}

/// How a file looks; `None` where there is none.
pub fn stamp(path: &Path) -> io::Result<Option<Stamp>> {
    match fs::metadata(path) {
        Ok(metadata) => Ok(Some(stamp_of(&metadata))),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

/// Size and time of a file.
pub fn stamp_of(metadata: &fs::Metadata) -> Stamp {
    let since = metadata.modified().ok().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
    let modified = since.map_or(0, |since| i64::try_from(since.as_nanos()).unwrap_or(i64::MAX));
    Stamp { size: metadata.len(), modified }
}
