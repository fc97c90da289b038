//! What is kept of the entries of a segment besides its text.

use super::entry::RememberedEntry;
use crate::bytes::part;
use crate::disk::spill::{RECORD, SpillRecord};

/// What joining needs to know of a remembered entry.
#[derive(Debug, Clone, Copy)]
pub(crate) struct KnownEntry {
    pub(crate) key: u128,
    pub(crate) written: u64,
    /// By which its row is known unread; 0 where it is not.
    pub(crate) raw: u64,
    /// Its place among all that are remembered.
    pub(crate) at: u32,
    pub(crate) from_page: bool,
    pub(crate) provenance: u16,
}

impl SpillRecord for KnownEntry {
    fn key(&self) -> u128 {
        self.key
    }

    fn pack(&self) -> [u8; RECORD] {
        let mut bytes = [0; RECORD];
        bytes[..16].copy_from_slice(&self.key.to_le_bytes());
        bytes[16..24].copy_from_slice(&self.written.to_le_bytes());
        bytes[24..32].copy_from_slice(&self.raw.to_le_bytes());
        bytes[32..36].copy_from_slice(&self.at.to_le_bytes());
        bytes[36] = u8::from(self.from_page);
        bytes[37..39].copy_from_slice(&self.provenance.to_le_bytes());
        bytes
    }

    fn unpack(bytes: &[u8; RECORD]) -> Self {
        Self {
            key: u128::from_le_bytes(part(bytes, 0)),
            written: u64::from_le_bytes(part(bytes, 16)),
            raw: u64::from_le_bytes(part(bytes, 24)),
            at: u32::from_le_bytes(part(bytes, 32)),
            from_page: bytes[36] != 0,
            provenance: u16::from_le_bytes(part(bytes, 37)),
        }
    }
}

/// A segment as it is kept.
#[derive(Debug)]
pub struct Whole {
    pub(crate) entries: Vec<u8>,
    pub(crate) raws: Vec<u8>,
    /// Its compressed text; empty where it was asked for without.
    pub(crate) body: Vec<u8>,
}

impl Whole {
    /// What is kept of one of its entries: the bytes of its lane, and of that by which its row is known unread.
    pub(crate) fn entry(&self, at: u32) -> Option<(&[u8], [u8; 8])> {
        let entry = self.entries.as_chunks::<{ RememberedEntry::BYTES }>().0.get(at as usize)?;
        Some((entry, self.raws.as_chunks().0.get(at as usize).copied().unwrap_or_default()))
    }

    /// By what its rows are known unread, 8 bytes an entry.
    pub(crate) fn into_raws(mut self) -> Vec<u8> {
        self.raws.resize(self.entries.len() / RememberedEntry::BYTES * 8, 0);
        self.raws
    }
}

/// What is kept of the entries of a segment besides its text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackedEntries {
    /// A fixed number of bytes for each: see [`RememberedEntry`].
    pub entries: Vec<u8>,
    /// By what their rows are known unread, 8 bytes each; none where no row is.
    pub raws: Vec<u8>,
}
