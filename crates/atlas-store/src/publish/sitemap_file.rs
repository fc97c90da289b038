//! A sitemap file being written, in plain and compressed form at once.

use std::io::Write as _;

use atlas_core::placement::Limits;

use crate::destination::Draft;
use crate::disk::segmented_gzip::{GzipWriter, Segment, SegmentCompressor};
use crate::error::StoreError;

/// A sitemap file being written, in plain and compressed form at once.
pub(super) struct SitemapFile {
    pub(super) plain: Option<Draft>,
    pub(super) packed: Option<GzipWriter<Draft>>,
    pub(super) crc: crc32fast::Hasher,
    pub(super) size: u64,
    urls: u64,
    /// Where it will be, for messages.
    shown: String,
}

/// A sitemap file that is complete but not in place yet.
pub(super) struct FinishedFile {
    pub(super) plain: Option<Draft>,
    pub(super) packed: Option<Draft>,
    pub(super) crc: u32,
    pub(super) size: u64,
}

impl SitemapFile {
    pub(super) fn begin(plain: Option<Draft>, packed: Option<Draft>, shown: String) -> Result<Self, StoreError> {
        let failed = StoreError::io("cannot write", &shown);
        let packed = packed.map(GzipWriter::begin).transpose().map_err(failed)?;
        Ok(Self { plain, packed, crc: crc32fast::Hasher::new(), size: 0, urls: 0, shown })
    }

    /// Adds the beginning or the end of the file.
    pub(super) fn frame(&mut self, raw: &[u8], compressor: &mut SegmentCompressor) -> Result<(), StoreError> {
        let segment = compressor.compress(raw).map_err(StoreError::io("cannot compress for", &self.shown))?;
        self.push(raw, &segment, 0)
    }

    /// Adds a segment with this many `url` elements.
    pub(super) fn push(&mut self, raw: &[u8], segment: &Segment, urls: u64) -> Result<(), StoreError> {
        let (urls, size) = (self.urls + urls, self.size + segment.raw_size);
        Limits::PROTOCOL.check(urls, size, 0)?;
        let written = (|| {
            if let Some(plain) = &mut self.plain {
                plain.write_all(raw)?;
            }
            if let Some(packed) = &mut self.packed {
                packed.push(&segment.body, segment.crc, segment.raw_size)?;
            }
            Ok(())
        })();
        written.map_err(StoreError::io("cannot write", &self.shown))?;
        self.crc.combine(&crc32fast::Hasher::new_with_initial_len(segment.crc, segment.raw_size));
        (self.urls, self.size) = (urls, size);
        Ok(())
    }

    pub(super) fn finish(self) -> Result<FinishedFile, StoreError> {
        let failed = StoreError::io("cannot write", &self.shown);
        let packed = self.packed.map(GzipWriter::finish).transpose().map_err(failed)?;
        Ok(FinishedFile { plain: self.plain, packed, crc: self.crc.finalize(), size: self.size })
    }
}

#[cfg(test)]
mod tests {
    use atlas_core::placement::{LimitError, MOST_BYTES, MOST_URLS};
    use rstest::rstest;

    use super::*;

    /// Whatever was planned, no file exceeds the protocol's limits.
    #[rstest]
    #[case::urls(u64::from(MOST_URLS) + 1, 9, LimitError::Urls(MOST_URLS))]
    #[case::bytes(1, MOST_BYTES + 1, LimitError::Bytes(MOST_BYTES))]
    fn a_segment_past_a_limit_is_refused(#[case] urls: u64, #[case] raw_size: u64, #[case] wanted: LimitError) {
        let mut file = SitemapFile::begin(None, None, "atlas-halts-1.xml".into()).unwrap();
        let segment = |raw_size| Segment { body: Vec::new(), crc: 0, raw_size };
        file.push(&[], &segment(9), 1).unwrap();
        let refused = file.push(&[], &segment(raw_size), urls).unwrap_err();
        assert!(matches!(refused, StoreError::Limit(limit) if limit == wanted), "{refused}");
        assert_eq!((file.urls, file.size), (1, 9), "it counts for nothing");
    }
}
