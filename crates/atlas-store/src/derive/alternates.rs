//! Groups of translations among what goes in.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap, HashSet};

use atlas_core::alternates::{Fault, Known, Page, Settings, group};
use atlas_core::choose::Chooser;
use atlas_core::contribution::{Alternate, Said};
use atlas_core::fingerprint;

use crate::arrival::Arrivals;
use crate::settle::{Candidate, Sample};

/// The group of an entry that has none.
pub(crate) const NO_GROUP: u32 = u32::MAX;

/// The groups of a site.
#[derive(Debug, Default)]
pub(crate) struct Alternates {
    lists: Vec<Vec<Alternate<'static>>>,
    prints: Vec<u64>,
    /// Links that are left out: the page, and what there is to say.
    pub(crate) faults: BTreeMap<Fault, Sample>,
}

impl Alternates {
    /// Finds all groups and notes with each candidate which one is its own.
    pub(crate) fn find(
        candidates: &mut [Candidate],
        arrivals: &Arrivals,
        chooser: &Chooser,
        settings: Option<&Settings>,
        seed: u64,
    ) -> Self {
        let Some(settings) = settings else { return Self::default() };
        let everyone = !settings.paths.is_empty();
        if !everyone && !candidates.iter().any(|candidate| candidate.speaks_of_others) {
            return Self::default();
        }
        let row = |at: usize| arrivals.row(candidates[at].place);
        let in_it: HashMap<u128, usize> =
            candidates.iter().enumerate().map(|(at, candidate)| (candidate.lane.key, at)).collect();
        let key = |url: &str| fingerprint::key(seed, url);
        let mut places: Vec<usize> =
            (0..candidates.len()).filter(|at| everyone || candidates[*at].speaks_of_others).collect();
        if !everyone {
            // Those that others speak of belong to a group too, even where they are silent themselves.
            let mut asked: HashSet<usize> = places.iter().copied().collect();
            for at in places.clone() {
                for link in Said::read(row(at)).alternates {
                    places.extend(in_it.get(&key(&link.url)).copied().filter(|other| asked.insert(*other)));
                }
            }
        }
        places.sort_unstable_by_key(|at| candidates[*at].named);
        let rows: Vec<Speaking<'_>> = places.iter().map(|at| Speaking::of(Said::read(row(*at)))).collect();
        let pages: Vec<Page<'_>> = rows.iter().map(Speaking::page).collect();
        let known = |url: &str| match in_it.get(&key(url)) {
            Some(at) if candidates[*at].lane.from_page => Known::Read,
            Some(_) => Known::Unread,
            None if chooser.site.holds(url) => Known::NotIn,
            None => Known::Elsewhere,
        };
        let groups = group(&pages, settings, known);
        let mut found = Self::default();
        for (page, fault, detail) in &groups.faults {
            let sample = found.faults.entry(*fault).or_default();
            sample.add_with(candidates[places[*page]].named, || format!("{}\n{detail}", pages[*page].url));
        }
        found.prints = groups.lists.iter().map(|list| fingerprint::group(list)).collect();
        found.lists = groups.lists;
        for (place, group) in places.iter().zip(&groups.of) {
            if let Some(group) = group {
                let candidate = &mut candidates[*place];
                candidate.group = *group;
                // It was measured without its alternates.
                candidate.bytes = 0;
            }
        }
        found
    }

    /// What the pages of a group list.
    pub(crate) fn list(&self, group: u32) -> &[Alternate<'static>] {
        self.lists.get(group as usize).map_or(&[], Vec::as_slice)
    }

    /// A fingerprint of that.
    pub(crate) fn print(&self, group: u32) -> u64 {
        self.prints.get(group as usize).copied().unwrap_or(0)
    }
}

/// Of what is said of an entry, only what a group is made of: there may be as many as entries.
struct Speaking<'a> {
    url: Cow<'a, str>,
    language: Option<Cow<'a, str>>,
    group: Option<Cow<'a, str>>,
    alternates: Vec<Alternate<'a>>,
}

impl<'a> Speaking<'a> {
    fn of(said: Said<'a>) -> Self {
        let Said { url, language, language_group, alternates, .. } = said;
        Self { url, language, group: language_group, alternates }
    }

    fn page(&self) -> Page<'_> {
        Page {
            url: &self.url,
            language: self.language.as_deref(),
            group: self.group.as_deref(),
            links: self.alternates.iter().map(|one| (one.language.as_ref(), one.url.as_ref())).collect(),
        }
    }
}
