//! The order in which visitors look for entries: by folder, the page of the folder first, then by name.

use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};

use foldhash::fast::FixedState;
use rayon::prelude::*;

use super::Line;

/// What stands between a page's own title and the name of its site.
const SIGNS: [&str; 5] = [" · ", " | ", " – ", " — ", " - "];

/// What is found by folder. There are many lines to ask for, and the folders are the site's own: a quick hash will do.
pub(super) type ByFolder<'a, T> = HashMap<&'a str, T, FixedState>;

/// A line in the list of its section.
#[derive(Debug, Clone, Copy)]
pub(super) struct Item<'a> {
    pub(super) line: &'a Line<'a>,
    /// It is the page of a folder, and shown first of what lies in it.
    pub(super) leads: bool,
    /// How many bytes at the end of its title are left out, because they name the site.
    tail: u32,
}

impl<'a> Item<'a> {
    /// What it is called: its title, less the name of the site, or else its path.
    pub(super) fn name(&self) -> &'a str {
        self.line.title.map_or(self.line.path, |title| &title[..title.len() - self.tail as usize])
    }

    /// The folder it is shown under: that in which it lies, or itself where it leads one.
    pub(super) fn folder(&self) -> &'a str {
        if self.leads { self.line.path } else { self.line.folder() }
    }
}

/// The folders of a site, by name.
#[derive(Debug, Default)]
pub(super) struct Folders<'a> {
    /// Each with its place in the order of names.
    places: ByFolder<'a, u32>,
    longest: usize,
}

impl<'a> Folders<'a> {
    /// The folders that lines lie in.
    fn of(lines: &[&'a Line<'a>]) -> Self {
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
        // Most paths are longer than any folder: they need not be looked for.
        if name.len() > self.longest { None } else { self.places.get(name).copied() }
    }

    /// Whether there is a folder of this name.
    pub(super) fn holds(&self, name: &str) -> bool {
        self.place(name).is_some()
    }

    /// Adds those of another part of the site. Their places no longer say anything.
    pub(super) fn join(&mut self, other: Self) {
        self.longest = self.longest.max(other.longest);
        self.places.extend(other.places);
    }
}

/// The place of a line among the others. Most of it fits into a few numbers, so that the lines themselves, which lie far apart,
/// are seldom looked at.
#[derive(Debug, Clone, Copy)]
struct Rank<'a> {
    /// The place of its folder among all.
    folder: u32,
    /// How its name begins.
    name: [u64; 4],
    item: Item<'a>,
}

impl Rank<'_> {
    fn order(&self, other: &Self) -> Ordering {
        let numbers = |rank: &Self| (rank.folder, !rank.item.leads, rank.name);
        numbers(self).cmp(&numbers(other)).then_with(|| {
            in_any_case(self.item.name(), other.item.name()).then_with(|| self.item.line.url.cmp(other.item.line.url))
        })
    }
}

/// The lines of a section in the order in which they are shown, and the folders that they lie in. The page of a folder leads what
/// lies in it, and what most titles end with after a sign, the name of the site or of the section, is left out of them.
pub(super) fn ranked<'a>(lines: &[&'a Line<'a>]) -> (Vec<Item<'a>>, Folders<'a>) {
    let (folders, site_name) = (Folders::of(lines), site_name(lines));
    let ranks = lines.par_iter().map(|line| {
        let leads = folders.holds(line.path);
        let tail = line.title.zip(site_name).map_or(0, |(title, name)| tail(title, name)) as u32;
        let item = Item { line, leads, tail };
        let folder = folders.place(item.folder()).unwrap_or_default();
        Rank { folder, name: beginning(item.name()), item }
    });
    let mut ranks: Vec<Rank<'a>> = ranks.collect();
    ranks.par_sort_unstable_by(Rank::order);
    (ranks.into_iter().map(|rank| rank.item).collect(), folders)
}

/// What most titles end with after a sign.
fn site_name<'a>(lines: &[&'a Line<'a>]) -> Option<&'a str> {
    let endings = lines.par_iter().filter_map(|line| Some(ending(line.title?)?.1));
    let counts = endings.fold(HashMap::<&str, usize>::new, |mut counts, ending| {
        *counts.entry(ending).or_default() += 1;
        counts
    });
    let counts = counts.reduce(HashMap::new, |mut counts, others| {
        others.into_iter().for_each(|(ending, count)| *counts.entry(ending).or_default() += count);
        counts
    });
    let (common, count) = counts.into_iter().max_by_key(|(ending, count)| (*count, *ending))?;
    (count >= 3 && count * 2 > lines.len()).then_some(common)
}

/// A title up to its last sign, and what follows that.
fn ending(title: &str) -> Option<(&str, &str)> {
    // Every sign begins with a space.
    let sign_at = |at: usize| SIGNS.iter().find(|sign| title[at..].starts_with(**sign));
    let (at, sign) = memchr::memrchr_iter(b' ', title.as_bytes()).find_map(|at| Some((at, sign_at(at)?)))?;
    Some((&title[..at], &title[at + sign.len()..]))
}

/// How many bytes at the end of a title name the site: none where nothing else would be left.
fn tail(title: &str, site_name: &str) -> usize {
    let own = ending(title).filter(|(_, end)| *end == site_name).map_or("", |(own, _)| own.trim_end());
    if own.is_empty() { 0 } else { title.len() - own.len() }
}

/// The first 32 bytes of a name in small letters, as numbers: in the order of [`in_any_case`].
fn beginning(name: &str) -> [u64; 4] {
    let mut bytes = [0; 32];
    let begun = &name.as_bytes()[..name.len().min(bytes.len())];
    if begun.is_ascii() {
        bytes[..begun.len()].copy_from_slice(begun);
        bytes.make_ascii_lowercase();
    } else {
        let letters = name.chars().take(bytes.len()).flat_map(char::to_lowercase).collect::<String>();
        let length = letters.len().min(bytes.len());
        bytes[..length].copy_from_slice(&letters.as_bytes()[..length]);
    }
    let (words, _) = bytes.as_chunks();
    std::array::from_fn(|at| u64::from_be_bytes(words[at]))
}

/// Compares names whatever the case of their letters.
fn in_any_case(one: &str, other: &str) -> Ordering {
    if one.is_ascii() && other.is_ascii() {
        return one
            .bytes()
            .map(|byte| byte.to_ascii_lowercase())
            .cmp(other.bytes().map(|byte| byte.to_ascii_lowercase()));
    }
    let letters = |name: &str| name.chars().flat_map(char::to_lowercase).collect::<String>();
    letters(one).cmp(&letters(other))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::super::tests::line;
    use super::*;

    proptest! {
        #[test]
        fn lines_stand_by_folder_then_by_name_in_any_case(
            names in proptest::collection::vec(("[ab]{0,2}", "[aAbZéÉΣß ]{0,40}"), 1..30),
        ) {
            let urls: Vec<String> = names.iter().enumerate()
                .map(|(at, (folder, _))| format!("https://www.marrowvale.example/{folder}/{at}/"))
                .collect();
            let lines: Vec<Line<'_>> =
                urls.iter().zip(&names).map(|(url, (_, name))| line(url, Some(name.trim()).filter(|name| !name.is_empty()))).collect();
            let items = ranked(&lines.iter().collect::<Vec<_>>()).0;
            let letters = |item: &Item<'_>| item.name().chars().flat_map(char::to_lowercase).collect::<String>();
            let mut wanted = items.clone();
            wanted.sort_by_key(|item| (item.folder(), !item.leads, letters(item), item.line.url));
            let urls = |items: &[Item<'_>]| items.iter().map(|item| item.line.url.to_owned()).collect::<Vec<_>>();
            prop_assert_eq!(urls(&items), urls(&wanted));
            prop_assert_eq!(items.len(), lines.len());
        }
    }

    #[rstest]
    #[case(&["Frost · Journal", "Thaw · Journal", "Rain · Journal", "Journal"], &["Frost", "Journal", "Rain", "Thaw"])]
    #[case(&["A – B | Railway", "C | Railway", "D | Railway"], &["A – B", "C", "D"])]
    #[case(&["Frost · Journal", "Thaw", "Rain", "Ice"], &["Frost · Journal", "Ice", "Rain", "Thaw"])]
    fn the_name_of_the_site_is_left_out_of_titles(#[case] titles: &[&str], #[case] wanted: &[&str]) {
        let lines: Vec<_> = titles.iter().map(|title| line("https://a.example/x", Some(title))).collect();
        let names: Vec<&str> = ranked(&lines.iter().collect::<Vec<_>>()).0.iter().map(Item::name).collect();
        assert_eq!(names, wanted);
    }
}
