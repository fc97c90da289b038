//! What is said about what was found and written.

use super::found::FoundSite;
use super::proposed::ProposedSource;
use crate::view::init::{ALTERNATES, ARCHIVES, NEWEST, NEWS, STRUCTURED_DATA, SiteFacts, VISITOR_PAGE};

impl FoundSite {
    /// What is said about it.
    pub(super) fn facts(
        &self,
        config: String,
        folder: String,
        made_web_root: bool,
        proposals: &[ProposedSource],
    ) -> SiteFacts {
        let (is_active, is_commented) =
            (|one: &&ProposedSource| !one.is_commented, |one: &&ProposedSource| one.is_commented);
        SiteFacts {
            config,
            url: self.site.root().as_str().to_owned(),
            url_from: self.url_from.clone(),
            way: self.live.as_ref().map(|live| live.way.clone()).unwrap_or_default(),
            folder,
            made_web_root,
            pages: self.pages.pages,
            sources: proposals.iter().filter(is_active).map(|one| one.shown.clone()).collect(),
            maybe: proposals.iter().filter(is_commented).map(|one| one.shown.clone()).collect(),
            unsure: proposals.iter().filter(is_active).flat_map(|one| one.unsure.clone()).collect(),
            drop_html: self.pages.drop_html,
            other_canonical: self.pages.other_canonical.clone(),
            sections: self.sections(),
            private: self.private(),
            proposed: self.proposed(),
            robots: self.site.root().path() == "/",
            robots_exists: self.robots_exists,
            is_local: self.is_local && !proposals.iter().filter(is_active).any(|one| one.shown.starts_with("crawl")),
            entries: None,
            moved: None,
            first_look: None,
        }
    }

    fn proposed(&self) -> Vec<&'static str> {
        let has_news_folder = self.folders().iter().any(|(name, ..)| name == "news");
        let proposals = [
            (self.pages.has_categories, ARCHIVES),
            (has_news_folder && self.pages.has_dates && !self.has_publication(), NEWS),
            (self.pages.has_translations, ALTERNATES),
            (self.pages.has_bare_videos, STRUCTURED_DATA),
            (true, VISITOR_PAGE),
            (self.pages.has_dates, NEWEST),
        ];
        proposals.into_iter().filter_map(|(suits, what)| suits.then_some(what)).collect()
    }
}
