//! Which files are wanted, and why.

use crate::placement::is_packed;

/// A file to fetch, and where it was named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileRequest {
    /// Its address.
    pub address: String,
    /// The indexes that lead to it, the innermost last, and the `lastmod` that the innermost states.
    pub(super) trail: Vec<String>,
    pub(super) stated: Option<String>,
    /// Whether robots.txt declares it.
    pub(super) declared: bool,
}

impl FileRequest {
    /// Whether the name says that the file is compressed.
    pub fn is_gzip(&self) -> bool {
        is_packed(&self.address)
    }
}
