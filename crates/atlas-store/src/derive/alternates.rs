//! Finding the groups of translations among the listed entries.
//!
//! There may be as many groups as entries. So entries are first divided into clusters that no group can cross, by small
//! numbers only, and then the clusters are read and grouped a few at a time. What the pages of each group list is kept
//! packed.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap, HashSet};

use atlas_core::address;
use atlas_core::choose::Verdict;
use atlas_core::contribution::Contribution;
use atlas_core::derive::alternates::{AlternatesSettings, GroupMember, Groups, LinkTarget, group};
use atlas_core::fingerprint;
use atlas_core::language::Alternate;
use foldhash::fast::FixedState;
use rayon::prelude::*;

use crate::arrival::{Arrivals, RowFlag, RowId, short_key};
use crate::bytes::{halves, key_of};
use crate::model::NO_GROUP;
use crate::settle::{EntryFate, EntryRow, EntryRows, Joined, ReportLimits, Sample};
use atlas_core::report::Notice;

use super::packed_lists::PackedLists;

/// About how many entries are grouped together.
const BATCH: usize = 1 << 13;
/// How many blocks are looked through before the results are combined.
const BLOCKS_AT_A_TIME: usize = 16;
/// How many of these batches are in memory at a time.
const BATCHES_AT_A_TIME: usize = 8;

/// The groups of a site.
#[derive(Debug, Default)]
pub(crate) struct Alternates {
    lists: PackedLists,
    prints: Vec<u64>,
    /// The rows of all entries in groups, in order, each with its group.
    of: Vec<(RowId, u32)>,
    /// The groups of entries whose rows every build reads, by key.
    of_read: Vec<(u128, u32)>,
    /// Links that are ignored: the page, and what is wrong.
    pub(crate) faults: BTreeMap<Notice, Sample>,
    /// Whether any entry may belong to a group.
    pub(crate) any: bool,
}

impl Alternates {
    /// Finds all groups. `standing` are rows of entries that stay as they were and are listed by the others.
    pub(crate) fn find(
        joined: &Joined,
        arrivals: &Arrivals,
        standing: &[RowId],
        settings: Option<&AlternatesSettings>,
        telling: ReportLimits<'_>,
    ) -> Self {
        let Some(settings) = settings else { return Self::default() };
        let mut speakers = Speakers::find(joined, arrivals, standing, settings);
        let mut found =
            Self { lists: PackedLists::new(arrivals.decider().chooser().site.root().as_str()), ..Self::default() };
        found.any = !speakers.list.is_empty();
        let clusters = speakers.clusters();
        let mut batches = batches(&clusters);
        loop {
            let some: Vec<Vec<u32>> = batches.by_ref().take(BATCHES_AT_A_TIME).collect();
            if some.is_empty() {
                break;
            }
            let grouped: Vec<Grouped> =
                some.into_par_iter().map(|batch| speakers.grouped(batch, arrivals, settings)).collect();
            grouped.into_iter().for_each(|grouped| found.add(grouped, &speakers, telling));
            found.lists.end_piece();
        }
        // They stay as they are until the end of the build.
        found.of.shrink_to_fit();
        found.prints.shrink_to_fit();
        found.of.par_sort_unstable_by_key(|(row_id, _)| *row_id);
        found
    }

    fn add(&mut self, grouped: Grouped, speakers: &Speakers, telling: ReportLimits<'_>) {
        let Grouped { of, groups, urls } = grouped;
        let before = self.prints.len() as u32;
        for list in &groups.lists {
            self.lists.push(list);
            self.prints.push(fingerprint::group(list));
        }
        let rows = of.iter().zip(&groups.of);
        for (at, group) in rows.filter_map(|(at, group)| Some((at, before + (*group)?))) {
            let speaker = &speakers.list[*at as usize];
            self.of.push((speaker.row_id, group));
            if speaker.is_read {
                self.of_read.push((speaker.key(), group));
            }
        }
        for (page, fault, detail) in &groups.faults {
            let (notice, url) = (Notice::from(*fault), &urls[*page]);
            if telling.wants(notice, url) {
                let named = speakers.list[of[*page] as usize].named;
                let sample = self.faults.entry(notice).or_default();
                sample.add(telling.examples, named, || format!("{url}\n{detail}"));
            }
        }
    }

    /// The group of an entry, by its row.
    pub(crate) fn group_of(&self, row_id: RowId) -> u32 {
        let at = self.of.binary_search_by_key(&row_id, |(row_id, _)| *row_id);
        at.map_or(NO_GROUP, |at| self.of[at].1)
    }

    /// The groups of entries whose rows every build reads, for [`GroupsBefore`](crate::settle::GroupsBefore): the key,
    /// and the fingerprint of the list.
    pub(crate) fn of_read_rows(&self) -> impl Iterator<Item = (u128, u64)> {
        self.of_read.iter().map(|(key, group)| (*key, self.print(*group)))
    }

    /// What the pages of a group list.
    pub(crate) fn list(&self, group: u32) -> Vec<Alternate<'_>> {
        self.lists.get(group)
    }

    /// The same, borrowing nothing.
    pub(crate) fn owned_list(&self, group: u32) -> Vec<Alternate<'static>> {
        let own = |one: Alternate<'_>| Alternate {
            language: Cow::Owned(one.language.into_owned()),
            url: Cow::Owned(one.url.into_owned()),
        };
        self.list(group).into_iter().map(own).collect()
    }

    /// A fingerprint of that list.
    pub(crate) fn print(&self, group: u32) -> u64 {
        self.prints.get(group as usize).copied().unwrap_or(0)
    }
}

/// A listed entry that may belong to a group.
#[derive(Debug, Clone, Copy)]
struct Speaker {
    row_id: RowId,
    named: RowId,
    /// The halves of its key; a `u128` would need more room.
    key: [u64; 2],
    from_page: bool,
    /// Whether every build reads its row.
    is_read: bool,
}

/// The entries that may belong to groups.
struct Speakers {
    list: Vec<Speaker>,
    /// The [`words`] of each, as far as it has any, until the clusters are found.
    words: Vec<[u64; 2]>,
    /// Links between entries: the index of the page, and the key of the URL.
    links: Vec<(u32, u128)>,
    /// The entries that links lead to, by key.
    targets: HashMap<u128, u32, FixedState>,
}

/// A batch of entries in groups.
struct Grouped {
    /// The indexes of the entries.
    of: Vec<u32>,
    groups: Groups,
    urls: Vec<String>,
}

impl Speakers {
    fn find(joined: &Joined, arrivals: &Arrivals, standing: &[RowId], settings: &AlternatesSettings) -> Self {
        let Joined { entry_rows, fates, .. } = joined;
        let everyone = !settings.paths.is_empty();
        // Rows that are not read because they say what they said before have no links and no group.
        let is_wanted =
            |prior: Option<u32>| everyone || prior.is_none_or(|at| fates[at as usize] != EntryFate::Untouched as u8);
        let seed = arrivals.decider().seed();
        let of_block = |at: usize| {
            let block = arrivals.block(at);
            let (mut list, mut of_each, mut links) = (Vec::new(), Vec::new(), Vec::new());
            for (entry_row, row) in entry_rows.some_of_block(arrivals, at, &block, is_wanted) {
                let speaks = entry_row.summary.has(RowFlag::SpeaksOfOthers);
                if !is_listed(&entry_row) || !(everyone || speaks) {
                    continue;
                }
                let contribution = Contribution::read(&row);
                of_each.push(words(&contribution, settings));
                let keys = contribution.alternates.iter().map(|link| fingerprint::key(seed, &link.url));
                links.extend(keys.map(|key| (list.len() as u32, key)));
                list.push(Speaker::of(&entry_row));
            }
            (list, of_each, links)
        };
        let mut speakers = Self { list: Vec::new(), words: Vec::new(), links: Vec::new(), targets: HashMap::default() };
        let blocks: Vec<usize> = (0..arrivals.blocks()).filter(|at| everyone || arrivals.may_speak(*at)).collect();
        for some in blocks.chunks(BLOCKS_AT_A_TIME) {
            let found: Vec<_> = some.par_iter().map(|at| of_block(*at)).collect();
            for (list, of_each, links) in found {
                let before = speakers.list.len() as u32;
                extend(&mut speakers.list, list);
                extend(&mut speakers.words, of_each);
                speakers.links.extend(links.into_iter().map(|(at, key)| (before + at, key)));
            }
        }
        for row_id in standing {
            let row = arrivals.row(*row_id);
            let contribution = Contribution::read(&row);
            let at = speakers.list.len() as u32;
            let key = halves(fingerprint::key(seed, &contribution.url));
            let (row_id, named) = (*row_id, *row_id);
            speakers.list.push(Speaker { row_id, named, key, from_page: false, is_read: false });
            speakers.words.push(words(&contribution, settings));
            let keys = contribution.alternates.iter().map(|link| fingerprint::key(seed, &link.url));
            speakers.links.extend(keys.map(|key| (at, key)));
        }
        if !speakers.links.is_empty() {
            speakers.add_targets(entry_rows, arrivals, everyone);
        }
        speakers
    }

    /// Adds the entries that links lead to: they belong to groups, too, even if they have no links themselves.
    fn add_targets(&mut self, entry_rows: &EntryRows, arrivals: &Arrivals, everyone: bool) {
        let wanted: HashSet<u128, FixedState> = self.links.iter().map(|(_, key)| *key).collect();
        for (speaker, at) in self.list.iter().zip(0..) {
            if wanted.contains(&speaker.key()) {
                self.targets.insert(speaker.key(), at);
            }
        }
        if everyone {
            return;
        }
        entry_rows.each(arrivals, |entry_row| {
            let key = entry_row.summary.key();
            if wanted.contains(&key) && is_listed(&entry_row) && !self.targets.contains_key(&key) {
                self.targets.insert(key, self.list.len() as u32);
                self.list.push(Speaker::of(&entry_row));
            }
        });
    }

    /// The indexes of all entries, cluster by cluster in the order in which they were first named, each index with its
    /// cluster.
    fn clusters(&mut self) -> Vec<(u32, u32)> {
        let mut forest = Forest((0..self.list.len() as u32).collect());
        let mut first: HashMap<u64, u32, FixedState> = HashMap::default();
        for (words, at) in std::mem::take(&mut self.words).into_iter().zip(0..) {
            for word in words.into_iter().filter(|word| *word != 0) {
                let with = *first.entry(word).or_insert(at);
                forest.unite(with, at);
            }
        }
        drop(first);
        for (at, key) in &self.links {
            if let Some(other) = self.targets.get(key) {
                forest.unite(*at, *other);
            }
        }
        let mut clusters: Vec<(u32, u32)> = (0..self.list.len() as u32).map(|at| (forest.root(at), at)).collect();
        clusters.par_sort_unstable();
        clusters
    }

    /// Reads and groups some whole clusters.
    fn grouped(&self, batch: Vec<u32>, arrivals: &Arrivals, settings: &AlternatesSettings) -> Grouped {
        let row_ids: Vec<RowId> = batch.iter().map(|at| self.list[*at as usize].row_id).collect();
        let rows = arrivals.read_each(&row_ids, |_, row| Speaking::of(Contribution::read(row).into_owned()));
        // If two pages of a group have the same language, the order of their sources decides, not that of rows.
        let mut members: Vec<(u32, Speaking)> = batch.into_iter().zip(rows).collect();
        members.sort_by_cached_key(|(at, row)| (arrivals.source_of(self.list[*at as usize].named), row.url.clone()));
        let (of, rows): (Vec<u32>, Vec<Speaking>) = members.into_iter().unzip();
        let pages: Vec<GroupMember<'_>> = rows.iter().map(Speaking::page).collect();
        let seed = arrivals.decider().seed();
        let known = |url: &str| match self.targets.get(&fingerprint::key(seed, url)) {
            Some(at) if self.list[*at as usize].from_page => LinkTarget::Read,
            Some(_) => LinkTarget::Unread,
            None if arrivals.decider().chooser().site.holds(url) => LinkTarget::NotIn,
            None => LinkTarget::Elsewhere,
        };
        let groups = group(&pages, settings, known);
        drop(pages);
        let urls = if groups.faults.is_empty() { Vec::new() } else { rows.into_iter().map(|row| row.url).collect() };
        Grouped { of, groups, urls }
    }
}

impl Speaker {
    fn of(entry_row: &EntryRow<'_>) -> Self {
        Self {
            row_id: entry_row.row_id,
            named: entry_row.named(),
            key: halves(entry_row.summary.key()),
            from_page: entry_row.summary.has(RowFlag::FromPage),
            is_read: entry_row.summary.raw == 0,
        }
    }

    fn key(&self) -> u128 {
        key_of(self.key)
    }
}

/// Appends to a list that may become very long: it grows by a quarter, not to twice its size.
fn extend<T>(list: &mut Vec<T>, more: Vec<T>) {
    if list.capacity() - list.len() < more.len() {
        list.reserve_exact(more.len().max(list.len() / 4));
    }
    list.extend(more);
}

fn is_listed(entry_row: &EntryRow<'_>) -> bool {
    matches!(entry_row.verdict(), Verdict::Kept(_))
}

/// Fingerprints of what the translations of an entry share with it: their group, and their path without the language; 0
/// if it has none.
fn words(contribution: &Contribution<'_>, settings: &AlternatesSettings) -> [u64; 2] {
    let group = contribution.language_group.as_deref().map_or(0, |word| word_print(word, 0));
    let path = match settings.paths.is_empty() {
        true => None,
        false => settings.split(address::path(&contribution.url)),
    };
    [group, path.map_or(0, |(_, rest)| word_print(rest, 1))]
}

/// The blocking keys of a row: entries that share none of them, directly or through others, are in different groups.
/// First comes the [`short_key`] of the row itself.
pub(super) fn blocking_keys(
    contribution: &Contribution<'_>,
    settings: &AlternatesSettings,
    seed: u64,
) -> impl Iterator<Item = u32> {
    let own = short_key(fingerprint::key(seed, &contribution.url));
    let words = words(contribution, settings).into_iter().filter(|word| *word != 0).map(|word| (word >> 32) as u32);
    let links = contribution.alternates.iter().map(move |link| short_key(fingerprint::key(seed, &link.url)));
    [own].into_iter().chain(words).chain(links)
}

/// A fingerprint of a word that entries share, of this kind; never 0.
fn word_print(word: &str, kind: u64) -> u64 {
    fingerprint::raw(word.as_bytes(), kind).max(1)
}

/// Divides clusters into batches of about [`BATCH`] entries.
fn batches(mut clusters: &[(u32, u32)]) -> impl Iterator<Item = Vec<u32>> {
    std::iter::from_fn(move || {
        let (root, _) = *clusters.get(BATCH.min(clusters.len()).checked_sub(1)?)?;
        let end = clusters.partition_point(|(other, _)| *other <= root);
        let (batch, rest) = clusters.split_at(end);
        clusters = rest;
        Some(batch.iter().map(|(_, at)| *at).collect())
    })
}

/// A union-find forest: for each speaker the index of another of its cluster, or its own. The smallest is the root.
struct Forest(Vec<u32>);

impl Forest {
    fn root(&mut self, speaker: u32) -> u32 {
        let parents = &mut self.0;
        let mut at = speaker as usize;
        while parents[at] as usize != at {
            parents[at] = parents[parents[at] as usize];
            at = parents[at] as usize;
        }
        at as u32
    }

    fn unite(&mut self, one: u32, other: u32) {
        let (one, other) = (self.root(one), self.root(other));
        self.0[one.max(other) as usize] = one.min(other);
    }
}

/// What an entry says about its group, and nothing else.
struct Speaking {
    url: String,
    language: Option<String>,
    group: Option<String>,
    alternates: Vec<Alternate<'static>>,
}

impl Speaking {
    fn of(contribution: Contribution<'static>) -> Self {
        let Contribution { url, language, language_group, alternates, .. } = contribution;
        let own = Cow::into_owned;
        Self { url: own(url), language: language.map(own), group: language_group.map(own), alternates }
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
