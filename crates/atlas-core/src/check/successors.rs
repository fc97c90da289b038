//! Proposing a successor for a URL that is gone, by the words in the paths and titles.

use std::collections::{BTreeSet, HashMap};

use crate::address;

/// A word that so many pages share says nothing.
const MOST_PAGES: usize = 2_000;
/// Less alike than this, no page is proposed.
const LEAST: f64 = 0.3;
/// How many successors are proposed.
const MOST_PROPOSED: usize = 3;
/// How much a word counts that no page has. A word of one page counts 0.9.
const UNKNOWN_WORD: f64 = 0.2;
/// How much an equal last part of the path counts, of 1.
const SAME_NAME: f64 = 0.5;

/// A page that may be a successor, or needs one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Titled {
    /// Its URL.
    pub url: String,
    /// Its title, if it is known.
    pub title: Option<String>,
}

/// A proposed successor, and how alike it is, from 0 to 1.
#[derive(Debug, Clone, PartialEq)]
pub struct Successor {
    /// Its URL.
    pub url: String,
    /// The likeness.
    pub likeness: f64,
}

/// The pages that may be successors, by their words.
#[derive(Debug)]
pub struct Successors {
    pages: Vec<(String, BTreeSet<String>, String)>,
    by_word: HashMap<String, Vec<u32>>,
}

impl Successors {
    /// Pages that are there now.
    pub fn new(pages: impl IntoIterator<Item = Titled>) -> Self {
        let mut all = Self { pages: Vec::new(), by_word: HashMap::new() };
        for page in pages {
            let words = words(&page);
            for word in &words {
                all.by_word.entry(word.clone()).or_default().push(all.pages.len() as u32);
            }
            let name = name(&page.url);
            all.pages.push((page.url, words, name));
        }
        all
    }

    /// The most likely successors of a page, the best first.
    pub fn of(&self, gone: &Titled) -> Vec<Successor> {
        let wanted = words(gone);
        let name = name(&gone.url);
        let weigh = |word: &String| match self.by_word.get(word) {
            Some(pages) => 1.0 / (1.0 + pages.len() as f64).ln_1p(),
            // A word that no page has tells little about which one is meant.
            None => UNKNOWN_WORD,
        };
        let own: f64 = wanted.iter().map(weigh).sum();
        let mut shared: HashMap<u32, f64> = HashMap::new();
        for word in &wanted {
            for &page in self.by_word.get(word).into_iter().filter(|pages| pages.len() <= MOST_PAGES).flatten() {
                *shared.entry(page).or_default() += weigh(word);
            }
        }
        let mut found: Vec<Successor> = shared
            .into_iter()
            .map(|(page, shared)| {
                let (url, words, its_name) = &self.pages[page as usize];
                let theirs: f64 = words.iter().map(weigh).sum();
                let words = shared / (own + theirs - shared).max(f64::MIN_POSITIVE);
                let same_name = !name.is_empty() && *its_name == name;
                let likeness = if same_name { SAME_NAME + (1.0 - SAME_NAME) * words } else { words };
                Successor { url: url.clone(), likeness }
            })
            .filter(|one| one.likeness >= LEAST && one.url != gone.url)
            .collect();
        found.sort_by(|one, other| other.likeness.total_cmp(&one.likeness).then_with(|| one.url.cmp(&other.url)));
        found.truncate(MOST_PROPOSED);
        found
    }
}

/// The last part of a path, without an ending.
fn name(url: &str) -> String {
    let path = address::path(url).split(['?', '#']).next().unwrap_or_default();
    let path = path.trim_end_matches("index.html").trim_end_matches('/');
    let last = path.rsplit('/').next().unwrap_or_default();
    last.split('.').next().unwrap_or_default().to_lowercase()
}

/// The words of a path and a title.
fn words(page: &Titled) -> BTreeSet<String> {
    let path = percent_encoding::percent_decode_str(address::path(&page.url)).decode_utf8_lossy().into_owned();
    let title = page.title.as_deref().unwrap_or_default();
    let split = |text: &str| {
        let words = text.split(|letter: char| !letter.is_alphanumeric()).map(str::to_lowercase);
        words.filter(|word| word.chars().count() > 1 && !is_noise(word)).collect::<Vec<_>>()
    };
    split(&path).into_iter().chain(split(title)).collect()
}

fn is_noise(word: &str) -> bool {
    matches!(word, "html" | "htm" | "php" | "index" | "the" | "and" | "of" | "in" | "to" | "at" | "on" | "for")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn page(path: &str, title: Option<&str>) -> Titled {
        Titled { url: format!("https://www.marrowvale.example{path}"), title: title.map(str::to_owned) }
    }

    #[rstest]
    #[case::moved("/old/frost-on-the-cutting.html", None, Some("/journal/frost-on-the-cutting/"))]
    #[case::by_title("/?p=71", Some("Frost on the cutting"), Some("/journal/frost-on-the-cutting/"))]
    #[case::by_both("/news/2024/cab-ride-films", None, Some("/films/cab-ride/"))]
    #[case::with_a_year("/old/cab-ride-2024/", None, Some("/films/cab-ride/"))]
    #[case::nothing("/lamp-oil/", None, None)]
    fn the_likeliest_page_is_proposed(#[case] path: &str, #[case] title: Option<&str>, #[case] wanted: Option<&str>) {
        let pages = [
            page("/", Some("Marrow Vale")),
            page("/journal/frost-on-the-cutting/", Some("Frost on the cutting")),
            page("/journal/frost-fair/", Some("The frost fair")),
            page("/films/cab-ride/", None),
        ];
        let found = Successors::new(pages).of(&page(path, title));
        let best = found.first().map(|best| address::path(&best.url));
        assert_eq!(best, wanted, "{found:?}");
    }
}
