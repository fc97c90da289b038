//! Writing the indexes and other small files.

use std::collections::HashSet;

use atlas_core::format::{IndexLine, index, read};
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::{child_name, packed_name};

use super::Publisher;
use super::state::PublishState;
use crate::destination::{Gzip, holds, replace};
use crate::disk::segmented_gzip::{GzipWriter, compress};
use crate::error::StoreError;
use crate::ledger::Writing;

impl Publisher<'_> {
    pub(super) fn index_lines(&self, state: &PublishState, which: impl Fn(usize) -> bool) -> Vec<IndexLine> {
        let lines = self.plan.files.iter().enumerate().filter(|(at, _)| which(*at));
        lines
            .map(|(at, file)| IndexLine {
                address: format!("{}{}", self.names.address, self.names.listed_name(&file.name(), self.form)),
                lastmod: instant(state.digests[at].map_or(self.now, |standing| standing.changed)),
            })
            .collect()
    }

    /// Writes an index for the time in between: it lists the files that gained entries, and all files of the old index.
    pub(super) fn write_interim_index(
        &self,
        state: &mut PublishState,
        gained: &[usize],
        writing: &dyn Writing,
    ) -> Result<(), StoreError> {
        let mut lines = self.index_lines(state, |at| gained.contains(&at) || self.plan.files[at].id.is_some());
        for folded in self.remembered.files.iter().filter(|file| self.plan.folded.contains(&file.id)) {
            let name = child_name(&folded.section, folded.kind, folded.number);
            let name = if self.names.gzip == Gzip::Only { packed_name(&name) } else { name };
            if self.destination.version(&name)?.is_some() {
                let address = format!("{}{name}", self.names.address);
                lines.push(IndexLine { address, lastmod: instant(folded.digest.changed) });
            }
        }
        self.write_indexes(state, &lines, writing)
    }

    /// Writes these lines into as many indexes as needed. In between, an index may briefly have more lines than it
    /// should.
    pub(super) fn write_indexes(
        &self,
        state: &mut PublishState,
        lines: &[IndexLine],
        writing: &dyn Writing,
    ) -> Result<(), StoreError> {
        let names = self.names.index_names(self.plan.files.len());
        let mut rest = lines;
        let mut parts = Vec::new();
        for at in 0..names.len() {
            let most = if at + 1 == names.len() { rest.len() } else { self.names.files_per_index.min(rest.len()) };
            let (part, after) = rest.split_at(most);
            parts.push(part);
            rest = after;
        }
        // The main file comes last, because engines read it most.
        let indexes: Vec<(&String, &[IndexLine])> = names.iter().zip(parts).rev().collect();
        if names.len() > 1 {
            self.write_overlapping(state, &indexes, lines, writing)?;
        }
        for (name, part) in indexes {
            self.small_file(state, name, &index(part, self.names.style))?;
        }
        Ok(())
    }

    /// Prepares for lines to move from one index to another, in whatever direction: each index lists its new lines and
    /// keeps its old ones, and robots.txt leads to all of them.
    fn write_overlapping(
        &self,
        state: &mut PublishState,
        indexes: &[(&String, &[IndexLine])],
        lines: &[IndexLine],
        writing: &dyn Writing,
    ) -> Result<(), StoreError> {
        let mut is_any_new = false;
        for (name, part) in indexes {
            let mut listed = HashSet::new();
            let there = self.destination.read(name)?;
            is_any_new |= there.is_none();
            let there = there.unwrap_or_default();
            // What is not an index lists nothing that could be lost.
            let _ = read(&there, |_| (), |child| listed.extend(child.loc));
            part.iter().for_each(|line| _ = listed.remove(line.address.as_str()));
            let moving = lines.iter().filter(|line| listed.contains(line.address.as_str()));
            let both: Vec<IndexLine> = part.iter().chain(moving).cloned().collect();
            self.small_file(state, name, &index(&both, self.names.style))?;
        }
        if is_any_new {
            self.destination.commit()?;
            state.published.robots = Some(self.declare(writing)?);
        }
        Ok(())
    }

    /// Writes a small file and its compressed copy, unless they are up to date.
    pub(super) fn small_file(&self, state: &mut PublishState, name: &str, bytes: &[u8]) -> Result<(), StoreError> {
        self.small(state, name, bytes)?;
        if self.names.gzip == Gzip::Beside {
            let failed = StoreError::io("cannot write", self.destination.shown(name));
            let packed = (|| {
                let segment = compress(bytes)?;
                let mut writer = GzipWriter::begin(Vec::new())?;
                writer.push(&segment.body, segment.crc, segment.raw_size)?;
                writer.finish()
            })();
            self.small(state, &packed_name(name), &packed.map_err(failed)?)?;
        }
        Ok(())
    }

    pub(super) fn small(&self, state: &mut PublishState, name: &str, bytes: &[u8]) -> Result<(), StoreError> {
        let known = state.outputs.get(name).or_else(|| self.remembered.outputs.get(name));
        let crc = crc32fast::hash(bytes);
        if known.is_some_and(|known| known.on_disk.crc == crc && holds(self.destination, name, &known.on_disk)) {
            return Ok(());
        }
        let on_disk = replace(self.destination, name, bytes)?;
        state.wrote(name.to_owned(), on_disk);
        Ok(())
    }
}

fn instant(seconds: i64) -> Lastmod {
    Lastmod::Instant { seconds, offset: 0 }
}
