//! The links of a page in packed form. Questions about the whole site (which pages have no links to them, which links
//! are dead) need them, so they are kept from run to run.
//!
//! Links are sorted, and each is written as the length of the prefix that it shares with the one before, and the rest.
//! The links of one page share most of their letters and take about 12 bytes each.

use crate::varint;

/// Packs addresses, sorted and without duplicates.
///
/// ```
/// use atlas_core::links::{each, pack};
///
/// let packed = pack(vec!["https://www.marrowvale.example/halts/", "https://www.marrowvale.example/"]);
/// let mut links = Vec::new();
/// each(&packed, |link| links.push(link.to_owned()));
/// assert_eq!(links, ["https://www.marrowvale.example/", "https://www.marrowvale.example/halts/"]);
/// ```
pub fn pack(mut links: Vec<&str>) -> Vec<u8> {
    links.sort_unstable();
    links.dedup();
    let mut packed = Vec::new();
    let mut last: &[u8] = b"";
    for link in links {
        let link = link.as_bytes();
        let shared = last.iter().zip(link).take_while(|(one, other)| one == other).count();
        varint::push(&mut packed, shared);
        varint::push(&mut packed, link.len() - shared);
        packed.extend_from_slice(&link[shared..]);
        last = link;
    }
    packed
}

/// Passes each packed address to the caller, in order. Stops at bytes that [`pack`] did not write.
pub fn each(mut packed: &[u8], mut take: impl FnMut(&str)) {
    let mut link: Vec<u8> = Vec::new();
    while let Some((shared, rest)) = varint::read(packed)
        && let Some((length, rest)) = varint::read(rest)
        && let Some((suffix, rest)) = rest.split_at_checked(length)
        && shared <= link.len()
    {
        link.truncate(shared);
        link.extend_from_slice(suffix);
        let Ok(text) = std::str::from_utf8(&link) else { return };
        take(text);
        packed = rest;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn links_are_sorted_and_unique(links in proptest::collection::vec("/[aŵ/]{0,200}", 0..30)) {
            let packed = pack(links.iter().map(String::as_str).collect());
            let mut back = Vec::new();
            each(&packed, |link| back.push(link.to_owned()));
            let wanted: std::collections::BTreeSet<String> = links.into_iter().collect();
            prop_assert_eq!(back, wanted.into_iter().collect::<Vec<_>>());
        }

        #[test]
        fn any_bytes_can_be_read(bytes in proptest::collection::vec(any::<u8>(), 0..100)) {
            each(&bytes, |_| ());
        }
    }
}
