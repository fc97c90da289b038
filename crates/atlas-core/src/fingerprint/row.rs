//! Fingerprints of addresses and rows.

use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed, xxh3_128_with_seed};

/// The address of an entry as 128 bits. The seed belongs to the ledger, so that nobody can prepare collisions.
pub fn key(seed: u64, address: &str) -> u128 {
    xxh3_128_with_seed(address.as_bytes(), seed)
}

/// One contribution, byte for byte. The fingerprints of the rows of one entry are summed, so that their order does not
/// matter.
pub fn row(bytes: &[u8]) -> u64 {
    xxh3_64(bytes)
}

/// One row as it came, before it was read. `reading` is a fingerprint of how it is read.
pub fn raw(bytes: &[u8], reading: u64) -> u64 {
    xxh3_64_with_seed(bytes, reading)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_depend_on_the_seed() {
        assert_ne!(key(1, "https://www.marrowvale.example/"), key(2, "https://www.marrowvale.example/"));
    }
}
