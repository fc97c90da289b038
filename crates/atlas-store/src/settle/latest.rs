//! The newest articles of each section with news. If none of them is news any more, the news file keeps its address and
//! lists these as ordinary entries.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use super::Candidate;

/// How many articles the news file lists if none is news.
pub(crate) const MOST: usize = 10;

/// The newest articles by section, newest first.
#[derive(Debug, Default)]
pub(crate) struct Latest(BTreeMap<u16, Vec<Candidate>>);

impl Latest {
    /// Adds an article if it is among the newest.
    pub(crate) fn add(&mut self, article: Candidate) {
        let articles = self.0.entry(article.section).or_default();
        let order = |one: &Candidate| (Reverse(one.age), one.named);
        let at = articles.partition_point(|known| order(known) <= order(&article));
        if at < MOST {
            articles.insert(at, article);
            articles.truncate(MOST);
        }
    }

    pub(crate) fn join(&mut self, other: Self) {
        other.0.into_values().flatten().for_each(|article| self.add(article));
    }

    /// The newest articles of a section.
    pub(crate) fn take(&mut self, section: u16) -> Vec<Candidate> {
        self.0.remove(&section).unwrap_or_default()
    }
}
