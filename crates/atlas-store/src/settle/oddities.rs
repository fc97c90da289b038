//! What is to be told of entries although they go in, or of their sources.

use std::collections::BTreeMap;

use super::Sample;
use super::join::Odds;
use crate::arrival::Place;
use crate::report::IncompleteVideo;

/// What is odd about some entries, each with the first few of them.
#[derive(Debug, Default)]
pub(crate) struct Oddities {
    /// Fields on which two sources say something else.
    pub(crate) at_odds: BTreeMap<Odds, Sample>,
    /// Entries on other hosts or schemes, by origin.
    pub(crate) elsewhere: BTreeMap<String, Sample>,
    /// Entries whose declared date moved and whose content did not.
    pub(crate) date_alone: Sample,
    /// Entries with a declared date that stayed while their content moved.
    pub(crate) content_alone: Sample,
    /// Pages without a head.
    pub(crate) headless: Sample,
    /// Entries whose declared date of change is not written.
    pub(crate) dates_held_back: Sample,
    /// Entries that name a section that there is not.
    pub(crate) unknown_sections: Sample,
    /// Videos that cannot be written, each with where its page was named.
    pub(super) incomplete: Vec<(Place, IncompleteVideo)>,
}

impl Oddities {
    /// Videos that cannot be written, in the order in which their pages were named.
    pub(crate) fn incomplete_videos(&self) -> Vec<IncompleteVideo> {
        let mut videos: Vec<&(Place, IncompleteVideo)> = self.incomplete.iter().collect();
        videos.sort_by_key(|(place, _)| *place);
        videos.into_iter().map(|(_, video)| video.clone()).collect()
    }

    pub(super) fn join(&mut self, other: Self) {
        let Self {
            at_odds,
            elsewhere,
            date_alone,
            content_alone,
            headless,
            dates_held_back,
            unknown_sections,
            mut incomplete,
        } = other;
        at_odds.into_iter().for_each(|(odds, sample)| self.at_odds.entry(odds).or_default().join(sample));
        elsewhere.into_iter().for_each(|(origin, sample)| self.elsewhere.entry(origin).or_default().join(sample));
        self.date_alone.join(date_alone);
        self.content_alone.join(content_alone);
        self.headless.join(headless);
        self.dates_held_back.join(dates_held_back);
        self.unknown_sections.join(unknown_sections);
        self.incomplete.append(&mut incomplete);
    }
}
