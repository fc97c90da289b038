//! Reading fields of fixed-size records.

/// The bytes from an offset on. The record is known to be long enough.
#[inline]
pub(crate) fn part<const N: usize>(bytes: &[u8], at: usize) -> [u8; N] {
    bytes.get(at..).and_then(|rest| rest.first_chunk()).copied().unwrap_or([0; N])
}
