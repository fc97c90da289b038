//! Counting crawlers' visits. All counts are sums, first and last instants, so that neither the order of lines nor the
//! number of threads matters.

use std::collections::{BTreeSet, HashMap};
use std::ops::Range;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering::Relaxed};

use atlas_core::uptake::log::{LogLine, product_token};
use atlas_core::uptake::request::{self, RequestKind};
use foldhash::fast::RandomState;
use serde::{Deserialize, Serialize};

use super::crawlers::{CrawlerName, CrawlerSettings, Crawlers, MOST_CRAWLERS};
use super::read_logs::LogsRead;
use super::subjects::Subjects;
use super::times::RunTimes;
use crate::error::StoreError;
use crate::ledger::{Ledger, Writing};
use crate::model::{OtherRecord, UptakePart, VisitRecord};

/// How many requests are looked up together.
const BATCH: usize = 64;
/// The most user agents whose crawler is remembered by each thread.
const MOST_AGENTS: usize = 20_000;
/// The most URLs that no sitemap lists that are counted apart.
const MOST_OTHERS: usize = 1 << 20;
/// Of how many of them the text is remembered.
const MOST_TEXTS: usize = 2_000;

/// The visits to one subject.
#[derive(Debug, Default)]
struct Slot {
    first: AtomicU32,
    since: AtomicU32,
    count: AtomicU32,
    /// The last visit and its status: the instant in the upper bits.
    last: AtomicU64,
    by: AtomicU64,
    slowest: AtomicU32,
    picked_up: AtomicU32,
    /// When it last changed, in seconds since 1970: beside the rest, so that counting looks at one place in memory.
    changed_at: u32,
}

/// Sets the earlier of two instants; 0 is none.
fn earliest(slot: &AtomicU32, seconds: u32) {
    // Wrapped around, none becomes the latest.
    let _ = slot
        .fetch_update(Relaxed, Relaxed, |known| (seconds.wrapping_sub(1) < known.wrapping_sub(1)).then_some(seconds));
}

/// What one crawler did.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub(super) struct CrawlerCounts {
    pub requests: u64,
    /// By kind, in the order of [`RequestKind::ALL`].
    pub kinds: [u64; RequestKind::ALL.len()],
    /// Answers of 400 and above.
    pub errors: u64,
    pub first: Option<i64>,
    pub last: Option<i64>,
}

impl CrawlerCounts {
    fn add(&mut self, other: &Self) {
        self.requests += other.requests;
        self.errors += other.errors;
        self.kinds.iter_mut().zip(other.kinds).for_each(|(kind, other)| *kind += other);
        self.first = [self.first, other.first].into_iter().flatten().min();
        self.last = self.last.max(other.last);
    }
}

/// What is stored of crawlers and logs.
#[derive(Debug, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
struct StoredVisits {
    logs: LogsRead,
    crawlers: Vec<(CrawlerName, CrawlerCounts)>,
    /// Some URLs that crawlers fetched and no sitemap lists.
    others: BTreeSet<String>,
}

/// All visits.
#[derive(Debug)]
pub struct Visits<'s> {
    subjects: &'s Subjects,
    slots: Vec<Slot>,
    crawlers: Crawlers,
    counts: Vec<CrawlerCounts>,
    /// When each subject changed, in seconds since 1970.
    times: RunTimes,
    /// URLs that engines' crawlers fetched and no sitemap lists, by tag: how often.
    others: Others,
    /// Some of them, as text.
    texts: BTreeSet<String>,
    /// What logs said.
    pub logs: LogsRead,
}

impl<'s> Visits<'s> {
    /// What the ledger remembers of visits to these subjects.
    ///
    /// # Errors
    ///
    /// Returns an error if the ledger cannot be read.
    pub fn read(ledger: &dyn Ledger, subjects: &'s Subjects, settings: &[CrawlerSettings]) -> Result<Self, StoreError> {
        let damaged = |_| StoreError::LedgerDamaged("what is known of crawlers cannot be read");
        let stored = ledger.visits(UptakePart::Logs)?;
        let stored: StoredVisits = match &stored[..] {
            [] => StoredVisits::default(),
            stored => serde_json::from_slice(stored).map_err(damaged)?,
        };
        let (names, counts): (Vec<CrawlerName>, Vec<CrawlerCounts>) = stored.crawlers.into_iter().unzip();
        let times = RunTimes::read(ledger)?;
        let slot = |at: u32| {
            let changed_at = times.run_at(subjects.changed(at)).clamp(0, i64::from(u32::MAX)) as u32;
            Slot { changed_at, ..Slot::default() }
        };
        let slots = (0..subjects.len() as u32).map(slot).collect();
        let others = ledger.visits(UptakePart::Others)?;
        let others = OtherRecord::read_all(&others)?.map(|one| (one.tag, one.count)).collect();
        let visits = Self {
            subjects,
            slots,
            crawlers: Crawlers::new(settings, names),
            counts,
            times,
            others,
            texts: stored.others,
            logs: stored.logs,
        };
        for record in VisitRecord::read_all(&ledger.visits(UptakePart::Visits)?)? {
            let Some(at) = subjects.find(record.tag) else { continue };
            let slot = &visits.slots[at as usize];
            slot.first.store(record.first, Relaxed);
            // What came before the last change tells nothing of it.
            let is_same = record.changed == subjects.changed(at);
            slot.since.store(if is_same { record.since } else { 0 }, Relaxed);
            slot.count.store(record.count, Relaxed);
            slot.last.store(packed(record.last, record.status), Relaxed);
            slot.slowest.store(record.slowest, Relaxed);
            slot.picked_up.store(record.picked_up, Relaxed);
            slot.by.store(record.by, Relaxed);
        }
        Ok(visits)
    }

    /// Begins to count lines on a thread of its own.
    pub fn worker(&self) -> Worker<'_> {
        Worker {
            visits: self,
            agents: HashMap::default(),
            buffer: String::new(),
            waiting: Vec::with_capacity(BATCH),
            addresses: String::new(),
            counts: Vec::new(),
            others: HashMap::default(),
            texts: HashMap::default(),
            logs: LogsRead::default(),
        }
    }

    /// Adds what a thread has counted.
    pub fn add(&mut self, counted: CountedLines) {
        let CountedLines { counts, others, texts, logs } = counted;
        self.counts.resize(self.counts.len().max(counts.len()), CrawlerCounts::default());
        self.counts.iter_mut().zip(&counts).for_each(|(known, new)| known.add(new));
        for (tag, count) in others {
            if self.others.len() < MOST_OTHERS || self.others.contains_key(&tag) {
                *self.others.entry(tag).or_default() += count;
            }
        }
        let room = MOST_TEXTS.saturating_sub(self.texts.len());
        self.texts.extend(texts.into_values().take(room));
        self.logs.add(&logs);
    }

    /// Records that an export named a subject as picked up at an instant.
    pub(super) fn picked_up(&self, at: u32, seconds: u32) {
        earliest(&self.slots[at as usize].picked_up, seconds);
    }

    /// The visits to a subject.
    pub(super) fn of(&self, at: u32) -> VisitRecord {
        let slot = &self.slots[at as usize];
        let last = slot.last.load(Relaxed);
        VisitRecord {
            tag: self.subjects.tags()[at as usize],
            first: slot.first.load(Relaxed),
            since: slot.since.load(Relaxed),
            changed: self.subjects.changed(at),
            count: slot.count.load(Relaxed),
            last: (last >> 16) as u32,
            status: last as u16,
            slowest: slot.slowest.load(Relaxed),
            picked_up: slot.picked_up.load(Relaxed),
            by: slot.by.load(Relaxed),
        }
    }

    /// All crawlers with their counts, and whether each counts as an engine's.
    pub(super) fn crawlers(&self) -> Vec<(CrawlerName, CrawlerCounts, bool)> {
        let names = self.crawlers.names().into_iter().enumerate();
        names
            .map(|(at, name)| {
                let counts = self.crawlers.counts(&name);
                (name, self.counts.get(at).cloned().unwrap_or_default(), counts)
            })
            .collect()
    }

    /// URLs that engines' crawlers fetched and no sitemap lists: how many, and the most visited of them.
    pub(super) fn others(&self) -> (u64, Vec<(&str, u32)>) {
        let is_listed = |tag: u64| self.subjects.find(tag).is_some();
        let count = self.others.keys().filter(|tag| !is_listed(**tag)).count() as u64;
        let requests = |url: &String| {
            let tag = self.subjects.tag_of(url);
            self.others.get(&tag).copied().filter(|_| !is_listed(tag))
        };
        let mut texts: Vec<(&str, u32)> =
            self.texts.iter().filter_map(|url| Some((url.as_str(), requests(url)?))).collect();
        texts.sort_by(|one, other| other.1.cmp(&one.1).then(one.0.cmp(other.0)));
        (count, texts)
    }

    /// When a subject last changed, in seconds since 1970; 0 if that is no longer remembered.
    pub(super) fn changed_at(&self, at: u32) -> i64 {
        i64::from(self.slots[at as usize].changed_at)
    }

    /// When runs were, and when engines were told of them.
    pub(super) fn times(&self) -> &RunTimes {
        &self.times
    }

    /// Remembers everything.
    ///
    /// # Errors
    ///
    /// Returns an error if the ledger cannot be written.
    pub fn keep(&self, writing: &dyn Writing) -> Result<(), StoreError> {
        let known = |record: &VisitRecord| record.count > 0 || record.by > 0 || record.picked_up > 0;
        let records = || (0..self.subjects.len() as u32).map(|at| self.of(at)).filter(known);
        let mut bytes = Vec::with_capacity(records().count() * VisitRecord::BYTES);
        records().for_each(|record| record.write(&mut bytes));
        writing.keep_visits(UptakePart::Visits, &bytes)?;
        let mut others: Vec<OtherRecord> =
            self.others.iter().map(|(tag, count)| OtherRecord { tag: *tag, count: *count }).collect();
        others.sort_unstable();
        bytes.clear();
        others.iter().for_each(|one| one.write(&mut bytes));
        writing.keep_visits(UptakePart::Others, &bytes)?;
        let crawlers = self.crawlers().into_iter().map(|(name, counts, _)| (name, counts)).collect();
        let stored = StoredVisits { logs: self.logs.clone(), crawlers, others: self.texts.clone() };
        let stored =
            serde_json::to_vec(&stored).map_err(|_| StoreError::LedgerDamaged("crawlers cannot be written"))?;
        writing.keep_visits(UptakePart::Logs, &stored)
    }
}

fn packed(seconds: u32, status: u16) -> u64 {
    u64::from(seconds) << 16 | u64::from(status)
}

/// URLs that no sitemap lists, by tag: how often each was asked for.
type Others = HashMap<u64, u32, RandomState>;

/// What a thread has counted.
#[derive(Debug)]
pub struct CountedLines {
    counts: Vec<CrawlerCounts>,
    others: Others,
    texts: HashMap<u64, String, RandomState>,
    logs: LogsRead,
}

/// Who a user agent is: its token, and its number if that does not depend on the address.
#[derive(Debug, Clone)]
struct Agent {
    token: String,
    number: Option<(usize, bool)>,
}

/// A request of a crawler that is still to be counted.
#[derive(Debug, Clone, Copy)]
struct PendingVisit {
    tag: u64,
    /// Where its address ends.
    end: usize,
    seconds: i64,
    took: Option<u32>,
    status: u16,
    /// The number of its crawler, and whether that is an engine's.
    number: u16,
    counts: bool,
}

/// Counts lines on one thread.
#[derive(Debug)]
pub struct Worker<'v> {
    visits: &'v Visits<'v>,
    agents: HashMap<Vec<u8>, Option<Agent>, RandomState>,
    buffer: String,
    /// Requests that are still to be counted, and their addresses, one behind the other.
    waiting: Vec<PendingVisit>,
    addresses: String,
    counts: Vec<CrawlerCounts>,
    others: Others,
    texts: HashMap<u64, String, RandomState>,
    logs: LogsRead,
}

impl Worker<'_> {
    /// Counts a line that cannot be read.
    pub fn broken(&mut self) {
        self.logs.lines += 1;
        self.logs.broken += 1;
    }

    /// Counts a line.
    pub fn line(&mut self, line: &LogLine<'_>) {
        self.logs.lines += 1;
        self.logs.at(line.seconds);
        let Some(agent) = line.agent else {
            self.logs.nameless += 1;
            return;
        };
        let known = match self.agents.get(agent) {
            Some(known) => known.as_ref(),
            None => {
                if self.agents.len() >= MOST_AGENTS {
                    self.agents.clear();
                }
                let found = recognised(&self.visits.crawlers, agent);
                self.agents.entry(agent.to_vec()).or_insert(found).as_ref()
            }
        };
        let Some(known) = known else { return };
        let (number, counts) = known.number.unwrap_or_else(|| {
            let crawlers = &self.visits.crawlers;
            let prefixes = crawlers.prefixes(&known.token);
            let verified = prefixes.map(|prefixes| line.address.is_some_and(|address| prefixes.hold(address)));
            number_of(crawlers, CrawlerName { token: known.token.clone(), verified })
        });
        self.visit(line, number, counts);
    }

    fn visit(&mut self, line: &LogLine<'_>, number: usize, counts: bool) {
        let subjects = self.visits.subjects;
        let is_ours = |host: &[u8]| host.eq_ignore_ascii_case(subjects.site().root().host().as_bytes());
        let is_ours = line.host.is_none_or(is_ours);
        let address = request::address_of(subjects.site(), line.target, &mut self.buffer).filter(|_| is_ours);
        let Some(address) = address else {
            self.logs.other_hosts += 1;
            return;
        };
        self.addresses.push_str(address);
        self.waiting.push(PendingVisit {
            tag: subjects.tag_of(address),
            end: self.addresses.len(),
            seconds: line.seconds,
            took: line.took,
            status: line.status,
            number: number as u16,
            counts,
        });
        if self.waiting.len() == BATCH {
            self.count_waiting();
        }
    }

    /// Counts what waits. All of it is looked up before any of it is counted: each look goes to another place in memory,
    /// and the processor waits for several at once.
    fn count_waiting(&mut self) {
        let subjects = self.visits.subjects;
        let mut found = [None; BATCH];
        for (found, one) in found.iter_mut().zip(&self.waiting) {
            *found = subjects.find(one.tag);
        }
        for (one, at) in self.waiting.iter().zip(found) {
            if let Some(at) = at {
                self.visits.count(at, one);
            }
        }
        let mut begin = 0;
        for (one, at) in std::mem::take(&mut self.waiting).iter().zip(found) {
            let address = begin..one.end;
            begin = one.end;
            self.tally(one, at, address);
        }
        self.waiting.reserve(BATCH);
        self.addresses.clear();
    }

    /// Adds a request to the counts of its crawler; of what is not listed, also to that URL.
    fn tally(&mut self, one: &PendingVisit, at: Option<u32>, address: Range<usize>) {
        let subjects = self.visits.subjects;
        let kind = match at {
            Some(at) => subjects.kind(at),
            None => {
                let address = &self.addresses[address];
                let kind = RequestKind::of_other(subjects.site().path(address), one.status);
                let is_page = matches!(kind, RequestKind::OtherPage | RequestKind::Parameters);
                let is_known = self.others.len() < MOST_OTHERS || self.others.contains_key(&one.tag);
                if one.counts && is_page && is_known {
                    *self.others.entry(one.tag).or_default() += 1;
                    if self.texts.len() < MOST_TEXTS && !self.texts.contains_key(&one.tag) {
                        self.texts.insert(one.tag, address.to_owned());
                    }
                }
                kind
            }
        };
        let number = usize::from(one.number);
        if self.counts.len() <= number {
            self.counts.resize(number + 1, CrawlerCounts::default());
        }
        let mine = &mut self.counts[number];
        mine.requests += 1;
        mine.kinds[kind as usize] += 1;
        mine.errors += u64::from(one.status >= 400);
        let seconds = Some(one.seconds);
        mine.first = [mine.first, seconds].into_iter().flatten().min();
        mine.last = mine.last.max(seconds);
    }

    /// What was counted.
    pub fn done(mut self) -> CountedLines {
        self.count_waiting();
        CountedLines { counts: self.counts, others: self.others, texts: self.texts, logs: self.logs }
    }
}

impl Visits<'_> {
    /// Counts a visit to a subject. Only engines' crawlers count; of others, only that they came.
    fn count(&self, at: u32, one: &PendingVisit) {
        let slot = &self.slots[at as usize];
        if usize::from(one.number) < MOST_CRAWLERS {
            let bit = 1 << one.number;
            if slot.by.load(Relaxed) & bit == 0 {
                slot.by.fetch_or(bit, Relaxed);
            }
        }
        if !one.counts {
            return;
        }
        let seconds = one.seconds.clamp(1, i64::from(u32::MAX)) as u32;
        slot.count.fetch_add(1, Relaxed);
        earliest(&slot.first, seconds);
        if seconds >= slot.changed_at {
            earliest(&slot.since, seconds);
        }
        slot.last.fetch_max(packed(seconds, one.status), Relaxed);
        if let Some(took) = one.took {
            slot.slowest.fetch_max(took, Relaxed);
        }
    }
}

fn number_of(crawlers: &Crawlers, name: CrawlerName) -> (usize, bool) {
    let counts = crawlers.counts(&name);
    (crawlers.number(name), counts)
}

/// The crawler behind a user agent; `None` for a browser.
fn recognised(crawlers: &Crawlers, agent: &[u8]) -> Option<Agent> {
    let token = product_token(agent)?;
    let number = match crawlers.prefixes(&token) {
        Some(_) => None,
        None => Some(number_of(crawlers, CrawlerName { token: token.clone(), verified: None })),
    };
    Some(Agent { token, number })
}
