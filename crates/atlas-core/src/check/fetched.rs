//! What comes of fetching a file.

use super::answer::ServerAnswer;

/// The contents of a file, or why there are none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FetchResult {
    /// Its bytes, unpacked. For a file that is too large, one byte more than the limit is enough.
    Bytes(Vec<u8>),
    /// There is no such file.
    Missing,
    /// The caller cannot look there.
    OutOfReach,
    /// It could not be read or unpacked, and why.
    Broken(String),
    /// A server did not deliver it. Its answer says why.
    Failed,
}

/// The result of fetching a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FetchedFile {
    /// The contents. A file whose name ends in `.gz` is unpacked.
    pub result: FetchResult,
    /// How a server answered, if one was asked.
    pub answer: Option<ServerAnswer>,
    /// What there is of a compressed copy beside it.
    pub copy: PackedCopy,
}

/// The compressed copy beside a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PackedCopy {
    /// There is none, or none that matters.
    Absent,
    /// It has the same contents.
    Same,
    /// It has other contents.
    Different,
    /// It could not be unpacked, and why.
    Broken(String),
}

impl From<FetchResult> for FetchedFile {
    fn from(result: FetchResult) -> Self {
        Self { result, answer: None, copy: PackedCopy::Absent }
    }
}

impl FetchedFile {
    /// Whether what came looks like a sitemap.
    pub fn is_sitemap(&self) -> bool {
        matches!(&self.result, FetchResult::Bytes(bytes) if is_sitemap(bytes))
    }
}

/// Whether bytes begin as a sitemap does: with the root element of one, or with a URL on a line of its own.
///
/// ```
/// use atlas_core::check::is_sitemap;
///
/// assert!(is_sitemap(b"<?xml version='1.0'?><s:urlset"));
/// assert!(is_sitemap(b"https://www.marrowvale.example/\n"));
/// assert!(!is_sitemap(b"<!doctype html><title>urlset</title>"));
/// ```
pub fn is_sitemap(bytes: &[u8]) -> bool {
    let head = String::from_utf8_lossy(&bytes[..bytes.len().min(2_000)]);
    let head = head.trim_start_matches('\u{feff}').trim_start();
    let first_line = head.lines().next().unwrap_or_default();
    if first_line.starts_with("http://") || first_line.starts_with("https://") {
        return !first_line.trim().contains(char::is_whitespace);
    }
    let roots = head.split('<').map(|tag| tag.split([' ', '>', '\n', '\r', '\t', '/']).next().unwrap_or_default());
    // Comments and instructions may come before the root element.
    let mut roots = roots.filter(|name| !name.is_empty() && !name.starts_with(['?', '!']));
    roots.next().is_some_and(|name| matches!(name.rsplit(':').next(), Some("urlset" | "sitemapindex")))
}
