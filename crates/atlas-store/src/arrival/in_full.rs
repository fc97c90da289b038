//! Reading all rows after all: those that were skipped or not read are in the texts that were retained.

use std::path::Path;

use atlas_core::report::Problem;
use rayon::prelude::*;

use super::block::Block;
use super::log::{Arrivals, Need};
use crate::error::StoreError;

/// How many blocks are read in full before they are passed on.
const BLOCKS_AT_A_TIME: usize = 16;

/// What is wrong with rows, each with the index of its source.
pub(crate) type ProblemsBySource = Vec<(u16, Problem)>;

impl Arrivals {
    /// Gives up the texts of blocks. Returns what is wrong with the rows that were read of them, by source.
    pub(crate) fn give_up_texts(&mut self) -> ProblemsBySource {
        self.texts.take().map_or_else(Vec::new, |mut texts| texts.take_problems().collect())
    }

    /// The same arrivals with all rows read, and what is wrong with them, by source; `None` if the texts of blocks were
    /// not retained.
    pub(crate) fn read_in_full(
        self,
        folder: &Path,
        need: Need,
        memory: usize,
    ) -> Result<Option<(Self, ProblemsBySource)>, StoreError> {
        self.check(folder)?;
        let Self { decider, sources, texts: Some(mut texts), others, .. } = self else { return Ok(None) };
        let mut read = Self::new(decider, folder, need, memory);
        let mut problems = Vec::new();
        for source in 0..sources.len() as u16 {
            let decider = read.begin_source();
            loop {
                let some = texts.take(source, BLOCKS_AT_A_TIME);
                let some = some.map_err(StoreError::io("cannot read temporary data in", folder))?;
                if some.is_empty() {
                    break;
                }
                let full = some.into_par_iter().map(|text| text.reader.clone().read_all(&decider, text));
                for (block, found) in full.collect::<Vec<(Block, Vec<Problem>)>>() {
                    read.push(block);
                    problems.extend(found.into_iter().map(|problem| (source, problem)));
                }
            }
        }
        read.check(folder)?;
        read.others = others;
        Ok(Some((read, problems)))
    }
}
