//! The texts of blocks, so that rows which were skipped or not read can be read without asking the source again.

use std::collections::VecDeque;
use std::io;
use std::path::Path;

use atlas_core::report::Problem;

use super::block::RetainedText;
use crate::disk::spill::SpillFile;

/// Texts in the order of arrival. Those that do not fit into memory are written to disk.
#[derive(Debug)]
pub(super) struct Texts {
    list: VecDeque<KeptText>,
    held: usize,
    budget: usize,
    spill: SpillFile,
}

#[derive(Debug)]
struct KeptText {
    source: u16,
    /// Without the text itself if that is on disk.
    retained: RetainedText,
    /// Where the text is on disk, and its length.
    on_disk: Option<(u64, usize)>,
}

impl Texts {
    /// No texts yet; at most about `budget` bytes of them stay in memory.
    pub(super) fn new(folder: &Path, budget: usize) -> Self {
        Self { list: VecDeque::new(), held: 0, budget, spill: SpillFile::new(folder) }
    }

    pub(super) fn push(&mut self, source: u16, mut retained: RetainedText) -> io::Result<()> {
        let length = retained.text.len();
        let mut on_disk = None;
        if self.held + length > self.budget {
            let text = std::mem::take(&mut retained.text);
            on_disk = Some((self.spill.put(&text)?, length));
        } else {
            self.held += length;
            retained.text.shrink_to_fit();
        }
        self.list.push_back(KeptText { source, retained, on_disk });
        Ok(())
    }

    /// What is wrong with the rows that were read of each text, by source.
    pub(super) fn take_problems(&mut self) -> impl Iterator<Item = (u16, Problem)> {
        self.list.iter_mut().flat_map(|text| {
            let source = text.source;
            std::mem::take(&mut text.retained.problems).into_iter().map(move |problem| (source, problem))
        })
    }

    /// Takes the next texts of a source, at most so many.
    pub(super) fn take(&mut self, source: u16, most: usize) -> io::Result<Vec<RetainedText>> {
        let mut some = Vec::new();
        while some.len() < most
            && let Some(KeptText { retained, on_disk, .. }) = self.list.pop_front_if(|text| text.source == source)
        {
            let text = match on_disk {
                Some((at, length)) => self.spill.get(at, length)?,
                None => retained.text,
            };
            some.push(RetainedText { text, ..retained });
        }
        Ok(some)
    }
}
