//! Records of a fixed size, taken apart.

/// So many bytes from a place on; the record is known to be long enough.
#[inline]
pub(crate) fn part<const N: usize>(bytes: &[u8], at: usize) -> [u8; N] {
    bytes.get(at..).and_then(|rest| rest.first_chunk()).copied().unwrap_or([0; N])
}
