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
    /// Why it is wanted, if no index lists it.
    pub(super) origin: Origin,
}

/// Why a file is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Origin {
    /// An index lists it.
    Listed,
    /// robots.txt declares it.
    Declared,
    /// The caller names it.
    Named,
    /// Sitemaps are usually there.
    Guessed,
}

impl FileRequest {
    pub(super) fn named(address: &str, origin: Origin) -> Self {
        Self { address: address.to_owned(), trail: Vec::new(), stated: None, origin }
    }

    /// Whether the file is wanted only because sitemaps are usually there: it is not missed.
    pub fn is_guess(&self) -> bool {
        self.origin == Origin::Guessed
    }

    /// Whether the name says that the file is compressed.
    pub fn is_gzip(&self) -> bool {
        is_packed(&self.address)
    }
}
