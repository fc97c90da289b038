//! The arrival log: the rows of all sources, as compact bytes in blocks, in a fixed order.
//!
//! Sources fill blocks in parallel and hand them over in their own order, so the log is the same for the same input. Each
//! row has a mark with its key and fingerprint: that is all that most steps look at.

use atlas_core::contribution::{Row, Said, url_of};
use atlas_core::fingerprint;

/// About how many bytes of rows a block should hold.
pub const BLOCK_BYTES: usize = 1 << 20;

/// Where a row is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    block: u32,
    row: u32,
}

/// What is known of a row without reading it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Mark {
    pub(crate) key: u128,
    pub(crate) said: u64,
    start: u32,
}

/// Rows of one source.
#[derive(Debug, Clone)]
pub struct Block {
    seed: u64,
    bytes: Vec<u8>,
    marks: Vec<Mark>,
    /// Links of some rows, packed.
    links: Vec<(u32, Vec<u8>)>,
}

impl Block {
    /// An empty block; `seed` is the ledger's.
    pub fn new(seed: u64) -> Self {
        Self { seed, bytes: Vec::new(), marks: Vec::new(), links: Vec::new() }
    }

    /// An empty block with room for about so many bytes of rows.
    pub fn with_room(seed: u64, bytes: usize) -> Self {
        Self { seed, bytes: Vec::with_capacity(bytes), marks: Vec::with_capacity(bytes / 100), links: Vec::new() }
    }

    /// Adds a row.
    pub fn push(&mut self, said: &Said<'_>) {
        let start = self.bytes.len();
        Row::write(&mut self.bytes, said);
        self.mark(start);
    }

    /// Adds a row that is written field by field: `write` gets the row with its URL in it.
    pub fn push_row(&mut self, url: &str, write: impl FnOnce(&mut Row<'_>)) {
        let start = self.bytes.len();
        write(&mut Row::begin(&mut self.bytes, url));
        self.mark(start);
    }

    /// Adds a row that was written before.
    pub fn push_bytes(&mut self, row: &[u8]) {
        let start = self.bytes.len();
        self.bytes.extend_from_slice(row);
        self.mark(start);
    }

    /// Adds the links of the row that was added last, packed by [`atlas_core::links`].
    pub fn push_links(&mut self, links: Vec<u8>) {
        if !links.is_empty() && !self.marks.is_empty() {
            self.links.push((self.marks.len() as u32 - 1, links));
        }
    }

    fn mark(&mut self, start: usize) {
        let row = &self.bytes[start..];
        let mark =
            Mark { key: fingerprint::key(self.seed, url_of(row)), said: fingerprint::row(row), start: start as u32 };
        self.marks.push(mark);
    }

    /// The number of rows.
    pub fn len(&self) -> usize {
        self.marks.len()
    }

    /// Whether there is no row.
    pub fn is_empty(&self) -> bool {
        self.marks.is_empty()
    }

    fn row(&self, row: u32) -> &[u8] {
        let row = row as usize;
        let end = self.marks.get(row + 1).map_or(self.bytes.len(), |next| next.start as usize);
        &self.bytes[self.marks[row].start as usize..end]
    }
}

/// All rows of a build.
#[derive(Debug, Default)]
pub struct Arrivals {
    blocks: Vec<Block>,
    /// The first block of each source.
    sources: Vec<u32>,
    /// Keys of files of the site that are no entries.
    others: Vec<u128>,
}

impl Place {
    pub(crate) fn block(self) -> usize {
        self.block as usize
    }

    pub(crate) fn row(self) -> usize {
        self.row as usize
    }
}

impl Arrivals {
    pub(crate) fn begin_source(&mut self) {
        self.sources.push(self.blocks.len() as u32);
    }

    /// Adds a block.
    pub(crate) fn push(&mut self, block: Block) {
        self.blocks.push(block);
    }

    pub(crate) fn also_there(&mut self, key: u128) {
        self.others.push(key);
    }

    /// The number of blocks.
    pub(crate) fn blocks(&self) -> usize {
        self.blocks.len()
    }

    /// Takes the last blocks away again, down to so many.
    pub(crate) fn truncate(&mut self, blocks: usize) {
        self.blocks.truncate(blocks);
    }

    /// Keys of files of the site that are no entries.
    pub(crate) fn others(&self) -> &[u128] {
        &self.others
    }

    /// The packed links of all rows that have any.
    pub(crate) fn links(&self) -> impl Iterator<Item = (Place, &[u8])> {
        self.blocks.iter().enumerate().flat_map(|(block, rows)| {
            rows.links.iter().map(move |(row, links)| (Self::place(block as u32, *row as usize), &links[..]))
        })
    }

    /// The number of rows in each block.
    pub(crate) fn block_lengths(&self) -> impl Iterator<Item = usize> {
        self.blocks.iter().map(Block::len)
    }

    pub(crate) fn mark(&self, place: Place) -> Mark {
        self.blocks[place.block()].marks[place.row()]
    }

    pub(crate) fn place(block: u32, row: usize) -> Place {
        Place { block, row: row as u32 }
    }

    /// The bytes of a row.
    pub fn row(&self, place: Place) -> &[u8] {
        self.blocks[place.block as usize].row(place.row)
    }

    /// The number of rows.
    pub fn len(&self) -> usize {
        self.blocks.iter().map(Block::len).sum()
    }

    /// Whether nothing arrived.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The source that a row came from: its place in the configuration.
    pub(crate) fn source_of(&self, place: Place) -> usize {
        self.sources.partition_point(|first| *first <= place.block).saturating_sub(1)
    }

    /// All marks with their places, in order.
    pub(crate) fn marks(&self) -> impl Iterator<Item = (Place, Mark)> + '_ {
        self.blocks.iter().enumerate().flat_map(|(block, rows)| {
            rows.marks.iter().enumerate().map(move |(row, mark)| (Self::place(block as u32, row), *mark))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_come_back_with_their_source() {
        let mut arrivals = Arrivals::default();
        for source in 0..2 {
            arrivals.begin_source();
            for block in 0..2 {
                let mut rows = Block::new(7);
                for row in 0..3 {
                    let url = format!("https://www.marrowvale.example/{source}/{block}/{row}");
                    rows.push_row(&url, |row| {
                        row.title("Lamp");
                    });
                }
                arrivals.push(rows);
            }
        }
        assert_eq!(arrivals.len(), 12);
        for (place, mark) in arrivals.marks() {
            let said = Said::read(arrivals.row(place));
            assert_eq!(said.url.split('/').nth(3).unwrap(), arrivals.source_of(place).to_string());
            assert_eq!(mark.key, fingerprint::key(7, &said.url));
            assert_eq!(said.title.as_deref(), Some("Lamp"));
        }
    }
}
