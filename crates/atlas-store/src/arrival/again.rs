//! Reading rows after all: those that were skipped or not read are in the texts that were retained.

use std::path::Path;

use atlas_core::report::Problem;
use rayon::prelude::*;

use super::asked::AskedRows;
use super::block::Block;
use super::keyed_row::RowId;
use super::log::{Arrivals, Need};
use crate::error::StoreError;

/// How many blocks are read before they are passed on.
const BLOCKS_AT_A_TIME: usize = 16;

/// What is wrong with rows, each with the index of its source.
pub(crate) type ProblemsBySource = Vec<(u16, Problem)>;

impl Arrivals {
    /// The [`tag`](crate::model::tag)s of the rows that were read or came unread.
    pub(crate) fn named(&self) -> &[u64] {
        &self.named
    }

    /// The [`tag`](crate::model::tag)s of the rows of sources that were asked for changes alone.
    pub(crate) fn changed(&self) -> &[u64] {
        &self.changed
    }

    /// Rows of unchanged chunks that had to be read all the same, in order.
    pub(crate) fn asked(&self) -> &[RowId] {
        &self.asked
    }

    /// Rows that came several times in one block, and how often they came again.
    pub(crate) fn repeats(&self) -> &[(RowId, u32)] {
        &self.repeats
    }

    /// Gives up the texts of blocks. Returns what is wrong with the rows that were read of them, by source.
    pub(crate) fn give_up_texts(&mut self) -> ProblemsBySource {
        self.texts.take().map_or_else(Vec::new, |mut texts| texts.take_problems().collect())
    }

    /// Reads the texts of blocks again: all rows, or with `asked` those and the rows that may have changed. Returns what
    /// is wrong with them, by source; `None` if the texts were not retained.
    pub(crate) fn read_again(
        &mut self,
        asked: Option<&AskedRows>,
        folder: &Path,
        need: Need,
        memory: usize,
    ) -> Result<Option<ProblemsBySource>, StoreError> {
        self.check(folder)?;
        let Some(mut texts) = self.texts.take() else { return Ok(None) };
        let sources = self.sources.len() as u16;
        let read = Self::new(self.decider.clone(), folder, need, memory);
        let others = std::mem::replace(self, read).others;
        let (read, mut problems) = (self, Vec::new());
        for source in 0..sources {
            let decider = read.begin_source();
            loop {
                let some = texts.take(source, BLOCKS_AT_A_TIME);
                let some = some.map_err(StoreError::io("cannot read temporary data in", folder))?;
                if some.is_empty() {
                    break;
                }
                let full = some.into_par_iter().map(|text| text.reader.clone().read_again(&decider, text, asked));
                for (block, found) in full.collect::<Vec<(Block, Vec<Problem>)>>() {
                    read.let_go(block.let_go());
                    read.push(block);
                    problems.extend(found.into_iter().map(|problem| (source, problem)));
                }
            }
        }
        read.check(folder)?;
        read.others = others;
        Ok(Some(problems))
    }
}
