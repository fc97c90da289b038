//! The log itself: blocks in the order of arrival, in memory or on disk.

use std::borrow::Cow;
use std::io;
use std::ops::Range;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use super::block::Block;
use super::block_cache::BlockCache;
use super::block_store::BlockStore;
use super::decider::{Decider, RowFlag, RowSummary};
use super::incremental::chunks::Chunks;
use super::keyed_row::{KeyedRow, RowId};
use super::texts::Texts;
use crate::disk::spill::Partitions;
use crate::error::StoreError;
use crate::model::tag;

/// About how many bytes of rows a block should hold.
pub const BLOCK_BYTES: usize = 1 << 20;

/// The most rows of one build.
const MOST_ROWS: usize = 1 << 30;

/// If rows are read in another order than that of arrival, this is done in windows of at most this many rows.
const WINDOW: usize = 1 << 19;

/// Which rows a build needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Need {
    /// All rows, and they stay in memory.
    AllAtHand,
    /// All rows.
    All,
    /// Only rows that may have changed.
    Moved,
}

/// All rows of a build.
#[derive(Debug)]
pub struct Arrivals {
    pub(super) decider: Decider,
    blocks: BlockStore,
    /// Whether some row of each block may belong to a group of translations.
    speaking: Vec<bool>,
    /// The number of the first row of each block, and finally the number of all rows.
    firsts: Vec<u32>,
    /// The first block of each source.
    pub(super) sources: Vec<u32>,
    partitions: Partitions<KeyedRow>,
    /// The packed links of rows.
    links: Vec<(RowId, Vec<u8>)>,
    chunks: Chunks,
    /// The [`tag`]s of rows by which entries are compared with unchanged chunks: those of unread rows, and of rows that
    /// were read again.
    pub(super) named: Vec<u64>,
    /// The [`tag`]s of rows from sources that were asked for changes alone.
    pub(super) changed: Vec<u64>,
    /// Whether the current source was asked for changes alone.
    by_changes: bool,
    /// Rows of unchanged chunks that had to be read all the same, in order.
    pub(super) asked: Vec<RowId>,
    /// Rows that came several times in one block, and how often they came again.
    pub(super) repeats: Vec<(RowId, u32)>,
    let_go: Vec<u64>,
    /// The keys of files of the site that are not entries.
    pub(super) others: Vec<u128>,
    need: Need,
    memory: usize,
    /// The texts of all blocks, if they are retained.
    pub(super) texts: Option<Texts>,
    /// The blocks that were read back last.
    cache: BlockCache,
    /// The first failure, which is reported before anything is written.
    failure: Mutex<Option<io::Error>>,
}

impl Arrivals {
    /// An empty log. Blocks that do not fit into this much memory are written to `folder`.
    pub(crate) fn new(decider: Decider, folder: &Path, need: Need, memory: usize) -> Self {
        let budget = match need {
            Need::AllAtHand => usize::MAX,
            Need::All => memory,
            // Most unread rows will turn out to be unchanged and are not needed again.
            Need::Moved => memory / 4,
        };
        Self {
            blocks: BlockStore::new(decider.clone(), folder, budget),
            decider,
            speaking: Vec::new(),
            firsts: vec![0],
            sources: Vec::new(),
            partitions: Partitions::new(folder, memory),
            links: Vec::new(),
            chunks: Chunks::new(folder),
            named: Vec::new(),
            changed: Vec::new(),
            by_changes: false,
            asked: Vec::new(),
            repeats: Vec::new(),
            let_go: Vec::new(),
            others: Vec::new(),
            need,
            memory,
            texts: None,
            // Blocks that are read back are processed in windows, so they need less memory than gathering.
            cache: BlockCache::new(memory / 4),
            failure: Mutex::new(None),
        }
    }

    /// The same, but the texts of blocks are retained.
    pub(crate) fn retaining(self, folder: &Path, memory: usize) -> Self {
        Self { texts: Some(Texts::new(folder, memory / 2)), ..self }
    }

    /// Whether the texts of blocks are retained.
    pub(crate) fn retains(&self) -> bool {
        self.texts.is_some()
    }

    /// Begins the next source and returns its decider.
    pub(crate) fn begin_source(&mut self) -> Decider {
        self.by_changes = false;
        self.sources.push(self.blocks.len() as u32);
        self.decider.for_source(self.sources.len() - 1)
    }

    /// Begins the next source, which can be asked for changes alone, and whether it is, and returns its decider.
    pub(crate) fn begin_incremental(&mut self, by_changes: bool) -> Decider {
        let decider = self.begin_source();
        self.by_changes = by_changes;
        decider.without_chunks()
    }

    /// The decider.
    pub(crate) fn decider(&self) -> &Decider {
        &self.decider
    }

    /// Adds a block of a source.
    pub(crate) fn push(&mut self, mut block: Block) {
        let first = self.len() as u32;
        let noted = self.chunks.note(&mut block, RowId(first));
        self.note(noted);
        let source = self.sources.len().saturating_sub(1) as u16;
        if let (Some(text), Some(texts)) = (block.retained.take(), &mut self.texts) {
            let kept = texts.push(source, text);
            self.note(kept);
        }
        if block.is_empty() {
            return;
        }
        let named = if self.by_changes { &mut self.changed } else { &mut self.named };
        named.extend(block.unread_rows().iter().map(|row| tag(row.key)));
        if self.by_changes || (self.need == Need::Moved && self.decider.wants_chunks()) {
            named.extend(block.summaries().unwrap_or_default().iter().map(|summary| tag(summary.key())));
        }
        self.asked.extend(block.asked.drain(..).map(|row| RowId(first + row)));
        for (row, times) in block.forget_seen() {
            // Their entries are not those of one row alone, as if the others had been kept.
            self.chunks.doubt(RowId(first + row));
            self.repeats.push((RowId(first + row), times));
        }
        let summaries = block.summaries().unwrap_or_default().iter().zip(first..);
        let read = summaries.map(|(summary, at)| KeyedRow {
            key: summary.key(),
            print: summary.decided(),
            row_id: RowId(at),
            from_page: summary.has(RowFlag::FromPage),
            unread: false,
        });
        let unread_rows = block.unread_rows().iter().zip(first..);
        let unread = unread_rows.map(|(row, at)| KeyedRow {
            key: row.key,
            print: row.raw,
            row_id: RowId(at),
            from_page: false,
            unread: true,
        });
        let keyed = read.chain(unread).try_for_each(|keyed| self.partitions.push(keyed));
        self.note(keyed);
        self.push_unjoined(block);
    }

    /// Counts rows of the current source that were recognised and skipped.
    pub(crate) fn let_go(&mut self, rows: u64) {
        let source = self.sources.len().saturating_sub(1);
        self.let_go.resize(self.sources.len(), 0);
        if let Some(known) = self.let_go.get_mut(source) {
            *known += rows;
        }
    }

    /// The number of skipped rows by source.
    pub(crate) fn all_let_go(&self) -> &[u64] {
        &self.let_go
    }

    /// Adds a block of merged rows, which are not joined again.
    pub(crate) fn push_unjoined(&mut self, mut block: Block) {
        let first = self.len() as u32;
        if block.len() + self.len() > MOST_ROWS {
            return self.note(Err(io::Error::other("more than 1,073,741,824 rows in one build")));
        }
        self.links.extend(block.links.drain(..).map(|(row, links)| (RowId(first + row), links)));
        self.firsts.push(first + block.len() as u32);
        self.speaking.push(block.may_speak());
        let pushed = self.blocks.push(block);
        self.note(pushed);
    }

    fn note(&self, result: io::Result<()>) {
        if let Err(error) = result {
            self.failure.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
        }
    }

    /// Returns the first failure, if there was one. Whatever was read back since then may be wrong.
    pub(crate) fn check(&self, folder: &Path) -> Result<(), StoreError> {
        let failure = self.failure.lock().unwrap_or_else(PoisonError::into_inner).take();
        failure.map_or(Ok(()), |error| Err(StoreError::io("cannot write temporary data to", folder)(error)))
    }

    /// Whether every row has to be read.
    pub(crate) fn reads_all(&self) -> bool {
        self.need != Need::Moved
    }

    pub(crate) fn also_there(&mut self, key: u128) {
        self.others.push(key);
    }

    /// How many bytes of rows may be in memory.
    pub(crate) fn memory(&self) -> usize {
        self.memory
    }

    /// The folder of temporary data.
    pub(crate) fn folder(&self) -> &Path {
        self.blocks.folder()
    }

    /// Whether some blocks are on disk.
    pub(crate) fn is_on_disk(&self) -> bool {
        self.blocks.is_on_disk()
    }

    /// The number of blocks.
    pub(crate) fn blocks(&self) -> usize {
        self.blocks.len()
    }

    /// Removes the last blocks, down to this many: those of merged rows.
    pub(crate) fn truncate(&mut self, blocks: usize) {
        self.blocks.truncate(blocks);
        self.speaking.truncate(blocks);
        self.firsts.truncate(blocks + 1);
    }

    /// A block, from memory or disk.
    pub(crate) fn block(&self, at: usize) -> Arc<Block> {
        if let Some(block) = self.blocks.held(at) {
            return block.clone();
        }
        self.cache.get(self.blocks.place(at).unwrap_or_default(), || {
            self.blocks.get(at).unwrap_or_else(|error| {
                self.note(Err(error));
                let rows = (self.firsts[at + 1] - self.firsts[at]) as usize;
                Arc::new(Block::blank(&self.decider, rows))
            })
        })
    }

    /// All blocks in windows. The rows of one window can be read in any order, because its blocks fit into memory
    /// together.
    pub(crate) fn windows(&self) -> Vec<Range<usize>> {
        let mut windows: Vec<Range<usize>> = Vec::new();
        let (mut rows, mut bytes) = (0, 0);
        for at in 0..self.blocks() {
            let size = self.blocks.size(at);
            (rows, bytes) = (rows + (self.firsts[at + 1] - self.firsts[at]) as usize, bytes + size);
            match windows.last_mut() {
                Some(window) if rows <= WINDOW && bytes <= self.cache.most() => window.end = at + 1,
                _ => {
                    windows.push(at..at + 1);
                    (rows, bytes) = ((self.firsts[at + 1] - self.firsts[at]) as usize, size);
                }
            }
        }
        windows
    }

    /// The first row after each window.
    pub(crate) fn ends_of_windows(&self) -> Vec<RowId> {
        self.windows().into_iter().map(|window| self.first_of(window.end)).collect()
    }

    /// Whether some row of a block may belong to a group of translations.
    pub(crate) fn may_speak(&self, block: usize) -> bool {
        self.speaking[block]
    }

    /// The number of the first row of a block.
    pub(crate) fn first_of(&self, block: usize) -> RowId {
        RowId(self.firsts[block])
    }

    /// The block of a row, and its index there.
    pub(crate) fn find(&self, row_id: RowId) -> (usize, usize) {
        let block = self.firsts.partition_point(|first| *first <= row_id.0).saturating_sub(1);
        (block, (row_id.0 - self.firsts[block]) as usize)
    }

    /// The keys of files of the site that are not entries.
    pub(crate) fn others(&self) -> &[u128] {
        &self.others
    }

    /// The packed links of all rows that have any.
    pub(crate) fn links(&self) -> impl Iterator<Item = (RowId, &[u8])> {
        self.links.iter().map(|(row_id, links)| (*row_id, &links[..]))
    }

    /// The rows, partitioned by key.
    pub(crate) fn partitions(&self) -> &Partitions<KeyedRow> {
        &self.partitions
    }

    /// Frees what only joining needs.
    pub(crate) fn drop_partitions(&mut self, folder: &Path) {
        self.partitions = Partitions::new(folder, 0);
        self.named = Vec::new();
    }

    /// The summary of a row.
    pub(crate) fn summary(&self, row_id: RowId) -> RowSummary {
        let (block, row) = self.find(row_id);
        match self.blocks.held(block) {
            Some(block) => block.summary(row),
            None => self.block(block).summary(row),
        }
    }

    /// The bytes of a row.
    pub(crate) fn row(&self, row_id: RowId) -> Cow<'_, [u8]> {
        let (block, row) = self.find(row_id);
        match self.blocks.held(block) {
            Some(block) => block.row(row),
            None => Cow::Owned(self.block(block).row(row).into_owned()),
        }
    }

    /// The bytes of a row, if all rows are in memory; otherwise empty.
    pub(crate) fn held(&self, row_id: RowId) -> &[u8] {
        let (block, row) = self.find(row_id);
        match self.blocks.held(block).map(|block| block.row(row)) {
            Some(Cow::Borrowed(row)) => row,
            Some(Cow::Owned(_)) | None => &[],
        }
    }

    /// The number of rows.
    pub fn len(&self) -> usize {
        self.firsts.last().map_or(0, |all| *all as usize)
    }

    /// Whether there are no rows.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The index of the source of a row.
    pub(crate) fn source_of(&self, row_id: RowId) -> u16 {
        let (block, _) = self.find(row_id);
        self.sources.partition_point(|first| *first as usize <= block).saturating_sub(1) as u16
    }

    /// Passes on all summaries with their row ids, in order.
    pub(crate) fn each_summary(&self, mut take: impl FnMut(RowId, &RowSummary)) {
        for at in 0..self.blocks() {
            let block = self.block(at);
            (0..block.len()).zip(self.firsts[at]..).for_each(|(row, row_id)| take(RowId(row_id), &block.summary(row)));
        }
    }
}

impl Arrivals {
    /// The chunks of all sources.
    pub(crate) fn chunks(&self) -> &Chunks {
        &self.chunks
    }

    /// Marks rows that the next build has to read.
    pub(crate) fn doubt(&mut self, row_ids: &[RowId]) {
        row_ids.iter().for_each(|row_id| self.chunks.doubt(*row_id));
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use atlas_core::address::Site;
    use atlas_core::archive::Archives;
    use atlas_core::calendar::Calendar;
    use atlas_core::choose::{Chooser, Sections};
    use atlas_core::contribution::{Contribution, url_of};
    use atlas_core::output_policy::{OutputPolicy, SectionPolicy};
    use atlas_core::placement::OwnFiles;
    use atlas_core::robots::Robots;
    use rstest::rstest;

    use super::*;

    /// A decider for a site without settings.
    pub(crate) fn decider() -> Decider {
        let chooser = Chooser {
            site: Site::parse("https://www.marrowvale.example/").unwrap(),
            own_files: OwnFiles::default(),
            robots: Robots::default(),
            tokens: Vec::new(),
            rules: Vec::new(),
            sections: Sections::new(Vec::new(), []),
            archives: Archives::default(),
            calendar: Calendar::utc(0),
        };
        Decider::new(
            7,
            chooser,
            OutputPolicy { sections: Vec::new(), usual: SectionPolicy::default(), calendar: Calendar::utc(0) },
        )
    }

    fn url(nth: usize) -> String {
        format!("https://www.marrowvale.example/halts/{nth}/")
    }

    /// Ten blocks of ten rows, with this much memory.
    fn arrivals(folder: &Path, memory: usize) -> Arrivals {
        let mut arrivals = Arrivals::new(decider(), folder, Need::All, memory);
        let decider = arrivals.begin_source();
        for first in (0..100).step_by(10) {
            let mut block = Block::new(&decider);
            (first..first + 10)
                .for_each(|nth| block.push(&Contribution { url: url(nth).into(), ..Contribution::default() }));
            arrivals.push(block);
        }
        arrivals
    }

    #[rstest]
    #[case::all_in_memory(1 << 20, 1)]
    #[case::three_blocks_in_memory(3, 10)]
    #[case::less_than_a_block(0, 10)]
    fn rows_are_read_back_from_memory_and_disk(#[case] memory: usize, #[case] windows: usize) {
        let folder = tempfile::tempdir().unwrap();
        let size = arrivals(folder.path(), 1 << 20).block(0).size();
        let arrivals = arrivals(folder.path(), if memory < 100 { memory * size } else { memory });
        for nth in (0..100).rev() {
            assert_eq!(url_of(&arrivals.row(RowId(nth))), url(nth as usize));
        }
        // Requested in no order, some twice: each result is where it was requested.
        let row_ids: Vec<RowId> = (0..150).map(|nth| RowId(nth * 37 % 100)).collect();
        let read = arrivals.read_each(&row_ids, |nth, row| (nth, url_of(row).to_owned()));
        let wanted: Vec<(usize, String)> =
            row_ids.iter().enumerate().map(|(nth, row_id)| (nth, url(row_id.0 as usize))).collect();
        assert_eq!(read, wanted);
        arrivals.check(folder.path()).unwrap();
        assert_eq!(arrivals.windows().len(), windows);
    }

    #[test]
    fn a_window_is_as_large_as_its_memory_allows() {
        let folder = tempfile::tempdir().unwrap();
        let size = arrivals(folder.path(), 1 << 20).block(9).size();
        let arrivals = arrivals(folder.path(), 16 * size);
        let windows = arrivals.windows();
        assert_eq!(windows, [0..4, 4..8, 8..10]);
        assert_eq!(arrivals.ends_of_windows(), [RowId(40), RowId(80), RowId(100)]);
    }
}
