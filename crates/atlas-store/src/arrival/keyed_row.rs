//! Keyed rows: the fixed-size records by which rows are joined on their keys.

use crate::bytes::part;
use crate::disk::spill::{RECORD, SpillRecord};

/// The number of a row, in the order of arrival.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct RowId(pub(crate) u32);

/// A row with its key, for joining.
#[derive(Debug, Clone, Copy)]
pub(crate) struct KeyedRow {
    pub(crate) key: u128,
    /// [`RowSummary::decided`](super::decider::RowSummary::decided), or the raw fingerprint of an unread row.
    pub(crate) print: u64,
    pub(crate) row_id: RowId,
    pub(crate) from_page: bool,
    pub(crate) unread: bool,
}

impl SpillRecord for KeyedRow {
    fn key(&self) -> u128 {
        self.key
    }

    fn pack(&self) -> [u8; RECORD] {
        let mut bytes = [0; RECORD];
        bytes[..16].copy_from_slice(&self.key.to_le_bytes());
        bytes[16..24].copy_from_slice(&self.print.to_le_bytes());
        bytes[24..28].copy_from_slice(&self.row_id.0.to_le_bytes());
        bytes[28] = u8::from(self.from_page) | u8::from(self.unread) << 1;
        bytes
    }

    fn unpack(bytes: &[u8; RECORD]) -> Self {
        Self {
            key: u128::from_le_bytes(part(bytes, 0)),
            print: u64::from_le_bytes(part(bytes, 16)),
            row_id: RowId(u32::from_le_bytes(part(bytes, 24))),
            from_page: bytes[28] & 1 != 0,
            unread: bytes[28] & 2 != 0,
        }
    }
}
