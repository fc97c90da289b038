//! What is known of pages besides their visits: what sources learnt when they read them, and what sitemaps say.

use std::collections::HashMap;

use atlas_core::address::Address;
use atlas_core::contribution::{Contribution, url_of};
use atlas_core::hint::depth;
use atlas_core::page::{self, PageFacts, PageReader};
use atlas_core::uptake::difference::{PageTrait, Traits};
use atlas_core::{fingerprint, links};
use foldhash::fast::RandomState;

use super::subjects::Subjects;
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::VisitRecord;
use crate::page_texts::PageText;
use crate::source::Source;

/// What sources learnt of one page.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct PageKnown {
    /// Its words.
    pub words: Option<u32>,
    /// A fingerprint of its title.
    title: Option<u64>,
    /// How many pages link to it.
    pub linked_from: u32,
}

/// What sources learnt of pages, by the tag of their key.
pub struct PageKnowledge<'s> {
    sources: &'s [Box<dyn Source>],
    reader: &'s PageReader,
    pages: HashMap<u64, PageKnown, RandomState>,
    /// How many pages have each title.
    titles: HashMap<u64, u32, RandomState>,
    /// Whether links are known.
    has_links: bool,
    /// Pages with fewer words are thin.
    thin_words: u32,
    /// The length of the site's origin.
    origin: usize,
}

impl<'s> PageKnowledge<'s> {
    /// Reads what sources remember. `reader` is how pages are read; `thin_words`: pages with fewer words are thin.
    ///
    /// # Errors
    ///
    /// Returns an error if the ledger cannot be read.
    pub fn read(
        ledger: &dyn Ledger,
        subjects: &Subjects,
        sources: &'s [Box<dyn Source>],
        (reader, thin_words): (&'s PageReader, u32),
    ) -> Result<Self, StoreError> {
        let origin = subjects.site().root().origin().len();
        let mut known = Self {
            sources,
            reader,
            pages: HashMap::default(),
            titles: HashMap::default(),
            has_links: false,
            thin_words,
            origin,
        };
        for source in sources.iter().filter(|source| source.reads_pages()) {
            let memory = ledger.memory(&source.name(), source.settings(), true)?;
            for learnt in memory.known.values().filter(|learnt| !learnt.row.is_empty()) {
                let url = url_of(&learnt.row);
                let row = Contribution::read(&learnt.row);
                let title = row.title.as_deref().map(|title| fingerprint::row(title.trim().as_bytes()));
                let of = subjects.tag_of(url);
                if let Some(title) = title.filter(|_| subjects.find(of).is_some()) {
                    *known.titles.entry(title).or_default() += 1;
                }
                let page = known.pages.entry(of).or_default();
                page.words = row.facts.map(|facts| PageFacts::from_bits(facts).words).or(page.words);
                page.title = title.or(page.title);
                links::each(&learnt.links, |link| {
                    known.has_links = true;
                    if link != url {
                        known.pages.entry(subjects.tag_of(link)).or_default().linked_from += 1;
                    }
                });
            }
        }
        Ok(known)
    }

    /// Whether the page at an address, as it is now, forbids indexing.
    pub(super) fn says_noindex(&self, url: &str) -> bool {
        let read = || {
            let bytes = self.sources.iter().find_map(|source| source.page(url))?;
            page::read(&bytes, &Address::parse(url).ok()?, self.reader).ok()
        };
        read().is_some_and(|page| page.noindex.is_some())
    }

    /// What is known of a page.
    pub(super) fn of(&self, tag: u64) -> Option<&PageKnown> {
        self.pages.get(&tag)
    }

    /// How many pages link to a page, if links are known.
    pub(super) fn linked_from(&self, tag: u64) -> Option<u32> {
        self.has_links.then(|| self.of(tag).map_or(0, |page| page.linked_from))
    }

    /// The traits of a page, as far as they are known. `logs` tells whether visits are known, `year_ago` is a day.
    pub(super) fn traits(&self, page: &PageText<'_>, visits: &VisitRecord, (logs, year_ago): (bool, &str)) -> Traits {
        let mut traits = Traits::default();
        // Addresses of the site begin with its origin.
        let depth = depth(page.url.get(self.origin..).unwrap_or_default());
        traits.set(PageTrait::Deep, depth >= PageTrait::DEEP);
        traits.set(PageTrait::Undated, page.lastmod.is_none());
        traits.set(PageTrait::NoPicture, page.images == 0);
        // Dates of sitemaps are in order as texts, to the day.
        if let Some(day) = page.lastmod.and_then(|date| date.get(..10)) {
            traits.set(PageTrait::Old, day < year_ago);
        }
        if let Some(known) = self.of(page.tag) {
            if let Some(words) = known.words {
                traits.set(PageTrait::Thin, words < self.thin_words);
            }
            if known.words.is_some() {
                traits.set(PageTrait::NoTitle, known.title.is_none());
                let shared = known.title.is_some_and(|title| self.titles.get(&title).is_some_and(|pages| *pages > 1));
                traits.set(PageTrait::SharedTitle, shared);
            }
        }
        if self.has_links && depth > 0 {
            traits.set(PageTrait::Unlinked, self.of(page.tag).is_none_or(|known| known.linked_from == 0));
        }
        if logs {
            traits.set(PageTrait::NeverFetched, visits.count == 0);
            if visits.count > 0 {
                traits.set(PageTrait::Redirecting, (300..400).contains(&visits.status) && visits.status != 304);
                traits.set(PageTrait::Failing, visits.status >= 400);
            }
            if visits.slowest > 0 {
                traits.set(PageTrait::Slow, visits.slowest >= PageTrait::SLOW);
            }
        }
        traits
    }

    /// The number of words under which a page is thin.
    pub(super) fn thin_words(&self) -> u32 {
        self.thin_words
    }
}
