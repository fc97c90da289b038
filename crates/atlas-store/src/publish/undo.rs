//! Undoing what a killed build began, before the next one begins, so that the files match the ledger again.

use std::collections::{HashMap, HashSet};
use std::thread;

use atlas_core::format::{IndexLine, read};
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::{MOST_BYTES, is_packed};
use jiff::tz::TimeZone;

use super::Publisher;
use super::placing::Placing;
use super::render_queue::RenderQueue;
use super::state::PublishState;
use crate::arrange::{FilePlan, Plan};
use crate::disk::segmented_gzip::unpack;
use crate::error::StoreError;
use crate::ledger::Writing;
use crate::model::{FileRow, urls_of};

impl Publisher<'_> {
    /// Restores the state in the ledger: first the files that lost entries; then an index that lists these and
    /// everything listed now, so that every entry is listed; then the files that gained entries which are listed
    /// elsewhere again.
    pub(super) fn undo(&self, writing: &dyn Writing) -> Result<(), StoreError> {
        let files = self.remembered.files.iter().map(FilePlan::as_it_stands).collect();
        let plan = Plan { files, folded: Vec::new(), next_numbers: self.remembered.next_numbers.clone() };
        let before = Publisher { plan: &plan, extra_files: &[], extra_files_stand: true, ..*self };
        let spoilt = (0..plan.files.len()).filter(|at| !before.holds_all(&plan.files[*at]));
        let mut lost = Vec::new();
        let mut gained = Vec::new();
        for at in spoilt {
            let file = &self.remembered.files[at];
            if before.lacks_some(&plan.files[at], file, writing)? { lost.push(at) } else { gained.push(at) }
        }
        thread::scope(|scope| {
            let mut queue = RenderQueue::start(before.segment_renderer, std::iter::empty(), scope);
            let mut state =
                PublishState::new(&plan, self.names.style, Placing::start(scope, self.destination, writing.flusher()));
            // What is listed stays listed, but with dates no newer than they will be in a moment.
            let named = before.named(&before.index_lines(&state, |_| true))?;
            if !named.is_empty() {
                before.write_indexes(&mut state, &named, writing)?;
            }
            for at in lost {
                before.file(at, &mut queue, writing, &mut state)?;
            }
            state.all_placed(self.destination)?;
            let mut lines = before.index_lines(&state, |_| true);
            let known: HashSet<String> = lines.iter().map(|line| line.address.clone()).collect();
            lines.extend(named.into_iter().filter(|line| !known.contains(&line.address)));
            before.write_indexes(&mut state, &lines, writing)?;
            for at in gained {
                before.file(at, &mut queue, writing, &mut state)?;
            }
            state.all_placed(self.destination)
        })
    }

    /// Whether a file on disk lacks an entry that the ledger has in it.
    fn lacks_some(&self, plan: &FilePlan, file: &FileRow, writing: &dyn Writing) -> Result<bool, StoreError> {
        let (plain, packed) = self.names.names(&plan.name(), self.form);
        for name in plain.iter().chain(&packed) {
            let Some(bytes) = self.destination.read(name)? else { return Ok(true) };
            let bytes = if is_packed(name) { unpack(&bytes, MOST_BYTES).unwrap_or_default() } else { bytes };
            let mut there = HashSet::new();
            let readable = read(&bytes, |url| there.extend(url.loc), |_| ()).is_ok();
            for segment in &file.segments {
                let known = urls_of(&writing.body(file.id, segment.number)?, segment.size)?;
                if !readable || known.iter().any(|url| !there.contains(url.as_str())) {
                    return Ok(true);
                }
            }
        }
        Ok(false)
    }

    /// The files that the current indexes list and that exist: each with its date there or in `before`, whichever is
    /// older.
    fn named(&self, before: &[IndexLine]) -> Result<Vec<IndexLine>, StoreError> {
        let before: HashMap<&str, Lastmod> = before.iter().map(|line| (line.address.as_str(), line.lastmod)).collect();
        let mut named = Vec::new();
        for name in self.names.index_names(self.plan.files.len()) {
            let Some(bytes) = self.destination.read(&name)? else { continue };
            // An index is always whole. A damaged one lists nothing worth keeping.
            let _ = read(
                &bytes,
                |_| (),
                |child| {
                    let address = child.loc.unwrap_or_default().into_owned();
                    let file = address.strip_prefix(self.names.address.as_str());
                    let there =
                        file.is_some_and(|file| self.destination.version(file).is_ok_and(|version| version.is_some()));
                    let stated = child.lastmod.and_then(|text| Lastmod::read(&text, &TimeZone::UTC));
                    if let Some(stated) = stated.filter(|_| there) {
                        let older = before.get(address.as_str()).filter(|then| then.seconds() < stated.seconds());
                        named.push(IndexLine { lastmod: older.copied().unwrap_or(stated), address });
                    }
                },
            );
        }
        Ok(named)
    }
}
