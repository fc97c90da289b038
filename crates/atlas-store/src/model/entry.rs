//! Remembered entries: a fixed number of bytes each.

use crate::bytes::part;
use crate::error::StoreError;

/// No day: its content was never seen to change.
pub const NEVER: i32 = i32::MIN;

/// The number of an unknown provenance: for entries that were recalled, and those in files of pictures, videos or news.
pub(crate) const UNKNOWN: u16 = 0;

/// The group of an entry without translations.
pub(crate) const NO_GROUP: u32 = u32::MAX;

/// The half of a key by which an entry is recognised among the rows of a chunk.
pub(crate) fn tag(key: u128) -> u64 {
    (key >> 64) as u64
}

/// What the ledger remembers of one entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RememberedEntry {
    /// [`key`](atlas_core::fingerprint::key) of its address.
    pub key: u128,
    /// [`written`](atlas_core::fingerprint::written).
    pub written: u64,
    /// [`Prints::page`](atlas_core::fingerprint::Prints::page).
    pub page: u64,
    /// [`Prints::declared`](atlas_core::fingerprint::Prints::declared); for a recalled entry,
    /// [`written_date`](atlas_core::fingerprint::written_date).
    pub declared: u32,
    /// The day, counted from 1970-01-01, on which its content was last seen to change, or [`NEVER`].
    pub observed: i32,
    /// The run in which it last changed. Engines that were told up to that run know of it.
    pub changed: u32,
    /// Whether its page was read, by the current version of the page reader.
    pub from_page: bool,
    /// Whether engines are told nothing of it, because the user wants it so.
    pub untold: bool,
    /// Whether its text changed when it last changed, as far as its page was read; otherwise something else did.
    pub text_changed: bool,
    /// The number of its provenance: the mapping under which its fingerprints were taken.
    pub provenance: u16,
}

impl RememberedEntry {
    /// The size of one entry in bytes.
    pub const BYTES: usize = 47;

    /// An entry of which only the sitemap is known, not what its page said.
    pub(crate) fn recalled(key: u128) -> Self {
        Self {
            key,
            written: 0,
            page: 0,
            declared: 0,
            observed: NEVER,
            changed: 1,
            from_page: false,
            untold: false,
            text_changed: false,
            provenance: UNKNOWN,
        }
    }

    /// Whether only its sitemap is known.
    pub(crate) fn is_recalled(&self) -> bool {
        self.written == 0 && self.page == 0
    }

    /// Appends the entry as bytes.
    pub fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.key.to_le_bytes());
        out.extend_from_slice(&self.written.to_le_bytes());
        out.extend_from_slice(&self.page.to_le_bytes());
        out.extend_from_slice(&self.declared.to_le_bytes());
        out.extend_from_slice(&self.observed.to_le_bytes());
        out.extend_from_slice(&self.changed.to_le_bytes());
        out.push(u8::from(self.from_page) | u8::from(self.untold) << 1 | u8::from(self.text_changed) << 2);
        out.extend_from_slice(&self.provenance.to_le_bytes());
    }

    fn read(bytes: &[u8; Self::BYTES]) -> Self {
        Self {
            key: u128::from_le_bytes(part(bytes, 0)),
            written: u64::from_le_bytes(part(bytes, 16)),
            page: u64::from_le_bytes(part(bytes, 24)),
            declared: u32::from_le_bytes(part(bytes, 32)),
            observed: i32::from_le_bytes(part(bytes, 36)),
            changed: u32::from_le_bytes(part(bytes, 40)),
            from_page: bytes[44] & 1 != 0,
            untold: bytes[44] & 2 != 0,
            text_changed: bytes[44] & 4 != 0,
            provenance: u16::from_le_bytes(part(bytes, 45)),
        }
    }
}

/// Reads entries; fails if their number is not the recorded one.
pub(crate) fn from_bytes(bytes: &[u8], count: usize) -> Result<impl Iterator<Item = RememberedEntry>, StoreError> {
    let (entries, rest) = bytes.as_chunks::<{ RememberedEntry::BYTES }>();
    if entries.len() != count || !rest.is_empty() {
        return Err(StoreError::LedgerDamaged("remembered entries have the wrong length"));
    }
    Ok(entries.iter().map(RememberedEntry::read))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packed_entries_round_trip() {
        let entry = RememberedEntry {
            key: u128::MAX / 3,
            written: 1,
            page: 2,
            declared: 3,
            observed: NEVER,
            changed: 4,
            from_page: true,
            untold: true,
            text_changed: true,
            provenance: 300,
        };
        let other = RememberedEntry { observed: 20_000, from_page: false, ..entry };
        let mut bytes = Vec::new();
        [entry, other].iter().for_each(|entry| entry.write(&mut bytes));
        assert_eq!(from_bytes(&bytes, 2).unwrap().collect::<Vec<_>>(), [entry, other]);
        assert!(from_bytes(&bytes[1..], 2).is_err());
        assert!(from_bytes(&bytes, 3).is_err());
    }
}
