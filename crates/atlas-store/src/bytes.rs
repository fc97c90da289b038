//! Reading fields of fixed-size records.

/// The halves of a key. Records that hold these instead of a `u128` need less room.
pub(crate) fn halves(key: u128) -> [u64; 2] {
    [key as u64, (key >> 64) as u64]
}

/// The key with these halves.
#[inline]
pub(crate) fn key_of(halves: [u64; 2]) -> u128 {
    u128::from(halves[1]) << 64 | u128::from(halves[0])
}

/// The bytes from an offset on. The record is known to be long enough.
#[inline]
pub(crate) fn part<const N: usize>(bytes: &[u8], at: usize) -> [u8; N] {
    bytes.get(at..).and_then(|rest| rest.first_chunk()).copied().unwrap_or([0; N])
}
