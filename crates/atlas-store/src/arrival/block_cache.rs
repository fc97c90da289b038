//! The block cache: blocks that were read back from disk, as far as there is room for them.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::block::Block;

/// How many blocks may be read back at the same time.
const AT_A_TIME: usize = 16;

/// The blocks that were read back last.
#[derive(Debug)]
pub(super) struct BlockCache {
    most: usize,
    cached: Mutex<Cached>,
    /// Locked while a block is read back, so that no two threads read the same one.
    reading: [Mutex<()>; AT_A_TIME],
}

#[derive(Debug, Default)]
struct Cached {
    blocks: HashMap<u64, Arc<Block>>,
    /// In the order in which they were read.
    order: VecDeque<u64>,
    size: usize,
}

impl BlockCache {
    /// A cache for this many bytes.
    pub(super) fn new(most: usize) -> Self {
        Self { most, cached: Mutex::default(), reading: Default::default() }
    }

    /// How many bytes of blocks it keeps.
    pub(super) fn most(&self) -> usize {
        self.most
    }

    /// The block in this place on disk; `read` reads it back if it is not cached.
    pub(super) fn get(&self, at: u64, read: impl FnOnce() -> Arc<Block>) -> Arc<Block> {
        let known = || lock(&self.cached).blocks.get(&at).cloned();
        if let Some(block) = known() {
            return block;
        }
        let _alone = lock(&self.reading[(at % AT_A_TIME as u64) as usize]);
        if let Some(block) = known() {
            return block;
        }
        let block = read();
        lock(&self.cached).put(at, block.clone(), self.most);
        block
    }
}

impl Cached {
    fn put(&mut self, at: u64, block: Arc<Block>, most: usize) {
        self.size += block.size();
        self.blocks.insert(at, block);
        self.order.push_back(at);
        while self.size > most && self.order.len() > 1 {
            let first = self.order.pop_front().and_then(|first| self.blocks.remove(&first));
            self.size -= first.map_or(0, |block| block.size());
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use atlas_core::contribution::Contribution;
    use rayon::prelude::*;

    use super::*;
    use crate::arrival::log::tests::decider;

    fn block() -> Arc<Block> {
        let mut block = Block::new(&decider());
        block.push(&Contribution { url: "https://www.marrowvale.example/".into(), ..Contribution::default() });
        Arc::new(block)
    }

    #[test]
    fn cached_blocks_are_read_once_and_others_make_room() {
        let cache = BlockCache::new(block().size() * 4);
        let reads = AtomicUsize::new(0);
        let get = |at: u64| {
            cache.get(at, || {
                reads.fetch_add(1, Ordering::Relaxed);
                block()
            })
        };
        (0..400u64).into_par_iter().for_each(|nth| _ = get(nth % 4));
        assert_eq!(reads.load(Ordering::Relaxed), 4);
        (4..8).for_each(|at| _ = get(at));
        assert_eq!(lock(&cache.cached).blocks.len(), 4);
        get(0);
        assert_eq!(reads.load(Ordering::Relaxed), 9, "the first had to make room");
    }

    #[test]
    fn a_block_larger_than_the_cache_is_still_available() {
        let cache = BlockCache::new(1);
        assert_eq!(cache.get(0, block).len(), 1);
        assert_eq!(cache.get(1, block).len(), 1);
        assert_eq!(lock(&cache.cached).order.len(), 1);
    }
}
