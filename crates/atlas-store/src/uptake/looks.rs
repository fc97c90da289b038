//! What the exports of a console say, row by row.

use std::collections::{BTreeMap, HashMap, HashSet};

use atlas_core::address;
use atlas_core::uptake::export::{ReasonMeaning, Subject};
use foldhash::fast::RandomState;
use rayon::prelude::*;

use super::subjects::Subjects;
use super::times::DAY;
use super::visits::Visits;
use crate::error::StoreError;
use crate::ledger::Writing;
use crate::model::{ConsoleLook, LookFacts, LookRecord, NumbersRecord, SitemapFileLook};

/// How many URLs that no sitemap lists are remembered with their text.
const MOST_STRANGE: usize = 10_000;
/// The most different reasons that are told apart.
const MOST_REASONS: usize = 200;
/// The most sitemap files of which a console tells.
const MOST_FILES: usize = 50_000;

/// One row of an export.
#[derive(Debug, Clone, Copy, Default)]
pub struct ExportRow<'a> {
    /// The URL, or a path of the site.
    pub url: &'a str,
    /// Why it is in the index or not.
    pub reason: Option<&'a str>,
    /// The sitemap file through which the engine knows it.
    pub sitemap: Option<&'a str>,
    /// The date, in seconds since 1970.
    pub date: Option<i64>,
    /// How often it was shown.
    pub shown: Option<f64>,
    /// How often it was clicked.
    pub clicked: Option<f64>,
    /// Its average position.
    pub position: Option<f64>,
    /// Of a sitemap file: the URLs that were found.
    pub found: Option<f64>,
    /// Of a sitemap file: the URLs that are in the index.
    pub in_index: Option<f64>,
}

impl ExportRow<'_> {
    fn has_numbers(&self) -> bool {
        self.shown.is_some() || self.clicked.is_some() || self.position.is_some()
    }
}

/// Collects what the exports of one engine say of one subject.
#[derive(Debug)]
pub struct LookBuilder<'s> {
    subjects: &'s Subjects,
    engine: String,
    subject: Subject,
    at: i64,
    /// The words of reasons that mean “picked up”, if they are declared.
    words: Vec<String>,
    facts: LookFacts,
    reasons: HashMap<String, u16>,
    /// In the order of rows; a URL may occur several times.
    records: Vec<LookRecord>,
    numbers: BTreeMap<i32, HashMap<u64, NumbersRecord, RandomState>>,
    other_hosts: BTreeMap<String, u64>,
}

impl<'s> LookBuilder<'s> {
    /// For an engine and subject at an instant, in seconds since 1970; `words` are the reasons that mean “picked up”.
    pub fn new(subjects: &'s Subjects, engine: &str, subject: Subject, at: i64, words: &[String]) -> Self {
        Self {
            subjects,
            engine: engine.to_owned(),
            subject,
            at,
            words: words.to_vec(),
            facts: LookFacts::default(),
            reasons: HashMap::new(),
            records: Vec::new(),
            numbers: BTreeMap::new(),
            other_hosts: BTreeMap::new(),
        }
    }

    /// The engine, and what it is of.
    pub fn of(&self) -> (&str, Subject) {
        (&self.engine, self.subject)
    }

    /// Begins a file.
    pub fn file(&mut self, name: &str) {
        self.facts.files.push(name.to_owned());
    }

    /// Goes on from the numbers that are known of a day: those of other URLs stay.
    pub fn add_numbers(&mut self, day: i32, numbers: Vec<NumbersRecord>) {
        let Some(of_day) = self.numbers.get_mut(&day) else { return };
        for known in numbers {
            of_day.entry(known.tag).or_insert(known);
        }
    }

    /// Records that a file could not be read to its end: what it lacks may be in the index all the same.
    pub fn was_cut(&mut self) {
        self.facts.is_whole = false;
    }

    /// The rows so far, and the hosts of rows that are not of the site with the number of their rows.
    pub fn so_far(&self) -> (u64, &BTreeMap<String, u64>) {
        (self.facts.rows, &self.other_hosts)
    }

    /// Takes a row; `false` if its URL is not of the site. `lists_taken` tells that URLs without a reason are in the
    /// index; otherwise they are not.
    pub fn row(&mut self, row: &ExportRow<'_>, lists_taken: bool) -> bool {
        let site = self.subjects.site();
        let Ok(address) = site.address(row.url) else { return false };
        let address = address.as_str();
        if address::origin(address) != site.root().origin() && site.respelt(address).is_none() {
            let host = address::host(address).to_owned();
            if self.other_hosts.len() < MOST_REASONS || self.other_hosts.contains_key(&host) {
                *self.other_hosts.entry(host).or_default() += 1;
            }
            // Pictures and videos may be anywhere.
            let tag = self.subjects.tag_of(address);
            if self.subject == Subject::Pages || self.subjects.find(tag).is_none() {
                return false;
            }
        }
        self.facts.rows += 1;
        if self.subject == Subject::SitemapFiles {
            self.sitemap_file(address, row);
            return true;
        }
        let tag = self.subjects.tag_of(address);
        let (reason, picked_up) = match row.reason.map(str::trim).filter(|reason| !reason.is_empty()) {
            Some(reason) => self.reason(reason),
            None => (0, lists_taken),
        };
        self.facts.is_whole |= picked_up && !row.has_numbers();
        if let Some(sitemap) = row.sitemap.and_then(|sitemap| self.subjects.site().address(sitemap).ok()) {
            self.through(sitemap.as_str(), picked_up);
        }
        let date = row.date.map_or(0, |date| date.clamp(1, i64::from(u32::MAX)) as u32);
        self.records.push(LookRecord { tag, reason, picked_up, date });
        if row.has_numbers() {
            let day = row.date.unwrap_or(self.at).div_euclid(DAY) as i32;
            let of_day = self.numbers.entry(day).or_default();
            let known = of_day.entry(tag).or_insert(NumbersRecord { tag, ..NumbersRecord::default() });
            add(known, row);
        }
        if self.facts.strange.len() < MOST_STRANGE && self.subjects.find(tag).is_none() {
            self.facts.strange.insert(tag, address.to_owned());
        }
        true
    }

    fn through(&mut self, sitemap: &str, picked_up: bool) {
        if let Some((found, in_index)) = self.facts.through.get_mut(sitemap) {
            *found += 1;
            *in_index += u64::from(picked_up);
        } else if self.facts.through.len() < MOST_FILES {
            self.facts.through.insert(sitemap.to_owned(), (1, u64::from(picked_up)));
        }
    }

    fn sitemap_file(&mut self, address: &str, row: &ExportRow<'_>) {
        let number = |number: Option<f64>| number.filter(|number| *number >= 0.0).map(|number| number as u64);
        if self.facts.sitemap_files.len() < MOST_FILES {
            self.facts.sitemap_files.push(SitemapFileLook {
                address: address.to_owned(),
                read: row.date,
                found: number(row.found),
                in_index: number(row.in_index),
                words: row.reason.map(printable),
            });
        }
    }

    fn reason(&mut self, reason: &str) -> (u16, bool) {
        if let Some(at) = self.reasons.get(reason) {
            return (*at, self.facts.reasons[usize::from(*at) - 1].1);
        }
        let picked_up = ReasonMeaning::of(reason, &self.words) == ReasonMeaning::PickedUp;
        if self.facts.reasons.len() >= MOST_REASONS {
            return (0, picked_up);
        }
        self.facts.reasons.push((printable(reason), picked_up));
        let at = self.facts.reasons.len() as u16;
        self.reasons.insert(reason.to_owned(), at);
        (at, picked_up)
    }

    /// Adds what another file of the same engine and subject says.
    pub fn merge(&mut self, other: Self) {
        let places: Vec<u16> = other.facts.reasons.iter().map(|(reason, _)| self.reason(reason).0).collect();
        let place = |reason: u16| usize::from(reason).checked_sub(1).map_or(0, |at| places[at]);
        self.facts.files.extend(other.facts.files);
        self.facts.rows += other.facts.rows;
        self.facts.is_whole |= other.facts.is_whole;
        self.facts.sitemap_files.extend(other.facts.sitemap_files);
        for (sitemap, (found, in_index)) in other.facts.through {
            let known = self.facts.through.entry(sitemap).or_default();
            *known = (known.0 + found, known.1 + in_index);
        }
        let room = MOST_STRANGE.saturating_sub(self.facts.strange.len());
        self.facts.strange.extend(other.facts.strange.into_iter().take(room));
        let records = other.records.into_iter();
        self.records.extend(records.map(|record| LookRecord { reason: place(record.reason), ..record }));
        for (day, numbers) in other.numbers {
            self.numbers.entry(day).or_default().extend(numbers);
        }
        for (host, rows) in other.other_hosts {
            *self.other_hosts.entry(host).or_default() += rows;
        }
    }

    /// Goes on from what the exports of the same engine and subject said before. What is not an export of everything in
    /// the index adds to what is known; a new one of everything still lacks the reasons that were given on the same day.
    pub fn go_on_from(&mut self, earlier: &ConsoleLook, records: Vec<LookRecord>) {
        if self.facts.is_whole && self.at - earlier.at >= DAY {
            return;
        }
        let own: HashSet<u64, RandomState> = self.records.iter().map(|record| record.tag).collect();
        let places: Vec<u16> = earlier.facts.reasons.iter().map(|(reason, _)| self.reason(reason).0).collect();
        let place = |reason: u16| usize::from(reason).checked_sub(1).map_or(0, |at| places[at]);
        for record in records {
            if own.contains(&record.tag) || (self.facts.is_whole && record.picked_up) {
                continue;
            }
            self.records.push(LookRecord { reason: place(record.reason), ..record });
            if let Some(url) =
                earlier.facts.strange.get(&record.tag).filter(|_| self.facts.strange.len() < MOST_STRANGE)
            {
                self.facts.strange.insert(record.tag, url.clone());
            }
        }
        self.facts.is_whole |= earlier.facts.is_whole;
    }

    /// Remembers it, and since when each subject is picked up.
    ///
    /// # Errors
    ///
    /// Returns an error if the ledger cannot be written.
    pub fn keep(mut self, writing: &dyn Writing, visits: &Visits<'_>) -> Result<(), StoreError> {
        let records = merged(std::mem::take(&mut self.records));
        let at = self.at.clamp(1, i64::from(u32::MAX)) as u32;
        for record in records.iter().filter(|record| record.picked_up) {
            self.facts.picked_up += 1;
            if let Some(subject) = self.subjects.find(record.tag) {
                visits.picked_up(subject, at);
            }
        }
        for (day, numbers) in self.numbers {
            let mut numbers: Vec<NumbersRecord> = numbers.into_values().collect();
            numbers.sort_unstable_by_key(|one| one.tag);
            writing.keep_numbers(&self.engine, self.subject, day, &numbers)?;
        }
        writing.add_look(
            &ConsoleLook { engine: self.engine, subject: self.subject, at: self.at, facts: self.facts },
            &records,
        )
    }
}

/// A console's words, without what would change a terminal.
fn printable(words: &str) -> String {
    words.chars().map(|letter| if letter.is_control() { '\u{fffd}' } else { letter }).collect()
}

/// One record for each URL. Of several, one with a reason says more than one without; else the last counts, with the
/// latest date.
fn merged(mut records: Vec<LookRecord>) -> Vec<LookRecord> {
    records.par_sort_by_key(|record| record.tag);
    records.dedup_by(|next, kept| {
        let is_same = next.tag == kept.tag;
        if is_same {
            let date = next.date.max(kept.date);
            if next.reason > 0 || kept.reason == 0 {
                *kept = *next;
            }
            kept.date = date;
        }
        is_same
    });
    records
}

/// Adds the numbers of a row: sums, and the position as an average over what was shown.
fn add(known: &mut NumbersRecord, row: &ExportRow<'_>) {
    let number = |number: Option<f64>| number.unwrap_or(0.0).clamp(0.0, f64::from(u32::MAX)) as u32;
    let (shown, clicked) = (number(row.shown), number(row.clicked));
    if let Some(position) = row.position.filter(|position| *position > 0.0) {
        let (before, now) = (f64::from(known.shown), f64::from(shown.max(1)));
        let before = if known.position > 0.0 { before.max(1.0) } else { 0.0 };
        known.position = ((f64::from(known.position) * before + position * now) / (before + now)) as f32;
    }
    known.shown = known.shown.saturating_add(shown);
    known.clicked = known.clicked.saturating_add(clicked);
}
