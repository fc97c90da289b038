//! The render queue: rendering and compressing segments in other threads while finished ones are written.

use std::borrow::Cow;
use std::collections::HashMap;
use std::hint::black_box;
use std::iter::Peekable;
use std::path::Path;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;

use atlas_core::contribution::Contribution;
use atlas_core::fingerprint;
use atlas_core::format::UrlsetWriter;
use atlas_core::placement::{LimitError, Limits};
use rayon::prelude::*;

use crate::arrange::{Made, MemberOrigin, Renderer};
use crate::arrival::{Block, RowFlag, RowId, RowSummary};
use crate::disk::segmented_gzip::{Segment, SegmentCompressor};
use crate::error::StoreError;
use crate::model::{ContentCounts, NEVER, NO_GROUP, RememberedEntry, SegmentText, Whole, facts_of};
use crate::settle::{Candidate, EntryRows};

/// How many segments are rendered at a time.
const BATCH: usize = 96;

/// Renders segments.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SegmentRenderer<'a> {
    /// The candidates.
    pub(crate) candidates: &'a [Candidate],
    pub(crate) renderer: Renderer<'a>,
    /// Which rows represent entries, and their sources.
    pub(crate) entry_rows: &'a EntryRows,
    /// A fingerprint of the settings that affect what is written.
    pub(crate) settings: u64,
    /// The number of this run.
    pub(crate) run: u32,
    /// Entries that are back unchanged, by key: the run in which each last changed.
    pub(crate) returned: &'a HashMap<u128, u32>,
}

/// A segment to render, with the text and remembered entries of the one that it replaces.
pub(crate) struct RenderJob<'a> {
    made: &'a Made,
    before: Option<Whole>,
}

impl<'a> RenderJob<'a> {
    /// A job to render a segment of this file in the ledger. `whole` reads an existing segment by number, without its
    /// text if that is already in memory.
    pub(crate) fn of(
        made: &'a Made,
        file: Option<i64>,
        whole: impl FnOnce(i64, u32, bool) -> Result<Whole, StoreError>,
    ) -> Result<Self, StoreError> {
        let before = made.base.zip(file).map(|(base, file)| whole(file, base.number, made.text.is_none()));
        Ok(Self { made, before: before.transpose()? })
    }
}

/// A rendered segment.
pub(super) struct RenderedSegment {
    pub(super) text: RenderedText,
    pub(super) segment: Segment,
}

/// The text of a segment, and what the ledger will remember of its entries.
#[derive(Debug, Default)]
pub(crate) struct RenderedText {
    pub(crate) raw: Vec<u8>,
    pub(crate) entries: Vec<u8>,
    /// The fingerprints by which the rows of its entries are recognised unread; empty if there are none.
    pub(crate) raws: Vec<u8>,
    pub(crate) facts: ContentCounts,
}

/// The rows of new entries, with their blocks.
struct NewRows {
    first: usize,
    blocks: Vec<Option<Arc<Block>>>,
    row_ids: Vec<(usize, usize)>,
}

impl NewRows {
    fn of(made: &Made, renderer: &Renderer<'_>) -> Self {
        let arrivals = renderer.arrivals;
        let rows = made.members.iter().filter_map(|member| match member.from() {
            MemberOrigin::Row(row_id) => Some(arrivals.find(row_id)),
            _ => None,
        });
        let row_ids: Vec<(usize, usize)> = rows.collect();
        let at = || row_ids.iter().map(|(at, _)| *at);
        let (first, end) = (at().min().unwrap_or(0), at().max().map_or(0, |last| last + 1));
        let mut blocks = vec![None; end.saturating_sub(first)];
        for at in at() {
            blocks[at - first].get_or_insert_with(|| arrivals.block(at));
        }
        Self { first, blocks, row_ids }
    }

    /// The rows in order. They are far apart in memory, so all are touched first, which lets the waits for memory
    /// overlap.
    fn each(&self) -> impl Iterator<Item = (Cow<'_, [u8]>, RowSummary)> {
        let rows = || self.row_ids.iter().filter_map(|(at, row)| Some((self.blocks[at - self.first].as_ref()?, *row)));
        let glances: Vec<(u32, u64)> = rows().map(|(block, row)| block.glance(row)).collect();
        let touched = rows().zip(black_box(&glances)).map(|((block, _), (start, _))| block.touch(*start));
        black_box(touched.fold(0, |all, one| all ^ one));
        rows().map(|(block, row)| block.entry(row))
    }
}

impl<'a> SegmentRenderer<'a> {
    /// Renders the text of a segment.
    pub(crate) fn render(&self, job: &RenderJob<'_>) -> Result<RenderedText, StoreError> {
        let made = job.made;
        let mut writer = UrlsetWriter::with_capacity(Limits::PROTOCOL, usize::try_from(made.size).unwrap_or(0));
        let mut text = RenderedText {
            raw: Vec::new(),
            entries: Vec::with_capacity(made.members.len() * RememberedEntry::BYTES),
            raws: Vec::with_capacity(made.members.len() * 8),
            facts: ContentCounts::default(),
        };
        let mut unpacked = None;
        let before = match (&job.before, &made.base) {
            (Some(whole), Some(base)) => {
                let before = match &made.text {
                    Some(text) => text,
                    None => unpacked.insert(SegmentText::read(&whole.body, base)?),
                };
                let mut stays = vec![false; base.count as usize];
                let row_ids = made.members.iter().filter_map(|member| match member.from() {
                    MemberOrigin::Base(at) => Some(at),
                    _ => None,
                });
                row_ids.for_each(|at| stays[at as usize] = true);
                text.facts = before.facts(base, |at| stays[at as usize]);
                Some((before, whole))
            }
            _ => None,
        };
        let rows = NewRows::of(made, &self.renderer);
        let mut rows = rows.each();
        for member in &made.members {
            match member.from() {
                MemberOrigin::Base(at) => {
                    let missing = || StoreError::LedgerDamaged("a segment is missing");
                    let (before, whole) = before.as_ref().ok_or_else(missing)?;
                    let (entry, raw) = whole.entry(at).ok_or_else(missing)?;
                    writer.push_written(before.element(at))?;
                    text.entries.extend_from_slice(entry);
                    text.raws.extend_from_slice(&raw);
                }
                MemberOrigin::Candidate(at) => {
                    let candidate = &self.candidates[at as usize];
                    let row = self.renderer.arrivals.row(candidate.row_id);
                    let start = writer.elements().len();
                    writer.push(&self.renderer.entry(candidate, &Contribution::read(&row)))?;
                    candidate.entry.write(&mut text.entries);
                    text.raws.extend_from_slice(&candidate.raw.to_le_bytes());
                    text.facts.add(facts_of(&writer.elements()[start..], made.frame).1);
                }
                MemberOrigin::Row(row_id) => {
                    let Some((row, summary)) = rows.next() else { continue };
                    self.push_new(row_id, &row, &summary, &mut writer)?.write(&mut text.entries);
                    text.raws.extend_from_slice(&summary.raw.to_le_bytes());
                    let (images, videos) = (u64::from(summary.images), u64::from(summary.videos));
                    text.facts.add(ContentCounts {
                        images: if summary.frame().images { images } else { 0 },
                        videos: if summary.frame().videos { videos } else { 0 },
                        newest: summary.date,
                    });
                }
            }
        }
        if text.raws.iter().all(|byte| *byte == 0) {
            text.raws.clear();
        }
        text.raw = writer.into_elements();
        Ok(text)
    }

    /// Writes a new entry; returns what the ledger will remember of it.
    fn push_new(
        &self,
        row_id: RowId,
        row: &[u8],
        summary: &RowSummary,
        writer: &mut UrlsetWriter,
    ) -> Result<RememberedEntry, LimitError> {
        let alternates = self.renderer.alternates;
        let group = alternates.group_of(row_id);
        if let Some(kept) = summary.kept() {
            match summary.bare(&kept, row).filter(|_| group == NO_GROUP) {
                Some(bare) => writer.push_bare(&bare)?,
                None => writer.push(&self.renderer.new_entry(kept, group, &Contribution::read(row)))?,
            }
        }
        Ok(RememberedEntry {
            key: summary.key(),
            written: fingerprint::written(summary.decided(), self.settings, None, alternates.print(group)),
            page: summary.page,
            declared: summary.declared,
            observed: NEVER,
            changed: self.returned.get(&summary.key()).copied().unwrap_or(self.run),
            from_page: summary.has(RowFlag::FromPage),
            untold: summary.kept().is_some_and(|kept| !kept.announce),
            text_changed: false,
            provenance: self.entry_rows.provenance(self.renderer.arrivals, row_id),
        })
    }

    fn render_and_compress(
        &self,
        job: &RenderJob<'_>,
        compressors: &Mutex<Vec<SegmentCompressor>>,
    ) -> Result<RenderedSegment, StoreError> {
        let bench = || compressors.lock().unwrap_or_else(PoisonError::into_inner);
        let text = self.render(job)?;
        let failed = StoreError::io("cannot compress for", Path::new("the sitemap"));
        let mut compressor = bench().pop().unwrap_or_default();
        let segment = compressor.compress(&text.raw).map_err(failed)?;
        bench().push(compressor);
        Ok(RenderedSegment { text, segment })
    }
}

/// The result of a batch of jobs.
type RenderedBatch = Result<Vec<RenderedSegment>, StoreError>;

/// Rendered segments, in order.
pub(super) struct RenderQueue<'a, I: Iterator> {
    jobs: SyncSender<Vec<RenderJob<'a>>>,
    rendered: Receiver<RenderedBatch>,
    waiting: Peekable<I>,
    /// The first row after each window of rows.
    windows: Vec<RowId>,
    under_way: usize,
    ready: std::vec::IntoIter<RenderedSegment>,
}

impl<'a, I: Iterator<Item = Result<RenderJob<'a>, StoreError>>> RenderQueue<'a, I> {
    /// Starts to render the jobs of `waiting`, in order, taking jobs only as fast as they are rendered.
    pub(super) fn start<'scope>(
        segment_renderer: SegmentRenderer<'a>,
        waiting: I,
        scope: &'scope thread::Scope<'scope, 'a>,
    ) -> Self {
        let (jobs, ordered) = sync_channel::<Vec<RenderJob<'a>>>(AHEAD);
        let (sender, rendered) = sync_channel::<RenderedBatch>(AHEAD);
        scope.spawn(move || {
            let compressors = Mutex::default();
            for batch in ordered {
                let made = batch.par_iter().map(|job| segment_renderer.render_and_compress(job, &compressors));
                // The receiver is gone if writing failed. Then there is nothing left to do.
                if sender.send(made.collect()).is_err() {
                    return;
                }
            }
        });
        let windows = segment_renderer.renderer.arrivals.ends_of_windows();
        Self { jobs, rendered, waiting: waiting.peekable(), windows, under_way: 0, ready: Vec::new().into_iter() }
    }

    /// Starts as many jobs as may be under way.
    pub(super) fn begin(&mut self) -> Result<(), StoreError> {
        while self.under_way < AHEAD {
            let some = self.batch()?;
            if some.is_empty() {
                return Ok(());
            }
            self.jobs.send(some).map_err(|_| StoreError::Stopped)?;
            self.under_way += 1;
        }
        Ok(())
    }

    /// The next jobs to render together, from rows of one window.
    fn batch(&mut self) -> Result<Vec<RenderJob<'a>>, StoreError> {
        let mut some = Vec::new();
        let mut window = None;
        let windows = &self.windows;
        let mut fits = |job: &Result<RenderJob<'a>, StoreError>| {
            let row_id = job.as_ref().ok().and_then(|job| job.made.last_row());
            let own = row_id.map(|row_id| windows.partition_point(|end| *end <= row_id));
            let fits = own.is_none() || window.is_none() || own == window;
            window = window.or(own);
            fits
        };
        while some.len() < BATCH
            && let Some(job) = self.waiting.next_if(&mut fits)
        {
            some.push(job?);
        }
        Ok(some)
    }

    /// The next segment.
    pub(super) fn next(&mut self) -> Result<RenderedSegment, StoreError> {
        loop {
            if let Some(rendered) = self.ready.next() {
                return Ok(rendered);
            }
            self.begin()?;
            self.ready = self.rendered.recv().map_err(|_| StoreError::Stopped)??.into_iter();
            self.under_way -= 1;
            self.begin()?;
        }
    }
}

/// How many batches are under way at a time.
const AHEAD: usize = 2;
