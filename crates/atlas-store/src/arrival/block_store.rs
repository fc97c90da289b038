//! The block store: blocks in memory and, beyond a budget, on disk.

use std::io;
use std::path::Path;
use std::sync::Arc;

use super::block::{Block, Unread};
use super::decider::Decider;
use crate::disk::spill::SpillFile;

/// A block, in memory or on disk.
#[derive(Debug)]
enum Stored {
    Held(Arc<Block>),
    Spilled { at: u64, length: usize, rows: usize, size: usize, reading: Option<Unread> },
}

/// Blocks by number.
#[derive(Debug)]
pub(crate) struct BlockStore {
    decider: Decider,
    blocks: Vec<Stored>,
    /// How many bytes of blocks may be in memory.
    budget: usize,
    held: usize,
    spills: bool,
    spill: SpillFile,
}

impl BlockStore {
    /// An empty store. Blocks that do not fit into this many bytes of memory are written to `folder`.
    pub(crate) fn new(decider: Decider, folder: &Path, budget: usize) -> Self {
        Self { decider, blocks: Vec::new(), budget, held: 0, spills: false, spill: SpillFile::new(folder) }
    }

    /// Adds a block; its number is the number of blocks before it.
    pub(crate) fn push(&mut self, block: Block) -> io::Result<()> {
        self.held += block.size();
        self.blocks.push(Stored::Held(Arc::new(block)));
        self.spills |= self.held > self.budget;
        if self.spills { self.spill() } else { Ok(()) }
    }

    fn spill(&mut self) -> io::Result<()> {
        for stored in self.blocks.iter_mut().rev() {
            let Stored::Held(block) = stored else { break };
            let ((bytes, reading), rows, size) = (block.pack(), block.len(), block.size());
            self.held -= size;
            *stored = Stored::Spilled { at: self.spill.put(&bytes)?, length: bytes.len(), rows, size, reading };
        }
        Ok(())
    }

    /// A block that is in memory.
    pub(crate) fn held(&self, number: usize) -> Option<&Arc<Block>> {
        match &self.blocks[number] {
            Stored::Held(block) => Some(block),
            Stored::Spilled { .. } => None,
        }
    }

    /// Where a block is on disk, if it is. No two blocks are ever in the same place.
    pub(super) fn place(&self, number: usize) -> Option<u64> {
        match &self.blocks[number] {
            Stored::Held(_) => None,
            Stored::Spilled { at, .. } => Some(*at),
        }
    }

    /// A block, from memory or disk.
    pub(crate) fn get(&self, number: usize) -> io::Result<Arc<Block>> {
        match &self.blocks[number] {
            Stored::Held(block) => Ok(block.clone()),
            Stored::Spilled { at, length, rows, reading, .. } => {
                let bytes = self.spill.get(*at, *length)?;
                Ok(Arc::new(Block::unpack(&self.decider, bytes, *rows, reading.clone())))
            }
        }
    }

    /// About how much memory a block uses once it is read, in bytes.
    pub(super) fn size(&self, number: usize) -> usize {
        match &self.blocks[number] {
            Stored::Held(block) => block.size(),
            Stored::Spilled { size, .. } => *size,
        }
    }

    /// The number of blocks.
    pub(crate) fn len(&self) -> usize {
        self.blocks.len()
    }

    /// Removes the last blocks, down to this many.
    pub(super) fn truncate(&mut self, blocks: usize) {
        let held = self.blocks.drain(blocks.min(self.blocks.len())..).map(|stored| match stored {
            Stored::Held(block) => block.size(),
            Stored::Spilled { .. } => 0,
        });
        self.held -= held.sum::<usize>();
    }

    /// Whether some blocks are, or were, on disk.
    pub(super) fn is_on_disk(&self) -> bool {
        self.spills
    }

    /// The folder of temporary data.
    pub(crate) fn folder(&self) -> &Path {
        self.spill.folder()
    }
}
