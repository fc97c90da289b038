//! Translations: whether each page that is named as one names the other in return, across files of any size.

use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet};

use xxhash_rust::xxh3::xxh3_64;

/// Of so many links that wait for their answer, the addresses are remembered; of more, only the place.
const MOST_REMEMBERED: usize = 200_000;

/// A link from a page to its translation that has not been answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct TranslationLink {
    /// The line of the page, and the number of its file.
    pub(super) line: u64,
    pub(super) file: u32,
    /// Whether the page is the lesser of both addresses.
    lesser: bool,
    /// The page and its translation.
    pub(super) addresses: Option<Box<(String, String)>>,
    /// The hash of the translation's address.
    pub(super) target: u64,
}

/// The links between pages, by a hash of both addresses.
#[derive(Debug, Default)]
pub(super) struct Unreturned {
    /// Those that wait for their answer.
    waiting: HashMap<u64, TranslationLink>,
    /// Those that were answered. A page may be listed again, among the news for example.
    answered: HashSet<u64>,
}

impl Unreturned {
    /// Takes a link. One that answers another takes it away.
    pub(super) fn link(&mut self, page: &str, translation: &str, line: u64) {
        let lesser = page < translation;
        let (one, other) = if lesser { (page, translation) } else { (translation, page) };
        let key = xxh3_64(one.as_bytes()) ^ xxh3_64(other.as_bytes()).rotate_left(32);
        let target = xxh3_64(translation.as_bytes());
        let addresses =
            (self.waiting.len() < MOST_REMEMBERED).then(|| Box::new((page.to_owned(), translation.to_owned())));
        self.add(key, TranslationLink { line, file: 0, lesser, addresses, target });
    }

    fn add(&mut self, key: u64, link: TranslationLink) {
        if self.answered.contains(&key) {
            return;
        }
        match self.waiting.entry(key) {
            Entry::Occupied(waiting) if waiting.get().lesser != link.lesser => {
                waiting.remove();
                self.answered.insert(key);
            }
            Entry::Occupied(_) => {}
            Entry::Vacant(place) => drop(place.insert(link)),
        }
    }

    /// Takes the links that are left of a file.
    pub(super) fn append(&mut self, others: Self, file: u32) {
        for key in others.answered {
            self.waiting.remove(&key);
            self.answered.insert(key);
        }
        for (key, mut link) in others.waiting {
            link.file = file;
            if self.waiting.len() >= MOST_REMEMBERED {
                link.addresses = None;
            }
            self.add(key, link);
        }
    }

    /// The links that nobody answered, by file and line.
    pub(super) fn left(self) -> Vec<TranslationLink> {
        let mut left: Vec<TranslationLink> = self.waiting.into_values().collect();
        left.sort_by(|one, other| {
            (one.file, one.line, &one.addresses).cmp(&(other.file, other.line, &other.addresses))
        });
        left
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answered_links_are_forgotten() {
        let mut english = Unreturned::default();
        english.link("/fares/", "/cy/prisiau/", 3);
        english.link("/halts/", "/cy/gorsafoedd/", 4);
        let mut welsh = Unreturned::default();
        welsh.link("/cy/prisiau/", "/fares/", 8);
        let mut all = Unreturned::default();
        all.append(english, 0);
        all.append(welsh, 1);
        let mut again = Unreturned::default();
        again.link("/cy/prisiau/", "/fares/", 2);
        all.append(again, 2);
        let left = all.left();
        assert_eq!(left.len(), 1);
        assert_eq!((left[0].file, left[0].line), (0, 4));
        assert_eq!(left[0].target, xxh3_64(b"/cy/gorsafoedd/"));
    }
}
