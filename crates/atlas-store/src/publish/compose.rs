//! Composing a planned file from existing and rebuilt segments, in plain and compressed form.

use atlas_core::format::Frame;

use super::Publisher;
use super::render_queue::{RenderJob, RenderQueue, RenderedSegment};
use super::sitemap_file::{FinishedFile, SitemapFile};
use crate::arrange::{FilePlan, Made, SegmentPlan};
use crate::disk::segmented_gzip::{Segment, SegmentCompressor, decompress};
use crate::error::StoreError;
use crate::ledger::{Ledger, Writing};

/// A planned file that has to be written.
pub(super) struct Work {
    /// The names of its plain and compressed forms, if they are written.
    pub(super) plain: Option<String>,
    pub(super) packed: Option<String>,
    /// Whether each of them is already up to date.
    pub(super) plain_holds: bool,
    pub(super) packed_holds: bool,
}

impl Publisher<'_> {
    /// What has to be done about a planned file; `None` if it is up to date.
    pub(super) fn work(&self, file: &FilePlan) -> Option<Work> {
        let (plain, packed) = self.names.names(&file.name(), self.form);
        let standing = |name: &Option<String>| name.as_ref().is_none_or(|name| self.holds(name));
        let (plain_holds, packed_holds) = (standing(&plain), standing(&packed));
        let stands = !file.is_touched() && plain_holds && packed_holds && file.id.is_some() && !file.resized;
        (!stands).then_some(Work { plain, packed, plain_holds, packed_holds })
    }

    /// Composes a file. Rebuilt segments are passed to `keep`.
    pub(super) fn compose<'o>(
        &self,
        (file, id): (&FilePlan, i64),
        work: &Work,
        queue: &mut RenderQueue<'o, impl Iterator<Item = Result<RenderJob<'o>, StoreError>>>,
        writing: &dyn Writing,
        compressor: &mut SegmentCompressor,
        mut keep: impl FnMut(&Made, &RenderedSegment) -> Result<(), StoreError>,
    ) -> Result<FinishedFile, StoreError> {
        let draft = |name: &Option<String>| name.as_ref().map(|name| self.destination.begin(name)).transpose();
        let shown =
            work.plain.as_ref().or(work.packed.as_ref()).map_or(String::new(), |name| self.destination.shown(name));
        let mut sitemap_file = SitemapFile::begin(draft(&work.plain)?, draft(&work.packed)?, shown)?;
        sitemap_file.frame(&file.frame().open(self.names.style), compressor)?;
        for segment in &file.segments {
            match segment {
                SegmentPlan::Kept(row) => {
                    let body = writing.body(id, row.number)?;
                    let raw = if sitemap_file.plain.is_some() {
                        let damaged = |_| StoreError::LedgerDamaged("the text of a segment cannot be read");
                        decompress(&body, row.size).map_err(damaged)?
                    } else {
                        Vec::new()
                    };
                    let segment = Segment { body, crc: row.crc, raw_size: row.size };
                    sitemap_file.push(&raw, &segment, u64::from(row.count))?;
                }
                SegmentPlan::Made(made) => {
                    let rendered = queue.next()?;
                    sitemap_file.push(&rendered.text.raw, &rendered.segment, made.members.len() as u64)?;
                    keep(made, &rendered)?;
                }
            }
        }
        sitemap_file.frame(Frame::CLOSE, compressor)?;
        sitemap_file.finish()
    }

    /// The checksum and size that a planned file will have, without writing it.
    pub(crate) fn will_be(&self, at: usize, ledger: &dyn Ledger) -> Result<(u32, u64), StoreError> {
        let file = &self.plan.files[at];
        let mut crc = crc32fast::Hasher::new();
        crc.update(&file.frame().open(self.names.style));
        for segment in &file.segments {
            match segment {
                SegmentPlan::Kept(row) => crc.combine(&crc32fast::Hasher::new_with_initial_len(row.crc, row.size)),
                SegmentPlan::Made(made) => {
                    let whole = |file, number, with_text| ledger.whole(file, number, with_text);
                    let job = RenderJob::of(made, file.id, whole)?;
                    crc.update(&self.segment_renderer.render(&job)?.raw);
                }
            }
        }
        crc.update(Frame::CLOSE);
        Ok((crc.finalize(), file.size(self.names.style)))
    }
}
