//! Stored segments, and what is remembered of their entries.

use super::entry::RememberedEntry;
use crate::bytes::part;
use crate::disk::spill::{RECORD, SpillRecord};

/// What joining needs to know about a remembered entry.
#[derive(Debug, Clone, Copy)]
pub(crate) struct KnownEntry {
    pub(crate) key: u128,
    pub(crate) written: u64,
    /// The fingerprint by which its row is recognised unread, or 0.
    pub(crate) raw: u64,
    /// Its position among all remembered entries.
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

/// A stored segment.
#[derive(Debug)]
pub struct Whole {
    pub(crate) entries: Vec<u8>,
    pub(crate) raws: Vec<u8>,
    /// Its compressed text; empty if it was not requested.
    pub(crate) body: Vec<u8>,
}

impl Whole {
    /// What is remembered of one of its entries: its bytes, and the fingerprint by which its row is recognised unread.
    pub(crate) fn entry(&self, at: u32) -> Option<(&[u8], [u8; 8])> {
        let entry = self.entries.as_chunks::<{ RememberedEntry::BYTES }>().0.get(at as usize)?;
        Some((entry, self.raws.as_chunks().0.get(at as usize).copied().unwrap_or_default()))
    }

    /// The fingerprints by which its rows are recognised unread, 8 bytes each.
    pub(crate) fn into_raws(mut self) -> Vec<u8> {
        self.raws.resize(self.entries.len() / RememberedEntry::BYTES * 8, 0);
        self.raws
    }
}

/// What is remembered of the entries of a segment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackedEntries {
    /// A fixed number of bytes for each entry: see [`RememberedEntry`].
    pub entries: Vec<u8>,
    /// The fingerprints by which their rows are recognised unread, 8 bytes each; empty if there are none.
    pub raws: Vec<u8>,
}
