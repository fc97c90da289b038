//! Lists of translations in little memory: as bytes, without the root of the site.

use std::borrow::Cow;

use atlas_core::language::Alternate;

/// A flag in the length of a URL: the site's root comes before it.
const BELOW_ROOT: u32 = 1 << 31;

/// Lists of translations, by number.
#[derive(Debug, Default)]
pub(super) struct PackedLists {
    root: String,
    /// Pieces of whole lists, so that no large one has to grow.
    pieces: Vec<Box<[u8]>>,
    bytes: Vec<u8>,
    /// The piece of each list, and where the list ends in it.
    ends: Vec<(u32, u32)>,
}

impl PackedLists {
    /// No lists yet; most URLs in them will begin with this root.
    pub(super) fn new(root: &str) -> Self {
        Self { root: root.to_owned(), ..Self::default() }
    }

    /// Adds a list.
    pub(super) fn push(&mut self, list: &[Alternate<'_>]) {
        for Alternate { language, url } in list {
            let (rest, flag) = match url.strip_prefix(&self.root) {
                Some(rest) if !self.root.is_empty() => (rest, BELOW_ROOT),
                _ => (url.as_ref(), 0),
            };
            self.bytes.extend_from_slice(&(rest.len() as u32 | flag).to_le_bytes());
            self.bytes.extend_from_slice(&(language.len() as u32).to_le_bytes());
            self.bytes.extend_from_slice(rest.as_bytes());
            self.bytes.extend_from_slice(language.as_bytes());
        }
        self.ends.push((self.pieces.len() as u32, self.bytes.len() as u32));
    }

    /// Ends a piece.
    pub(super) fn end_piece(&mut self) {
        self.pieces.push(self.bytes.as_slice().into());
        self.bytes.clear();
    }

    /// A list; empty if there is none with this number.
    pub(super) fn get(&self, number: u32) -> Vec<Alternate<'_>> {
        let Some((piece, end)) = self.ends.get(number as usize) else { return Vec::new() };
        let before = (number as usize).checked_sub(1).map(|before| self.ends[before]);
        let begin = before.filter(|(before, _)| before == piece).map_or(0, |(_, end)| end);
        let bytes = self.pieces.get(*piece as usize).map_or(&self.bytes[..], |piece| piece);
        let mut rest = &bytes[begin as usize..*end as usize];
        let mut list = Vec::new();
        while let Some((alternate, after)) = self.first(rest) {
            list.push(alternate);
            rest = after;
        }
        list
    }

    fn first<'b>(&'b self, bytes: &'b [u8]) -> Option<(Alternate<'b>, &'b [u8])> {
        let (url, rest) = bytes.split_first_chunk()?;
        let (language, rest) = rest.split_first_chunk()?;
        let (url, language) = (u32::from_le_bytes(*url), u32::from_le_bytes(*language));
        let (path, rest) = rest.split_at_checked((url & !BELOW_ROOT) as usize)?;
        let (language, rest) = rest.split_at_checked(language as usize)?;
        let path = String::from_utf8_lossy(path);
        let url = if url & BELOW_ROOT == 0 { path } else { Cow::Owned(format!("{}{path}", self.root)) };
        Some((Alternate { language: String::from_utf8_lossy(language), url }, rest))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn lists_come_back(lists in proptest::collection::vec(proptest::collection::vec(("[a-z-]{2,8}", "(/|https://a.example/|https://b.example/)[a-zé/]{0,30}"), 0..4), 0..20)) {
            let list = |pairs: &[(String, String)]| -> Vec<Alternate<'static>> {
                pairs.iter().map(|(language, url)| Alternate { language: language.clone().into(), url: url.clone().into() }).collect()
            };
            let mut packed = PackedLists::new("https://a.example/");
            for (number, pairs) in lists.iter().enumerate() {
                packed.push(&list(pairs));
                if number % 3 == 0 {
                    packed.end_piece();
                }
            }
            for (number, pairs) in lists.iter().enumerate() {
                prop_assert_eq!(packed.get(number as u32), list(pairs));
            }
            prop_assert!(packed.get(lists.len() as u32).is_empty());
        }
    }
}
