//! The crawlers that came, and which of them count.

use std::collections::HashMap;
use std::sync::{PoisonError, RwLock};

use atlas_core::uptake::log::Prefixes;
use serde::{Deserialize, Serialize};

/// How many crawlers are told apart. Those that come later are counted together.
pub(super) const MOST_CRAWLERS: usize = 64;
/// The name of all others together.
const OTHERS: &str = "others";

/// A crawler that matters to the user.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CrawlerSettings {
    /// Its product token, in lower case.
    pub token: String,
    /// The addresses that it comes from, if they are known.
    pub prefixes: Option<Prefixes>,
}

/// Who came.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub(super) struct CrawlerName {
    /// Its product token.
    pub token: String,
    /// Whether it came from an address of its engine; `None` if these are not known.
    pub verified: Option<bool>,
}

/// All crawlers that came, in the order in which they were met.
#[derive(Debug, Default)]
pub(super) struct Crawlers {
    settings: Vec<CrawlerSettings>,
    known: RwLock<KnownCrawlers>,
}

#[derive(Debug, Default)]
struct KnownCrawlers {
    names: Vec<CrawlerName>,
    numbers: HashMap<CrawlerName, usize>,
}

impl Crawlers {
    /// With those that matter, and those that came before.
    pub(super) fn new(settings: &[CrawlerSettings], before: Vec<CrawlerName>) -> Self {
        let crawlers = Self { settings: settings.to_vec(), known: RwLock::default() };
        // Those that are named are told apart, whoever else comes.
        let named = settings.iter().flat_map(|one| {
            let verified: &[Option<bool>] = if one.prefixes.is_some() { &[Some(true), Some(false)] } else { &[None] };
            verified.iter().map(|verified| CrawlerName { token: one.token.clone(), verified: *verified })
        });
        for name in before.into_iter().chain(named) {
            crawlers.number(name);
        }
        crawlers
    }

    /// The prefixes of the crawler with this token.
    pub(super) fn prefixes(&self, token: &str) -> Option<&Prefixes> {
        self.settings.iter().find(|one| one.token == token)?.prefixes.as_ref()
    }

    /// The number of a crawler.
    pub(super) fn number(&self, name: CrawlerName) -> usize {
        if let Some(number) = self.known.read().unwrap_or_else(PoisonError::into_inner).numbers.get(&name) {
            return *number;
        }
        let mut known = self.known.write().unwrap_or_else(PoisonError::into_inner);
        let KnownCrawlers { names, numbers } = &mut *known;
        if let Some(number) = numbers.get(&name) {
            return *number;
        }
        let name = match names.len() {
            0..MOST_CRAWLERS => name,
            _ => CrawlerName { token: OTHERS.to_owned(), verified: None },
        };
        *numbers.entry(name.clone()).or_insert_with(|| {
            names.push(name);
            names.len() - 1
        })
    }

    /// Whether the visits of a crawler count as those of an engine: it is one of those that matter, if any are named, and
    /// nothing shows that it is an impostor.
    pub(super) fn counts(&self, name: &CrawlerName) -> bool {
        let matters = self.settings.is_empty() || self.settings.iter().any(|one| one.token == name.token);
        matters && name.verified != Some(false)
    }

    /// All names, in order.
    pub(super) fn names(&self) -> Vec<CrawlerName> {
        self.known.read().unwrap_or_else(PoisonError::into_inner).names.clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(token: &str, verified: Option<bool>) -> CrawlerName {
        CrawlerName { token: token.to_owned(), verified }
    }

    #[test]
    fn named_crawlers_alone_count() {
        let settings =
            CrawlerSettings { token: "lampbot".into(), prefixes: Prefixes::from_json(r#"["192.0.2.0/24"]"#).ok() };
        let crawlers = Crawlers::new(&[settings], Vec::new());
        assert!(crawlers.counts(&name("lampbot", Some(true))));
        assert!(!crawlers.counts(&name("lampbot", Some(false))));
        assert!(!crawlers.counts(&name("wick", None)));
        assert!(Crawlers::default().counts(&name("wick", None)));
    }

    #[test]
    fn late_crawlers_are_counted_together() {
        let crawlers = Crawlers::default();
        let numbers: Vec<usize> = (0..70).map(|nth| crawlers.number(name(&format!("bot-{nth}"), None))).collect();
        assert_eq!(numbers[..3], [0, 1, 2]);
        assert_eq!(numbers[MOST_CRAWLERS..], [MOST_CRAWLERS; 6]);
        assert_eq!(crawlers.number(name("bot-1", None)), 1);
        assert_eq!(crawlers.names().last(), Some(&name(OTHERS, None)));
    }
}
