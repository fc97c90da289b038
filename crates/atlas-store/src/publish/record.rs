//! Recording in the ledger what happens to files, and passing them on to be moved into place.

use atlas_core::placement::{FileKind, is_extra_file, is_further_index, parts_of, plain_name};
use rayon::prelude::*;

use super::compose::Work;
use super::render_queue::{RenderJob, RenderQueue};
use super::sitemap_file::FinishedFile;
use super::state::PublishState;
use super::{Declaration, Publisher};
use crate::arrange::FilePlan;
use crate::destination::{ROBOTS, replace};
use crate::error::StoreError;
use crate::ledger::Writing;
use crate::model::{Fact, FileDigest, OutputRow};
use crate::report::{FileFate, RobotsFate};

/// How many extra files are made at a time.
const WINDOW: usize = 32;

impl Publisher<'_> {
    /// Writes one planned file, if necessary: composes, records and places it.
    pub(super) fn file<'o>(
        &self,
        at: usize,
        queue: &mut RenderQueue<'o, impl Iterator<Item = Result<RenderJob<'o>, StoreError>>>,
        writing: &dyn Writing,
        state: &mut PublishState,
    ) -> Result<(), StoreError> {
        let file = &self.plan.files[at];
        let Some(work) = self.work(file) else { return Ok(()) };
        let id = match file.id {
            Some(id) => id,
            None => writing.open_file(&file.section, file.kind, file.number, file.limits)?,
        };
        file.dropped.iter().try_for_each(|number| writing.drop_segment(id, *number))?;
        let finished = self.compose((file, id), &work, queue, writing, &mut state.compressor, |made, rendered| {
            let text = &rendered.text;
            writing.keep_segment(
                id,
                made.number,
                (made.frame, text.facts),
                &rendered.segment,
                (&text.entries, &text.raws),
            )
        })?;
        let is_same = self.record(at, (file, id), &work, &finished, writing, state)?;
        Self::place(work, finished, is_same, state)
    }

    /// Records the contents of a file, and returns whether they are the same as before.
    fn record(
        &self,
        at: usize,
        (file, id): (&FilePlan, i64),
        work: &Work,
        finished: &FinishedFile,
        writing: &dyn Writing,
        state: &mut PublishState,
    ) -> Result<bool, StoreError> {
        let same = file.before.is_some_and(|before| (before.crc, before.size) == (finished.crc, finished.size));
        let changed = if same { file.before.map_or(self.now, |before| before.changed) } else { self.now };
        let standing = FileDigest { changed, crc: finished.crc, size: finished.size };
        writing.record_file(id, file.limits, standing)?;
        state.digests[at] = Some(standing);
        state.published.sizes[at] = finished.size;
        state.published.fates[at] = match (file.before, same, work.plain_holds && work.packed_holds) {
            (None, ..) => FileFate::New,
            (_, false, _) => FileFate::Changed,
            (_, true, false) => FileFate::Restored,
            (_, true, true) => FileFate::Unchanged,
        };
        Ok(same)
    }

    /// Passes on what has to be moved into place.
    fn place(work: Work, finished: FinishedFile, is_same: bool, state: &mut PublishState) -> Result<(), StoreError> {
        for (draft, holds) in [(finished.plain, work.plain_holds), (finished.packed, work.packed_holds)] {
            if let Some(draft) = draft.filter(|_| !(is_same && holds)) {
                state.placing.put(draft)?;
            }
        }
        Ok(())
    }

    /// Writes the extra files that are not up to date.
    pub(super) fn write_extra_files(&self, state: &mut PublishState, stale: &[usize]) -> Result<(), StoreError> {
        if stale.is_empty() {
            return Ok(());
        }
        for window in stale.chunks(WINDOW) {
            let drafts = window.par_iter().map(|at| {
                use std::io::Write as _;
                let extra_file = &self.extra_files[*at];
                let mut draft = self.destination.begin(&extra_file.name)?;
                let failed = StoreError::io("cannot write", self.destination.shown(&extra_file.name));
                draft.write_all(&extra_file.bytes()).map_err(failed)?;
                Ok(draft)
            });
            let drafts = drafts.collect::<Result<Vec<_>, StoreError>>()?;
            drafts.into_iter().try_for_each(|draft| state.placing.put(draft))?;
        }
        state.take_placed()?;
        self.destination.commit()
    }

    /// Declares the sitemaps in robots.txt.
    pub(super) fn declare(&self, writing: &dyn Writing) -> Result<RobotsFate, StoreError> {
        let declared = writing.fact(Fact::Declared)?.unwrap_or_default();
        let Some(declaration) =
            Declaration::of((self.destination, self.names), self.plan.files.len(), &declared, self.live_robots)?
        else {
            return Ok(RobotsFate::Unnamed);
        };
        let fate = declaration.fate();
        let Some(after) = &declaration.after else { return Ok(fate) };
        let addresses = self.names.index_addresses(self.plan.files.len());
        writing.set_fact(Fact::Declared, Some(&addresses.join("\n")))?;
        if fate != RobotsFate::Unchanged {
            replace(self.destination, ROBOTS, after)?;
        }
        Ok(fate)
    }

    /// Records what was written, retires what is no longer wanted, and lists what to remove.
    pub(super) fn settle_outputs(&self, state: &mut PublishState, writing: &dyn Writing) -> Result<(), StoreError> {
        let wanted = self.wanted_names();
        for (name, output) in &state.outputs {
            writing.set_output(name, output)?;
        }
        for (name, output) in self.remembered.outputs.iter().filter(|(name, _)| !wanted.contains(*name)) {
            // A server would send an outdated compressed copy in place of the file.
            let stale_copy = plain_name(name) != name && wanted.contains(plain_name(name));
            match output.retired {
                Some(since) if since + i64::from(self.names.folded_days) * 86_400 < self.now => {
                    state.published.to_remove.push(name.clone())
                }
                _ if is_further_index(&self.names.main, name) => state.published.to_remove.push(name.clone()),
                _ if is_extra_file(name) => state.published.to_remove.push(name.clone()),
                // Its articles are no longer news, or have moved to the first file.
                _ if kind_of_file(name) == Some(FileKind::News) => state.published.to_remove.push(name.clone()),
                _ if stale_copy => state.published.to_remove.push(name.clone()),
                Some(_) => {}
                None => {
                    writing.set_output(name, &OutputRow { retired: Some(self.now), ..*output })?;
                    state.published.retired.push(name.clone());
                }
            }
        }
        for name in &wanted {
            let back = self.remembered.outputs.get(name).filter(|output| output.retired.is_some());
            if let Some(output) = back.filter(|_| !state.outputs.contains_key(name)) {
                writing.set_output(name, &OutputRow { retired: None, ..*output })?;
            }
        }
        // Files that a killed build made and this one does not need.
        let strays = self.remembered.planned.iter().filter(|name| !wanted.contains(*name));
        let strays = strays.filter(|name| !self.remembered.outputs.contains_key(*name));
        state.published.to_remove.extend(strays.cloned());
        for name in &state.published.to_remove {
            writing.drop_output(name)?;
        }
        Ok(())
    }
}

/// The kind of a child file with this name.
fn kind_of_file(name: &str) -> Option<FileKind> {
    parts_of(name).map(|(_, kind, _)| kind)
}
