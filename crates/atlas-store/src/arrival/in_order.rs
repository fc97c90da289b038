//! Reading many rows: in the order of arrival, so that each block on disk is read back once.

use rayon::prelude::*;

use super::block::Block;
use super::decider::RowSummary;
use super::keyed_row::RowId;
use super::log::Arrivals;

impl Arrivals {
    /// Reads rows in the order of arrival, whatever the order of `row_ids`, so that each block on disk is read back
    /// once. `look` gets the index into `row_ids` and the row; its results are in the order of `row_ids`.
    pub(crate) fn read_each<T: Send>(&self, row_ids: &[RowId], look: impl Fn(usize, &[u8]) -> T + Sync) -> Vec<T> {
        self.each_in_order(row_ids, |nth, block, row| look(nth, &block.row(row)))
    }

    /// The summaries of rows, read in the order of arrival and returned in the order of `row_ids`.
    pub(crate) fn summaries_of(&self, row_ids: &[RowId]) -> Vec<RowSummary> {
        self.each_in_order(row_ids, |_, block, row| block.summary(row))
    }

    fn each_in_order<T: Send>(&self, row_ids: &[RowId], look: impl Fn(usize, &Block, usize) -> T + Sync) -> Vec<T> {
        let mut order: Vec<usize> = (0..row_ids.len()).collect();
        order.par_sort_unstable_by_key(|nth| row_ids[*nth]);
        let block_of = |nth: usize| self.find(row_ids[nth]).0;
        let of_one_block: Vec<&[usize]> = order.chunk_by(|one, next| block_of(*one) == block_of(*next)).collect();
        let looked = of_one_block.par_iter().flat_map_iter(|some| {
            let block = self.block(block_of(some[0]));
            let look = &look;
            some.iter().map(move |nth| (*nth, look(*nth, &block, self.find(row_ids[*nth]).1)))
        });
        let mut looked: Vec<(usize, T)> = looked.collect();
        looked.par_sort_unstable_by_key(|(nth, _)| *nth);
        looked.into_iter().map(|(_, one)| one).collect()
    }
}
