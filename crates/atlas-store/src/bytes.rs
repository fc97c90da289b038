//! Records of a fixed size, taken apart.

/// So many bytes from a place on; the record is known to be long enough.
pub(crate) fn part<const N: usize>(bytes: &[u8], at: usize) -> [u8; N] {
    std::array::from_fn(|byte| bytes[at + byte])
}
