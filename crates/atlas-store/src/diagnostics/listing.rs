//! Lists of entries: all entries, or those of one section, reason, source or folder, sorted and limited as requested.

use std::collections::{HashMap, HashSet};

use atlas_core::address::shown;
use atlas_core::choose::{Chooser, Reason, Verdict};
use atlas_core::contribution::{Contribution, url_of};
use atlas_core::lastmod::Lastmod;
use atlas_core::page::PageFacts;
use atlas_core::uptake::standing::PageState;
use atlas_core::{address, output_policy, titles};
use rayon::prelude::*;
use serde::Serialize;

use crate::arrival::Arrivals;
use crate::ledger::Remembered;
use crate::settle::{EntryRow, Settled};
use atlas_core::report::Outcome;

/// Which entries are listed. All conditions that are set must hold.
#[derive(Debug, Clone, Default)]
pub struct Filter {
    /// They are in this section.
    pub section: Option<String>,
    /// They are left out for this reason.
    pub reason: Option<Reason>,
    /// The name of one of their sources contains this.
    pub source: Option<String>,
    /// Their path begins with this.
    pub under: Option<String>,
}

/// The order of a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ListingOrder {
    /// As the sources name them.
    #[default]
    Found,
    /// By URL.
    Url,
    /// Newest first, entries without a date last.
    Newest,
    /// Most pictures first.
    Pictures,
}

/// The options of a list.
#[derive(Debug, Clone, Default)]
pub struct Listing {
    /// Which entries.
    pub filter: Filter,
    /// In which order.
    pub order: ListingOrder,
    /// The most entries.
    pub most: Option<usize>,
}

/// One line of a list.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Listed {
    /// The URL.
    pub url: String,
    /// Its section.
    pub section: Option<String>,
    /// Why it is left out.
    pub reason: Option<Reason>,
    /// The date that is written.
    pub lastmod: Option<Lastmod>,
    /// Its pictures: those that are written, if it is kept.
    pub images: usize,
    /// Its videos: those that are written, if it is kept; otherwise those that could be.
    pub videos: usize,
    /// Its title.
    pub title: Option<String>,
    /// Its description.
    #[serde(skip)]
    pub description: Option<String>,
    /// Facts about its content, if its page was read.
    #[serde(skip)]
    pub facts: Option<PageFacts>,
    /// Its first picture.
    pub image: Option<String>,
    /// When it was published.
    pub published: Option<Lastmod>,
    /// The sitemap file that contains it, or will after the next build.
    pub file: Option<String>,
    /// Its sources, in order.
    pub sources: Vec<String>,
    /// Where it stands with engines, if that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub uptake: Option<PageState>,
}

/// Makes a list, and counts all matching entries. `files` gives the file of an entry by key.
pub(crate) fn list(
    listing: &Listing,
    arrivals: &Arrivals,
    settled: &Settled,
    remembered: &Remembered,
    outcomes: &[Outcome],
    files: &HashMap<u128, String>,
) -> (Vec<Listed>, u64) {
    let chooser = arrivals.decider().chooser();
    let looking = Looking { listing, arrivals, settled, remembered, chooser, outcomes, files };
    let mut wanted: Vec<EntryRow<'_>> = Vec::new();
    settled.entry_rows.each(arrivals, |entry_row| wanted.extend(looking.wants(&entry_row).then_some(entry_row)));
    let found = |entry_row: &EntryRow<'_>| entry_row.named();
    match listing.order {
        ListingOrder::Found => wanted.sort_unstable_by_key(found),
        ListingOrder::Url => wanted.sort_by_cached_key(|entry_row| url_of(&arrivals.row(entry_row.row_id)).to_owned()),
        ListingOrder::Newest => wanted.sort_by_cached_key(|entry_row| {
            let date = looking.candidates(entry_row).lastmod.map(|date| date.seconds());
            (std::cmp::Reverse(date), found(entry_row))
        }),
        ListingOrder::Pictures => {
            wanted.sort_by_cached_key(|entry_row| {
                (std::cmp::Reverse(looking.candidates(entry_row).images), found(entry_row))
            });
        }
    }
    let count = wanted.len() as u64;
    let shown = wanted.iter().take(listing.most.unwrap_or(usize::MAX));
    let mut shown: Vec<Listed> = shown.map(|entry_row| looking.candidates(entry_row)).collect();
    drop_names(&mut shown);
    (shown, count)
}

/// Removes the ending that most titles of a section have, the name of the site or section.
fn drop_names(entries: &mut [Listed]) {
    let mut names: HashMap<Option<String>, Option<String>> = HashMap::new();
    let sections: HashSet<Option<String>> = entries.iter().map(|one| one.section.clone()).collect();
    for section in sections {
        let of_it: Vec<&Listed> = entries.iter().filter(|one| one.section == section).collect();
        let titles = of_it.par_iter().filter_map(|one| one.title.as_deref());
        let name = titles::common_ending(titles, of_it.len()).map(str::to_owned);
        names.insert(section, name);
    }
    for entry in entries {
        let name = names.get(&entry.section).and_then(Option::as_deref);
        if let Some(title) = &mut entry.title {
            *title = titles::without(title, name).to_owned();
        }
    }
}

struct Looking<'a> {
    listing: &'a Listing,
    arrivals: &'a Arrivals,
    settled: &'a Settled,
    remembered: &'a Remembered,
    chooser: &'a Chooser,
    outcomes: &'a [Outcome],
    files: &'a HashMap<u128, String>,
}

impl Looking<'_> {
    fn wants(&self, entry_row: &EntryRow<'_>) -> bool {
        let Filter { section, reason, source, under } = &self.listing.filter;
        let verdict = entry_row.verdict();
        let in_section = section.as_ref().is_none_or(|wanted| match verdict {
            Verdict::Kept(kept) => self.chooser.sections.list()[usize::from(kept.section)].name == *wanted,
            Verdict::LeftOut(_) => false,
        });
        let for_reason = reason.is_none_or(|wanted| verdict == Verdict::LeftOut(wanted));
        let below = under.as_ref().is_none_or(|wanted| {
            address::path(url_of(&self.arrivals.row(entry_row.row_id))).starts_with(wanted.as_str())
        });
        let from = source.as_ref().is_none_or(|wanted| {
            entry_row.sources(self.arrivals).iter().any(|source| self.name(*source).contains(wanted.as_str()))
        });
        in_section && for_reason && below && from
    }

    fn name(&self, source: u16) -> &str {
        self.outcomes.get(usize::from(source)).map_or("", |outcome| outcome.name.as_str())
    }

    fn candidates(&self, entry_row: &EntryRow<'_>) -> Listed {
        let row = self.arrivals.row(entry_row.row_id);
        let contribution = Contribution::read(&row);
        let (kept, reason) = match entry_row.verdict() {
            Verdict::Kept(kept) => (Some(kept), None),
            Verdict::LeftOut(reason) => (None, Some(reason)),
        };
        Listed {
            lastmod: kept.and_then(|kept| {
                let observed = self.settled.observed(self.remembered, entry_row.prior);
                output_policy::lastmod(&contribution, observed, kept.date_policy, &self.chooser.calendar)
            }),
            section: kept.map(|kept| self.chooser.sections.list()[usize::from(kept.section)].name.clone()),
            reason,
            images: kept.map_or(contribution.images.len(), |_| usize::from(entry_row.summary.images)),
            videos: match kept {
                Some(_) => usize::from(entry_row.summary.videos),
                None => contribution.videos.iter().filter(|video| video.lacks(&contribution.url).is_empty()).count(),
            },
            title: contribution.title.as_deref().map(str::to_owned),
            description: contribution.description.as_deref().map(str::to_owned),
            facts: contribution.facts.map(PageFacts::from_bits),
            image: contribution.images.first().map(|image| image.to_string()),
            published: contribution.published,
            file: kept.and_then(|_| self.files.get(&entry_row.summary.key()).cloned()),
            sources: entry_row.sources(self.arrivals).iter().map(|source| self.name(*source).to_owned()).collect(),
            uptake: None,
            url: shown(&contribution.url).into_owned(),
        }
    }
}
