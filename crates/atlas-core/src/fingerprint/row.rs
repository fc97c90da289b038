//! Fingerprints of addresses and rows.

use crate::contribution::Contribution;
use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed, xxh3_128_with_seed};

/// The address of an entry as 128 bits. The seed belongs to the ledger, so that nobody can prepare collisions.
pub fn key(seed: u64, address: &str) -> u128 {
    xxh3_128_with_seed(address.as_bytes(), seed)
}

/// Some bytes.
pub fn row(bytes: &[u8]) -> u64 {
    xxh3_64(bytes)
}

/// One contribution, whose row is `row`; lists whose order means nothing count as sets. The fingerprints of the rows of
/// one entry are summed, so that their order does not matter.
pub fn contribution(contribution: &Contribution<'_>, row: &[u8]) -> u64 {
    if contribution.has_sorted_sets() {
        return xxh3_64(row);
    }
    let (mut sorted, mut bytes) = (contribution.clone(), Vec::with_capacity(row.len()));
    sorted.sort_sets();
    sorted.write(&mut bytes);
    xxh3_64(&bytes)
}

/// One row as it came, before it was read. `reading` is a fingerprint of how it is read.
pub fn raw(bytes: &[u8], reading: u64) -> u64 {
    xxh3_64_with_seed(bytes, reading)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_order_of_pictures_and_tags_does_not_count() {
        let print = |images: [&'static str; 2], tags: [&'static str; 2]| {
            let said = Contribution {
                images: images.map(Into::into).into(),
                tags: tags.map(Into::into).into(),
                ..Contribution::default()
            };
            let mut row = Vec::new();
            said.write(&mut row);
            contribution(&said, &row)
        };
        let plain = print(["/a.svg", "/b.svg"], ["frost", "weir"]);
        assert_eq!(print(["/b.svg", "/a.svg"], ["weir", "frost"]), plain);
        assert_ne!(print(["/b.svg", "/c.svg"], ["weir", "frost"]), plain);
    }

    #[test]
    fn keys_depend_on_the_seed() {
        assert_ne!(key(1, "https://www.marrowvale.example/"), key(2, "https://www.marrowvale.example/"));
    }
}
