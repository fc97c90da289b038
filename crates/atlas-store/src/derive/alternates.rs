//! Finding the groups of translations among the listed entries.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap, HashSet};

use atlas_core::choose::Verdict;
use atlas_core::contribution::Contribution;
use atlas_core::derive::alternates::{AlternatesSettings, GroupMember, LinkTarget, group};
use atlas_core::fingerprint;
use atlas_core::language::Alternate;

use crate::arrival::{Arrivals, RowFlag, RowId};
use crate::model::NO_GROUP;
use crate::settle::{ReportLimits, Sample, Settled};
use atlas_core::report::Notice;

/// The groups of a site.
#[derive(Debug, Default)]
pub(crate) struct Alternates {
    lists: Vec<Vec<Alternate<'static>>>,
    prints: Vec<u64>,
    of: BTreeMap<RowId, u32>,
    /// Links that are ignored: the page, and what is wrong.
    pub(crate) faults: BTreeMap<Notice, Sample>,
}

/// A listed entry.
struct GroupedEntry {
    row_id: RowId,
    named: RowId,
    key: u128,
    from_page: bool,
    speaks: bool,
}

impl Alternates {
    /// Finds all groups.
    pub(crate) fn find(
        settled: &Settled,
        arrivals: &Arrivals,
        settings: Option<&AlternatesSettings>,
        telling: ReportLimits<'_>,
    ) -> Self {
        let Some(settings) = settings else { return Self::default() };
        let everyone = !settings.paths.is_empty();
        if !everyone && settled.counts.speakers == 0 {
            return Self::default();
        }
        let mut entries = Vec::new();
        settled.entry_rows.each(arrivals, |entry_row| {
            if let Verdict::Kept(_) = entry_row.verdict() {
                entries.push(GroupedEntry {
                    row_id: entry_row.row_id,
                    named: entry_row.named(),
                    key: entry_row.summary.key(),
                    from_page: entry_row.summary.has(RowFlag::FromPage),
                    speaks: entry_row.summary.has(RowFlag::SpeaksOfOthers),
                });
            }
        });
        let in_it: HashMap<u128, usize> = entries.iter().enumerate().map(|(at, entry)| (entry.key, at)).collect();
        let key = |url: &str| fingerprint::key(arrivals.decider().seed(), url);
        let mut row_ids: Vec<usize> = (0..entries.len()).filter(|at| everyone || entries[*at].speaks).collect();
        if !everyone {
            // Pages that others link to belong to a group, too, even if they have no such links themselves.
            let mut asked: HashSet<usize> = row_ids.iter().copied().collect();
            for at in row_ids.clone() {
                for link in Contribution::read(&arrivals.row(entries[at].row_id)).alternates {
                    row_ids.extend(in_it.get(&key(&link.url)).copied().filter(|other| asked.insert(*other)));
                }
            }
        }
        row_ids.sort_unstable_by_key(|at| entries[*at].named);
        let rows: Vec<Cow<'_, [u8]>> = row_ids.iter().map(|at| arrivals.row(entries[*at].row_id)).collect();
        let rows: Vec<Speaking<'_>> = rows.iter().map(|row| Speaking::of(Contribution::read(row))).collect();
        let pages: Vec<GroupMember<'_>> = rows.iter().map(Speaking::page).collect();
        let known = |url: &str| match in_it.get(&key(url)) {
            Some(at) if entries[*at].from_page => LinkTarget::Read,
            Some(_) => LinkTarget::Unread,
            None if arrivals.decider().chooser().site.holds(url) => LinkTarget::NotIn,
            None => LinkTarget::Elsewhere,
        };
        let groups = group(&pages, settings, known);
        let mut found = Self::default();
        for (page, fault, detail) in &groups.faults {
            let (notice, url) = (Notice::from(*fault), pages[*page].url);
            if telling.wants(notice, url) {
                let sample = found.faults.entry(notice).or_default();
                sample.add(telling.examples, entries[row_ids[*page]].named, || format!("{url}\n{detail}"));
            }
        }
        found.prints = groups.lists.iter().map(|list| fingerprint::group(list)).collect();
        found.lists = groups.lists;
        let of = row_ids.iter().zip(&groups.of).filter_map(|(at, group)| Some((entries[*at].row_id, (*group)?)));
        found.of = of.collect();
        found
    }

    /// Whether there are no groups.
    pub(crate) fn is_empty(&self) -> bool {
        self.of.is_empty()
    }

    /// The rows of all entries in groups.
    pub(crate) fn row_ids(&self) -> impl Iterator<Item = RowId> {
        self.of.keys().copied()
    }

    /// The group of an entry, by its row.
    pub(crate) fn group_of(&self, row_id: RowId) -> u32 {
        self.of.get(&row_id).copied().unwrap_or(NO_GROUP)
    }

    /// What the pages of a group list.
    pub(crate) fn list(&self, group: u32) -> &[Alternate<'static>] {
        self.lists.get(group as usize).map_or(&[], Vec::as_slice)
    }

    /// A fingerprint of that list.
    pub(crate) fn print(&self, group: u32) -> u64 {
        self.prints.get(group as usize).copied().unwrap_or(0)
    }
}

/// What an entry says about its group, and nothing else, because there may be as many as entries.
struct Speaking<'a> {
    url: Cow<'a, str>,
    language: Option<Cow<'a, str>>,
    group: Option<Cow<'a, str>>,
    alternates: Vec<Alternate<'a>>,
}

impl<'a> Speaking<'a> {
    fn of(contribution: Contribution<'a>) -> Self {
        let Contribution { url, language, language_group, alternates, .. } = contribution;
        Self { url, language, group: language_group, alternates }
    }

    fn page(&self) -> GroupMember<'_> {
        GroupMember {
            url: &self.url,
            language: self.language.as_deref(),
            group: self.group.as_deref(),
            links: self.alternates.iter().map(|one| (one.language.as_ref(), one.url.as_ref())).collect(),
        }
    }
}
