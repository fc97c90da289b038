//! Which entries were met before, and in which file: eight bytes for each of millions of entries.

use std::collections::HashSet;
use std::hash::{Hash, Hasher};

/// The bits of an entry that hold the number of its file.
const FILE_BITS: u32 = 16;
/// Entries are kept in so many parts, so that growing one takes little memory.
const PARTS: usize = 64;

/// A hash of a URL and the number of its file. Two are equal if their hashes are.
#[derive(Debug, Clone, Copy)]
struct MetEntry(u64);

impl MetEntry {
    fn hash_bits(self) -> u64 {
        self.0 >> FILE_BITS
    }
}

impl PartialEq for MetEntry {
    fn eq(&self, other: &Self) -> bool {
        self.hash_bits() == other.hash_bits()
    }
}

impl Eq for MetEntry {}

impl Hash for MetEntry {
    fn hash<H: Hasher>(&self, hasher: &mut H) {
        hasher.write_u64(self.hash_bits());
    }
}

/// The entries that were met.
#[derive(Debug)]
pub(super) struct MetBefore(Vec<HashSet<MetEntry, foldhash::fast::FixedState>>);

impl MetBefore {
    /// None so far.
    pub(super) fn new() -> Self {
        Self(vec![HashSet::default(); PARTS])
    }

    /// Takes the hash of an entry in a file. Returns the file in which it was met first, if it was met before.
    pub(super) fn meet(&mut self, hash: u64, file: u32) -> Option<u32> {
        let (part, entry) = Self::place(hash, file);
        let part = &mut self.0[part];
        if let Some(before) = part.get(&entry) {
            return Some((before.0 & ((1 << FILE_BITS) - 1)) as u32);
        }
        part.insert(entry);
        None
    }

    /// Whether an entry was met.
    pub(super) fn has(&self, hash: u64) -> bool {
        let (part, entry) = Self::place(hash, 0);
        self.0[part].contains(&entry)
    }

    /// The lowest bits of the hash choose the part, the highest ones tell entries apart.
    fn place(hash: u64, file: u32) -> (usize, MetEntry) {
        let file = u64::from(file) & ((1 << FILE_BITS) - 1);
        (hash as usize % PARTS, MetEntry(hash >> FILE_BITS << FILE_BITS | file))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_file_is_remembered() {
        let mut met = MetBefore::new();
        assert_eq!([met.meet(7 << 40, 3), met.meet(7 << 40, 9), met.meet(8 << 40, 9)], [None, Some(3), None]);
        assert!(met.has(8 << 40) && !met.has(9 << 40));
    }
}
