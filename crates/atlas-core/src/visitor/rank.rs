//! The order in which visitors look for entries: newest first, or by folder and name, sorted as people sort names.

use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};

use foldhash::fast::FixedState;
use rayon::prelude::*;
use unicode_normalization::char::{decompose_canonical, is_combining_mark};

use super::VisitorLine;
use crate::titles;

/// A map by folder. It has many lookups, and the folders are the site's own, so a quick hash will do.
pub(super) type ByFolder<'a, T> = HashMap<&'a str, T, FixedState>;

/// The order of the lines of a section.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum SectionOrder {
    /// By folder, starting with the page of the folder, then by name.
    Folder,
    /// By name only.
    Name,
    /// Newest first.
    Newest,
}

impl SectionOrder {
    /// The order that fits these lines: newest first if most of them have a publication date; else by folder if all of
    /// them fit on one page, else by name.
    pub(super) fn of(lines: &[&VisitorLine<'_>], on_one_page: bool) -> Self {
        let dated = lines.par_iter().filter(|line| line.published.is_some()).count();
        match (dated * 2 > lines.len(), on_one_page) {
            (true, _) => Self::Newest,
            (false, true) => Self::Folder,
            (false, false) => Self::Name,
        }
    }
}

/// A line in the list of its section.
#[derive(Debug, Clone, Copy)]
pub(super) struct SectionLine<'a> {
    pub(super) line: &'a VisitorLine<'a>,
    /// Whether it is the page of a folder, which comes first in its folder.
    pub(super) leads: bool,
    /// The number of bytes at the end of its title that are omitted, because they name the site.
    tail: u32,
    /// The year and month of its publication, if they matter.
    pub(super) month: Option<(i16, i8)>,
}

impl<'a> SectionLine<'a> {
    /// Its name: the title without the site's name, else the path.
    pub(super) fn name(&self) -> &'a str {
        self.line.title.map_or(self.line.path, |title| &title[..title.len() - self.tail as usize])
    }

    /// The folder under which it is shown: the folder that contains it, or its own if it is a folder's page.
    pub(super) fn folder(&self) -> &'a str {
        if self.leads { self.line.path } else { self.line.folder() }
    }
}

/// The folders of a site, by name.
#[derive(Debug, Default)]
pub(super) struct Folders<'a> {
    /// The rank of each folder in the order of names.
    places: ByFolder<'a, u32>,
    longest: usize,
}

impl<'a> Folders<'a> {
    /// The folders that contain the lines.
    fn of(lines: &[&'a VisitorLine<'a>]) -> Self {
        let folders = lines.par_iter().map(|line| line.folder());
        let sets = folders.fold(HashSet::<&str, FixedState>::default, |mut set, folder| {
            set.insert(folder);
            set
        });
        let mut names: Vec<&str> = sets.collect::<Vec<_>>().into_iter().flatten().collect();
        names.sort_unstable();
        names.dedup();
        let longest = names.iter().map(|name| name.len()).max().unwrap_or(0);
        Self { places: names.into_iter().zip(0..).collect(), longest }
    }

    fn place(&self, name: &str) -> Option<u32> {
        // Most paths are longer than any folder, so they need not be looked up.
        if name.len() > self.longest { None } else { self.places.get(name).copied() }
    }

    /// Whether there is a folder with this name.
    pub(super) fn holds(&self, name: &str) -> bool {
        self.place(name).is_some()
    }

    /// Adds the folders of another part of the site. Their ranks are no longer valid.
    pub(super) fn join(&mut self, other: Self) {
        self.longest = self.longest.max(other.longest);
        self.places.extend(other.places);
    }
}

/// The sort key of a line. Most of it fits into a few numbers, so that the lines themselves, which are far apart in
/// memory, are rarely read.
#[derive(Debug, Clone, Copy)]
struct Rank<'a> {
    /// The rank of its folder, its age, or 0.
    first: i64,
    /// Pages that list others come after what they list.
    is_list: bool,
    /// The beginning of its name.
    name: [u64; 4],
    item: SectionLine<'a>,
}

impl Rank<'_> {
    fn order(&self, other: &Self) -> Ordering {
        let numbers = |rank: &Self| (rank.first, !rank.item.leads, rank.is_list, rank.name);
        numbers(self).cmp(&numbers(other)).then_with(|| {
            by_name(self.item.name(), other.item.name()).then_with(|| self.item.line.url.cmp(other.item.line.url))
        })
    }
}

/// The lines of a section in the order in which they are shown, and the folders that contain them. The ending that most
/// titles have after a separator, the name of the site or section, is omitted.
pub(super) fn ranked<'a>(lines: &[&'a VisitorLine<'a>], order: SectionOrder) -> (Vec<SectionLine<'a>>, Folders<'a>) {
    let titles = lines.par_iter().filter_map(|line| line.title);
    let (folders, name) = (Folders::of(lines), titles::common_ending(titles, lines.len()));
    let ranks = lines.par_iter().map(|line| {
        let tail = line.title.map_or(0, |title| title.len() - titles::without(title, name).len()) as u32;
        let leads = order == SectionOrder::Folder && folders.holds(line.path);
        let published = line.published.filter(|_| order == SectionOrder::Newest && !line.is_list);
        let item = SectionLine { line, leads, tail, month: published.map(|date| date.month()) };
        let first = match order {
            SectionOrder::Folder => i64::from(folders.place(item.folder()).unwrap_or_default()),
            SectionOrder::Name => 0,
            SectionOrder::Newest => published.map_or(i64::MAX, |date| -date.seconds()),
        };
        Rank { first, is_list: line.is_list, name: beginning(item.name()), item }
    });
    let mut ranks: Vec<Rank<'a>> = ranks.collect();
    ranks.par_sort_unstable_by(Rank::order);
    (ranks.into_iter().map(|rank| rank.item).collect(), folders)
}

/// A name as people sort it: ignoring case and accents, and with numbers by value.
fn key(name: &str, most: usize) -> Vec<u8> {
    let mut key = Vec::with_capacity(most.min(name.len()) + 8);
    let mut letters = name.chars().peekable();
    while key.len() < most {
        let Some(letter) = letters.next() else { break };
        if letter.is_ascii_digit() {
            let mut digits = vec![letter as u8];
            while let Some(digit) = letters.next_if(char::is_ascii_digit) {
                digits.push(digit as u8);
            }
            let counts = &digits[digits.iter().take_while(|digit| **digit == b'0').count().min(digits.len() - 1)..];
            // The number of digits matters more than the first digit.
            key.push(b'0' + counts.len().min(9) as u8);
            key.extend_from_slice(counts);
        } else if letter.is_ascii() {
            key.push(letter.to_ascii_lowercase() as u8);
        } else {
            decompose_canonical(letter, |part| {
                if !is_combining_mark(part) {
                    let small = part.to_lowercase();
                    small.for_each(|small| key.extend_from_slice(small.encode_utf8(&mut [0; 4]).as_bytes()));
                }
            });
        }
    }
    key
}

/// Whether a name is its own key except for the case of its letters, which most are.
fn is_plain(name: &[u8]) -> bool {
    name.iter().all(|byte| byte.is_ascii() && !byte.is_ascii_digit())
}

/// The first 32 bytes of a name's key, as numbers that compare like [`by_name`].
fn beginning(name: &str) -> [u64; 4] {
    let mut bytes = [0; 32];
    let begun = &name.as_bytes()[..name.len().min(bytes.len())];
    if is_plain(begun) {
        bytes[..begun.len()].copy_from_slice(begun);
        bytes.make_ascii_lowercase();
    } else {
        let key = key(name, bytes.len());
        let length = key.len().min(bytes.len());
        bytes[..length].copy_from_slice(&key[..length]);
    }
    let (words, _) = bytes.as_chunks();
    std::array::from_fn(|at| u64::from_be_bytes(words[at]))
}

/// Compares names as people sort them. If two differ only in accents, the one without comes first.
fn by_name(one: &str, other: &str) -> Ordering {
    if is_plain(one.as_bytes()) && is_plain(other.as_bytes()) {
        let [one, other] = [one, other].map(|name| name.bytes().map(|byte| byte.to_ascii_lowercase()));
        return one.cmp(other);
    }
    key(one, usize::MAX).cmp(&key(other, usize::MAX)).then_with(|| one.to_lowercase().cmp(&other.to_lowercase()))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::super::tests::line;
    use super::*;
    use crate::lastmod::Lastmod;

    fn names(lines: &[VisitorLine<'_>], order: SectionOrder) -> Vec<String> {
        let items = ranked(&lines.iter().collect::<Vec<_>>(), order).0;
        items.iter().map(|item| item.name().to_owned()).collect()
    }

    proptest! {
        #[test]
        fn numbers_sort_by_value(one in 0u64..1_000_000, other in 0u64..1_000_000, zeros in 0usize..4) {
            let name = |number: u64| format!("Halt {}{number} of many", "0".repeat(zeros));
            let padded = by_name(&name(one), &format!("Halt {other} of many"));
            prop_assert!(padded == one.cmp(&other) || one == other);
        }

        #[test]
        fn prefixes_sort_like_whole_names(one in "[aAbÉé 019]{0,50}", other in "[aAbÉé 019]{0,50}") {
            let begun = beginning(&one).cmp(&beginning(&other));
            prop_assert!(begun == Ordering::Equal || begun == by_name(&one, &other), "{one} {other}");
            prop_assert_eq!(by_name(&one, &other), by_name(&other, &one).reverse());
        }

        #[test]
        fn lines_are_sorted_by_folder_then_name(
            names in proptest::collection::vec(("[ab]{0,2}", "[aAbZéÉΣß 01]{0,40}"), 1..30),
        ) {
            let urls: Vec<String> = names.iter().enumerate()
                .map(|(at, (folder, _))| format!("https://www.marrowvale.example/{folder}/{at}/"))
                .collect();
            let lines: Vec<VisitorLine<'_>> =
                urls.iter().zip(&names).map(|(url, (_, name))| line(url, Some(name.trim()).filter(|name| !name.is_empty()))).collect();
            let items = ranked(&lines.iter().collect::<Vec<_>>(), SectionOrder::Folder).0;
            let mut wanted = items.clone();
            wanted.sort_by(|one, other| {
                let place = |item: &SectionLine<'_>| (item.folder().to_owned(), !item.leads);
                place(one).cmp(&place(other))
                    .then_with(|| by_name(one.name(), other.name()))
                    .then_with(|| one.line.url.cmp(other.line.url))
            });
            let urls = |items: &[SectionLine<'_>]| items.iter().map(|item| item.line.url.to_owned()).collect::<Vec<_>>();
            prop_assert_eq!(urls(&items), urls(&wanted));
            prop_assert_eq!(items.len(), lines.len());
        }
    }

    #[rstest]
    #[case::numbers(&["Halt 10", "Halt 2", "Halt 002a", "Halt"], &["Halt", "Halt 2", "Halt 002a", "Halt 10"])]
    #[case::accents(&["Zest", "Élan", "elan", "Ember", "Éclat"], &["Éclat", "elan", "Élan", "Ember", "Zest"])]
    #[case::case(&["weir", "Ash", "Weir", "ash"], &["Ash", "ash", "weir", "Weir"])]
    fn names_sort_naturally(#[case] titles: &[&str], #[case] wanted: &[&str]) {
        let urls: Vec<String> = (0..titles.len()).map(|at| format!("https://a.example/{at}")).collect();
        let lines: Vec<VisitorLine<'_>> = titles.iter().zip(&urls).map(|(title, url)| line(url, Some(title))).collect();
        let found = names(&lines, SectionOrder::Name);
        assert_eq!(found.len(), wanted.len());
        assert!(found.iter().zip(wanted).all(|(one, other)| key(one, 99) == key(other, 99)), "{found:?}");
    }

    #[test]
    fn the_newest_come_first_and_lists_last() {
        let of = |url: &'static str, day: Option<i32>, is_list: bool| VisitorLine {
            published: day.and_then(Lastmod::from_epoch_day),
            is_list,
            ..line(url, None)
        };
        let lines = [
            of("https://a.example/tag/ice/", Some(20_500), true),
            of("https://a.example/old/", Some(20_000), false),
            of("https://a.example/about/", None, false),
            of("https://a.example/new/", Some(20_400), false),
        ];
        assert_eq!(SectionOrder::of(&lines.iter().collect::<Vec<_>>(), true), SectionOrder::Newest);
        assert_eq!(names(&lines, SectionOrder::Newest), ["/new/", "/old/", "/about/", "/tag/ice/"]);
        let items = ranked(&lines.iter().collect::<Vec<_>>(), SectionOrder::Newest).0;
        assert_eq!(
            items.iter().map(|item| item.month).collect::<Vec<_>>(),
            [Some((2025, 11)), Some((2024, 10)), None, None]
        );
    }

    #[rstest]
    #[case(&["Frost · Journal", "Thaw · Journal", "Rain · Journal", "Journal"], &["Frost", "Journal", "Rain", "Thaw"])]
    #[case(&["Frost · Journal", "Thaw", "Rain", "Ice"], &["Frost · Journal", "Ice", "Rain", "Thaw"])]
    fn the_name_of_the_site_is_left_out_of_titles(#[case] titles: &[&str], #[case] wanted: &[&str]) {
        let lines: Vec<_> = titles.iter().map(|title| line("https://a.example/x", Some(title))).collect();
        assert_eq!(names(&lines, SectionOrder::Name), wanted);
    }
}
