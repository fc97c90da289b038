//! The limits of a sitemap file, and how much of them one entry takes.

use serde::{Deserialize, Serialize};
use thiserror::Error;

/// The most `url` elements in one file (sitemaps protocol 0.9).
pub const MOST_URLS: u32 = 50_000;
/// The most bytes in one file, unpacked (sitemaps protocol 0.9).
pub const MOST_BYTES: u64 = 52_428_800;
/// The smallest limit that may be set on a file's pictures and videos: twice what one entry may have, so that a file
/// without room for the next entry is never less than half full.
pub const LEAST_MEDIA: u32 = 2000;
/// The most pictures and videos in one file, unless the configuration says otherwise.
pub const USUAL_MEDIA: u32 = 20_000;
/// The most files in one index (sitemaps protocol 0.9).
pub const MOST_FILES: usize = 50_000;

/// The limits of one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Limits {
    /// `url` elements.
    pub urls: u32,
    /// The bytes of all `url` elements together, without the frame around them.
    pub bytes: u64,
    /// The pictures and videos of all `url` elements together. Engines take long to process a file with many of them.
    pub media: u32,
}

impl Limits {
    /// The limits of the sitemaps protocol 0.9, which has none for pictures and videos.
    pub const PROTOCOL: Self = Self { urls: MOST_URLS, bytes: MOST_BYTES, media: u32::MAX };

    /// Checks the counts of a file.
    ///
    /// # Errors
    ///
    /// Returns the first limit that is exceeded.
    pub fn check(&self, urls: u64, bytes: u64, media: u64) -> Result<(), LimitError> {
        match () {
            () if urls > u64::from(self.urls) => Err(LimitError::Urls(self.urls)),
            () if bytes > self.bytes => Err(LimitError::Bytes(self.bytes)),
            () if media > u64::from(self.media) => Err(LimitError::Media(self.media)),
            () => Ok(()),
        }
    }
}

/// A limit of a sitemap file that would be exceeded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum LimitError {
    /// The number of `url` elements.
    #[error("more than {0} URLs")]
    Urls(u32),
    /// The size in bytes, unpacked.
    #[error("more than {0} bytes")]
    Bytes(u64),
    /// The number of pictures and videos.
    #[error("more than {0} pictures and videos")]
    Media(u32),
}

/// How much of a file's limits one entry takes, besides being one `url` element.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Weight {
    /// Bytes of its `url` element.
    pub bytes: u64,
    /// Its pictures and videos.
    pub media: u32,
}

/// How many entries a file should hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum UrlsPerFile {
    /// Chosen when a file is opened: the section's size ÷ 1,000, between 1,000 and 50,000. Small files cost nothing to
    /// build, and after a change to one entry engines fetch only a small file again.
    Auto,
    /// This many.
    Fixed(u32),
}

impl UrlsPerFile {
    /// The number for a file that is opened in a section with this many entries.
    pub fn when_opened(self, section_size: usize) -> u32 {
        match self {
            Self::Auto => u32::try_from(section_size / 1000).unwrap_or(MOST_URLS).clamp(1000, MOST_URLS),
            Self::Fixed(number) => number.clamp(1, MOST_URLS),
        }
    }

    /// The same, but at most `most`.
    #[must_use]
    pub fn at_most(self, most: u32) -> Self {
        match self {
            Self::Auto => Self::Fixed(most),
            Self::Fixed(number) => Self::Fixed(number.min(most)),
        }
    }

    /// The number for a file that was opened with `before`.
    pub fn for_standing(self, before: u32) -> u32 {
        match self {
            Self::Auto => before,
            Self::Fixed(number) => number.clamp(1, MOST_URLS),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(UrlsPerFile::Auto, 10, 1000)]
    #[case(UrlsPerFile::Auto, 3_000_000, 3000)]
    #[case(UrlsPerFile::Auto, 900_000_000, 50_000)]
    #[case(UrlsPerFile::Fixed(70_000), 10, 50_000)]
    #[case(UrlsPerFile::Fixed(250), 1_000_000, 250)]
    fn file_sizes(#[case] setting: UrlsPerFile, #[case] section: usize, #[case] wanted: u32) {
        assert_eq!(setting.when_opened(section), wanted);
    }
}
