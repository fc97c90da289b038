//! What is published, by path.

use std::collections::HashMap;

use atlas_core::placement::media_type;
use atlas_store::destination::ServedFile;
use jiff::Timestamp;
use jiff::fmt::rfc2822::DateTimePrinter;

/// A file as it is served.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct CatalogFile {
    pub(super) file: ServedFile,
    /// Its entity tag, with its quotes.
    pub(super) tag: String,
    /// When it was last changed, as a date of HTTP (RFC 9110, section 5.6.7).
    pub(super) modified: String,
}

/// A file, and its compressed form if there is one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct CatalogEntry {
    pub(super) plain: CatalogFile,
    pub(super) packed: Option<CatalogFile>,
    pub(super) content_type: &'static str,
}

/// What is published.
#[derive(Debug, Default)]
pub(super) struct Catalog(HashMap<String, CatalogEntry>);

impl Catalog {
    /// The catalog of these files, below the path of the site.
    pub(super) fn of(files: Vec<ServedFile>, site: &str) -> Self {
        let known: HashMap<String, ServedFile> = files.into_iter().map(|file| (file.name.clone(), file)).collect();
        let entries = known.values().map(|file| {
            let packed = known.get(&format!("{}.gz", file.name)).map(|packed| CatalogFile::of(packed, "-gzip"));
            let entry = CatalogEntry { plain: CatalogFile::of(file, ""), packed, content_type: media_type(&file.name) };
            // Engines ask for robots.txt at the root of the host alone.
            let folder = if file.name == "robots.txt" { "/" } else { site };
            (format!("{folder}{}", file.name), entry)
        });
        Self(entries.collect())
    }

    /// What is at a path, exactly as it was asked for.
    pub(super) fn at(&self, path: &str) -> Option<&CatalogEntry> {
        self.0.get(path)
    }
}

impl CatalogFile {
    fn of(file: &ServedFile, form: &str) -> Self {
        let tag = format!("\"{:08x}-{:x}{form}\"", file.crc, file.size);
        let at = Timestamp::from_second(file.at).unwrap_or_default();
        let modified = DateTimePrinter::new().timestamp_to_rfc9110_string(&at).unwrap_or_default();
        Self { file: file.clone(), tag, modified }
    }
}
