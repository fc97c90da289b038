//! Judging: what is news, and what has to be written, once it is known whether the whole site moved and which entries are
//! translations of each other.

use std::collections::HashMap;

use atlas_core::contribution::url_of;
use atlas_core::entry::DatePolicy;
use atlas_core::lastmod::Lastmod;
use atlas_core::strand::Strand;
use rayon::prelude::*;

use super::{Candidate, News, Settled, Terms, UNKNOWN};
use crate::arrival::Arrivals;
use crate::derive::{Alternates, NO_GROUP};
use crate::ledger::{LaneEntry, NEVER, Remembered};

impl Settled {
    /// Decides what is news, now that it is known whether the whole site moved, and what of it has to be written.
    pub(crate) fn judge(
        &mut self,
        arrivals: &Arrivals,
        remembered: &Remembered,
        alternates: &Alternates,
        terms: &Terms<'_>,
    ) {
        judge(self, arrivals, remembered, alternates, terms);
        strands(self, remembered, terms);
    }
}

fn judge(
    settled: &mut Settled,
    arrivals: &Arrivals,
    remembered: &Remembered,
    alternates: &Alternates,
    terms: &Terms<'_>,
) {
    let (redesign, lane) = (settled.redesign, &remembered.lane);
    settled.observed = lane.iter().map(|entry| entry.observed).collect();
    let today = Lastmod::from_epoch_day(terms.today);
    settled.candidates.par_iter_mut().for_each(|candidate| {
        let prior = lane.get(candidate.prior as usize);
        if let Some(prior) = prior {
            candidate.lane.observed = prior.observed;
            candidate.lane.changed = prior.changed;
            let in_silence = prior.from_page != candidate.lane.from_page
                || (candidate.lane.from_page && (redesign || !terms.same_reader));
            let edited = candidate.content_moved && !in_silence;
            if edited {
                candidate.lane.observed = terms.today;
            }
            if edited || (candidate.declared_moved && !in_silence) {
                candidate.lane.changed = terms.run;
                candidate.news = News::Changed;
            }
        }
        let group = alternates.print(candidate.group);
        candidate.lane.written = candidate.written(terms.settings, group);
        candidate.same = prior.is_some_and(|prior| *prior == candidate.lane);
    });
    for candidate in &settled.candidates {
        if let Some(observed) = settled.observed.get_mut(candidate.prior as usize) {
            *observed = candidate.lane.observed;
        }
        let sample = match candidate.news {
            News::None => continue,
            News::Added => &mut settled.added,
            News::Changed => {
                if !candidate.dated && candidate.lane.observed == terms.today {
                    settled.tallies[usize::from(candidate.section)].newest(today);
                }
                &mut settled.changed
            }
        };
        sample.add_with(candidate.named, || url_of(arrivals.row(candidate.place)).to_owned());
    }
}

/// Adds a candidate for each strand that an entry stands in besides that of the pages.
fn strands(settled: &mut Settled, remembered: &Remembered, terms: &Terms<'_>) {
    if settled.candidates.iter().all(|candidate| candidate.own_strands == 0) {
        return;
    }
    let known = remembered.lane_of(|strand| strand != Strand::Pages);
    let known: HashMap<(u128, Strand), u32> =
        known.map(|(at, strand, entry)| ((entry.key, strand), at as u32)).collect();
    let more = settled.candidates.iter().filter(|candidate| candidate.own_strands != 0).flat_map(|page| {
        let strands = Strand::ALL.into_iter().filter(|strand| page.own_strands & bit(*strand) != 0);
        strands.map(|strand| {
            let prior = known.get(&(page.lane.key, strand)).copied().unwrap_or(UNKNOWN);
            let mut candidate = Candidate {
                strand,
                prior,
                bytes: 0,
                media: 0,
                group: NO_GROUP,
                own_strands: 0,
                news: News::None,
                changefreq: None,
                priority: None,
                date_policy: DatePolicy::None,
                ..page.clone()
            };
            candidate.lane =
                LaneEntry { observed: NEVER, page: 0, declared: 0, changed: 0, from_page: false, ..page.lane };
            candidate.lane.written = candidate.written(terms.settings, 0);
            candidate.same = remembered.lane.get(prior as usize).is_some_and(|prior| *prior == candidate.lane);
            candidate
        })
    });
    let mut more: Vec<Candidate> = more.collect();
    settled.candidates.append(&mut more);
}

/// The bit of a strand in [`Candidate::own_strands`].
pub(super) fn bit(strand: Strand) -> u8 {
    1 << strand as u8
}
