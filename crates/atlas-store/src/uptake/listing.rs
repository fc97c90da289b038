//! Lists of pages with what engines did with each.

use std::collections::HashSet;

use atlas_core::rfc3339;
use atlas_core::uptake::difference::PageTrait;
use atlas_core::uptake::export::Subject;
use atlas_core::uptake::standing::PageState;
use serde::Serialize;

use super::overlay::Overlaid;

use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::page_texts::{PageText, each_page};

/// A page with what engines did with it.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PageUptake {
    /// Its URL.
    pub url: String,
    /// Its section.
    pub section: String,
    /// Where it stands.
    pub state: PageState,
    /// What an engine says, if it says why not.
    pub reason: Option<String>,
    /// When it last changed, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub changed: Option<i64>,
    /// When an engine was first told of that.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub told: Option<i64>,
    /// How often engines' crawlers fetched it.
    pub visits: u32,
    /// The first visit.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub first_visit: Option<i64>,
    /// The last visit.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub last_visit: Option<i64>,
    /// The status of the last answer.
    pub status: Option<u16>,
    /// The crawlers that came.
    pub crawlers: Vec<String>,
    /// When an export first had it as picked up.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub picked_up_since: Option<i64>,
    /// Its words, if the page was read.
    pub words: Option<u32>,
    /// How many pages link to it, if pages were read.
    pub linked_from: Option<u32>,
    /// What may keep an engine from taking it.
    pub traits: Vec<PageTrait>,
}

impl Overlaid<'_> {
    fn state(&self, at: u32) -> PageState {
        let known = self.known(at);
        match () {
            () if known.picked_up == Some(true) => PageState::PickedUp,
            () if known.is_waiting() => PageState::Waiting,
            () if known.is_not_taken() => PageState::NotPickedUp,
            () if !self.has_logs => PageState::Unknown,
            () if known.fetched => PageState::Fetched,
            () => PageState::NeverFetched,
        }
    }

    /// The names of all sections with pages.
    pub fn sections(&self) -> &[String] {
        self.subjects.sections()
    }

    /// The tags of the pages that an engine has not taken though it had the time.
    pub fn not_picked_up(&self) -> HashSet<u64> {
        let pages = self.subjects.range(Subject::Pages).filter(|at| self.known(*at).is_not_taken());
        pages.map(|at| self.subjects.tags()[at as usize]).collect()
    }

    /// The state of the page with an address; `None` if it is not listed.
    pub fn state_of(&self, address: &str) -> Option<PageState> {
        let at = self.subjects.find(self.subjects.tag_of(address))?;
        self.subjects.range(Subject::Pages).contains(&at).then(|| self.state(at))
    }

    /// Lists pages, in the order of files, for which `wants` says yes.
    ///
    /// # Errors
    ///
    /// Returns an error if the ledger cannot be read.
    pub fn pages(
        &self,
        ledger: &dyn Ledger,
        wants: &(dyn Fn(&PageUptake) -> bool + Sync),
    ) -> Result<Vec<PageUptake>, StoreError> {
        let names = self.visits.crawlers();
        let map = |page: &PageText<'_>| {
            let at = self.subjects.page_at(page.nth, page.tag)?;
            Some(self.page(at, page, &names)).filter(wants)
        };
        let mut pages = Vec::new();
        each_page(ledger, None, map, |page| pages.push(page))?;
        Ok(pages)
    }

    /// What engines did with the page at an address; `None` if it is not listed.
    ///
    /// # Errors
    ///
    /// Returns an error if the ledger cannot be read.
    pub fn of_page(&self, ledger: &dyn Ledger, address: &str) -> Result<Option<PageUptake>, StoreError> {
        let pages = self.subjects.range(Subject::Pages);
        let wanted = self.subjects.find(self.subjects.tag_of(address)).filter(|at| pages.contains(at));
        let Some(wanted) = wanted else { return Ok(None) };
        let names = self.visits.crawlers();
        let map = |page: &PageText<'_>| {
            let at = self.subjects.page_at(page.nth, page.tag).filter(|at| *at == wanted)?;
            Some(self.page(at, page, &names))
        };
        let mut found = None;
        each_page(ledger, Some(&self.subjects.places(&[wanted])), map, |page| found = Some(page))?;
        Ok(found)
    }

    fn page(
        &self,
        at: u32,
        page: &PageText<'_>,
        names: &[(super::crawlers::CrawlerName, super::visits::CrawlerCounts, bool)],
    ) -> PageUptake {
        let visits = self.visits.of(at);
        let instant = |seconds: u32| (seconds > 0).then_some(i64::from(seconds));
        let by = names.iter().enumerate().take(64).filter(|(nth, _)| visits.by & (1 << nth) != 0);
        PageUptake {
            url: page.url.to_owned(),
            section: self.subjects.sections().get(self.subjects.section(at)).cloned().unwrap_or_default(),
            state: self.state(at),
            reason: self.reason(at).map(str::to_owned),
            changed: Some(self.changed_at(at)).filter(|at| *at > 0),
            told: self.visits.times().told_at(self.subjects.changed(at)),
            visits: visits.count,
            first_visit: instant(visits.first),
            last_visit: instant(visits.last),
            status: (visits.count > 0).then_some(visits.status),
            crawlers: by.map(|(_, (name, _, _))| name.token.clone()).collect(),
            picked_up_since: instant(visits.picked_up),
            words: self.knowledge.of(visits.tag).and_then(|known| known.words),
            linked_from: self.knowledge.linked_from(visits.tag),
            traits: self.knowledge.traits(page, &visits, (self.has_logs, &self.year_ago)).all().collect(),
        }
    }
}
