//! How large the files of a site should be.

use atlas_core::choose::Section;
use atlas_core::derive::news::MOST_NEWS;
use atlas_core::format::Frame;
use atlas_core::placement::{FileKind, Limits, MOST_BYTES, USUAL_MEDIA, UrlsPerFile};
use serde::Serialize;

/// How large the files of a site should be.
#[derive(Debug, Clone, Serialize)]
pub struct Cut {
    /// Entries in a file.
    pub urls_per_file: UrlsPerFile,
    /// Bytes in a file, frame included.
    pub bytes_per_file: u64,
    /// Pictures and videos in a file.
    pub media_per_file: u32,
}

impl Default for Cut {
    fn default() -> Self {
        Self { urls_per_file: UrlsPerFile::Auto, bytes_per_file: MOST_BYTES, media_per_file: USUAL_MEDIA }
    }
}

impl Cut {
    /// The sizes for one kind of file in a section.
    pub(super) fn of(&self, section: &Section, kind: FileKind) -> Self {
        let urls_per_file = section.urls_per_file.map_or(self.urls_per_file, UrlsPerFile::Fixed);
        Self {
            urls_per_file: if kind == FileKind::News { urls_per_file.at_most(MOST_NEWS) } else { urls_per_file },
            bytes_per_file: section.bytes_per_file.unwrap_or(self.bytes_per_file),
            media_per_file: section.media_per_file.unwrap_or(self.media_per_file),
        }
    }

    /// The limits of a new file of one kind, in a section with this many entries.
    pub(crate) fn limits(
        &self,
        section: Option<&Section>,
        kind: FileKind,
        style: Option<&str>,
        entries: usize,
    ) -> Limits {
        let cut = section.map_or_else(|| self.clone(), |section| self.of(section, kind));
        Limits {
            urls: cut.urls_per_file.when_opened(entries),
            bytes: inside(cut.bytes_per_file, style),
            media: cut.media_per_file,
        }
    }
}

/// The bytes of a file that its entries may use.
pub(super) fn inside(bytes_per_file: u64, style: Option<&str>) -> u64 {
    bytes_per_file.saturating_sub(Frame::most_bytes(style))
}
