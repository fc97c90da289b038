//! The pages that are most worth looking at, and the URLs of pages.

use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};

use atlas_core::uptake::difference::{PageTrait, Traits};

use super::overlay::Overlaid;
use super::overview::WorthLooking;

use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::page_texts::{PageText, each_page};

/// How many pages are told.
const MOST_WORTH: usize = 20;

/// All pages, looked at one by one.
#[derive(Debug, Default)]
pub(super) struct ComparedPages {
    /// Whether each page that had the time was picked up, and its traits.
    pub compared: Vec<(bool, Traits)>,
    /// The pages most worth looking at, best first.
    pub worth: Vec<WorthLooking>,
}

/// A page, and what is wrong with it: the more, the higher.
struct WorthCandidate {
    rank: (Reverse<u8>, Reverse<usize>, u32),
    at: u32,
    url: String,
    traits: Traits,
}

/// How pressing it is to look at a page; 0 if it is not worth it.
fn urgency(overlaid: &Overlaid<'_>, at: u32, traits: Traits) -> u8 {
    let known = overlaid.known(at);
    match () {
        () if known.error || traits.has(PageTrait::Redirecting) => 4,
        () if known.is_not_taken() && overlaid.reason(at).is_some() => 3,
        () if known.is_not_taken() => 2,
        () if overlaid.has_logs && known.is_never_fetched() && known.picked_up != Some(true) => 1,
        () => 0,
    }
}

/// Looks at all pages, if there is anything to compare them by.
pub(super) fn pages(overlaid: &Overlaid<'_>, ledger: &dyn Ledger) -> Result<ComparedPages, StoreError> {
    let mut looked = ComparedPages::default();
    if !overlaid.has_logs && !overlaid.tells_of_pages() {
        return Ok(looked);
    }
    let map = |page: &PageText<'_>| {
        let at = overlaid.subjects.page_at(page.nth, page.tag)?;
        let visits = overlaid.visits.of(at);
        let traits = overlaid.knowledge.traits(page, &visits, (overlaid.has_logs, &overlaid.year_ago));
        let known = overlaid.known(at);
        let compared = match known.picked_up {
            Some(true) => Some(true),
            Some(false) if !known.recent => Some(false),
            _ => None,
        };
        let urgency = urgency(overlaid, at, traits);
        let candidate = (urgency > 0).then(|| WorthCandidate {
            rank: (Reverse(urgency), Reverse(traits.all().count()), at),
            at,
            url: page.url.to_owned(),
            traits,
        });
        Some((compared.map(|picked_up| (picked_up, traits)), candidate))
    };
    let mut best: Vec<WorthCandidate> = Vec::new();
    each_page(ledger, None, map, |(compared, candidate)| {
        looked.compared.extend(compared);
        best.extend(candidate);
        if best.len() > 100 * MOST_WORTH {
            best.sort_unstable_by_key(|one| one.rank);
            best.truncate(MOST_WORTH);
        }
    })?;
    best.sort_unstable_by_key(|one| one.rank);
    best.truncate(MOST_WORTH);
    looked.worth = best.into_iter().map(|one| worth(overlaid, one)).collect();
    Ok(looked)
}

fn worth(overlaid: &Overlaid<'_>, candidate: WorthCandidate) -> WorthLooking {
    let WorthCandidate { at, url, traits, .. } = candidate;
    let visits = overlaid.visits.of(at);
    let was_visited = visits.count > 0;
    WorthLooking {
        url,
        section: overlaid.subjects.sections().get(overlaid.subjects.section(at)).cloned().unwrap_or_default(),
        reason: overlaid.reason(at).map(str::to_owned),
        changed: Some(overlaid.changed_at(at)).filter(|at| *at > 0),
        visits: visits.count,
        last_visit: was_visited.then_some(i64::from(visits.last)),
        status: was_visited.then_some(visits.status),
        words: overlaid.knowledge.of(visits.tag).and_then(|known| known.words),
        linked_from: overlaid.knowledge.linked_from(visits.tag),
        traits: traits.all().collect(),
    }
}

/// The URLs of some pages.
pub(super) fn urls(
    overlaid: &Overlaid<'_>,
    ledger: &dyn Ledger,
    pages: &[u32],
) -> Result<HashMap<u32, String>, StoreError> {
    let wanted: HashSet<u32> = pages.iter().copied().collect();
    let map = |page: &PageText<'_>| {
        let at = overlaid.subjects.page_at(page.nth, page.tag).filter(|at| wanted.contains(at))?;
        Some((at, page.url.to_owned()))
    };
    let mut urls = HashMap::new();
    each_page(ledger, Some(&overlaid.subjects.places(pages)), map, |(at, url)| drop(urls.insert(at, url)))?;
    Ok(urls)
}
