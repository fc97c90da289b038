//! The pages that are most worth looking at, and the URLs of pages.

use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};

use atlas_core::uptake::difference::Traits;
use atlas_core::uptake::export::Subject;

use super::overlay::Overlaid;
use super::overview::WorthLooking;

use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::page_texts::{PageText, each_page};

/// How many pages are told.
const MOST_WORTH: usize = 20;
/// The highest urgency.
const MOST_URGENT: u8 = 4;
/// How many of the most urgent pages are looked at closely, where nothing has to be compared.
const MOST_LOOKED: usize = 2_000;

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

/// How pressing it is to look at a page, up to [`MOST_URGENT`]; 0 if it is not worth it.
fn urgency(overlaid: &Overlaid<'_>, at: u32) -> u8 {
    let known = overlaid.known(at);
    let status = overlaid.visits.of(at).status;
    match () {
        () if known.error || ((300..400).contains(&status) && status != 304) => MOST_URGENT,
        () if known.is_not_taken() && overlaid.reason(at).is_some() => 3,
        () if known.is_not_taken() => 2,
        () if overlaid.has_logs && known.is_never_fetched() && known.picked_up != Some(true) => 1,
        () => 0,
    }
}

/// The most urgent pages, in the order of files.
fn most_urgent(overlaid: &Overlaid<'_>) -> Vec<u32> {
    let mut by_urgency: [Vec<u32>; MOST_URGENT as usize + 1] = Default::default();
    for at in overlaid.subjects.range(Subject::Pages) {
        let alike = &mut by_urgency[usize::from(urgency(overlaid, at))];
        if alike.len() < MOST_LOOKED {
            alike.push(at);
        }
    }
    let mut urgent: Vec<u32> = by_urgency.into_iter().skip(1).rev().flatten().take(MOST_LOOKED).collect();
    urgent.sort_unstable();
    urgent
}

/// Looks at all pages, if there is anything to compare them by; else at the most urgent.
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
        let urgency = urgency(overlaid, at);
        let candidate = (urgency > 0).then(|| WorthCandidate {
            rank: (Reverse(urgency), Reverse(traits.all().count()), at),
            at,
            url: page.url.to_owned(),
            traits,
        });
        Some((compared.map(|picked_up| (picked_up, traits)), candidate))
    };
    let mut best: Vec<WorthCandidate> = Vec::new();
    let urgent = (!overlaid.tells_of_pages()).then(|| most_urgent(overlaid));
    each_page(ledger, urgent.as_deref(), map, |(compared, candidate)| {
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
