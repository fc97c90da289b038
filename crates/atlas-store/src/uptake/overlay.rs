//! Laying visits and exports over what is listed: where each subject stands, as a whole, by section and by age.

use std::collections::HashMap;

use atlas_core::lastmod::Lastmod;
use atlas_core::uptake::export::Subject;
use atlas_core::uptake::standing::KnownUptake;
use foldhash::fast::RandomState;
use rayon::prelude::*;

use super::pages::PageKnowledge;
use super::subjects::Subjects;
use super::times::DAY;
use super::visits::Visits;
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::{ConsoleLook, LookRecord};

/// A year, in days.
const YEAR_DAYS: i64 = 365;
/// How many examples are told of anything.
pub(super) const MOST_EXAMPLES: usize = 20;

/// What an export says of a subject.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Said {
    /// Whether an engine has it; `None` if no export tells.
    pub picked_up: Option<bool>,
    /// The reason for which it is not picked up: the place of its look among [`Overlaid::looks`], and of the reason in
    /// it, both counted from 1; 0 if there is none.
    pub reason: (u8, u16),
}

/// The place of a record whose URL is not listed.
pub(super) const NOWHERE: u32 = u32::MAX;

impl LastLook {
    /// Each record with its subject.
    pub(super) fn placed(&self) -> impl Iterator<Item = (&LookRecord, Option<u32>)> {
        self.records.iter().zip(self.places.iter().map(|at| (*at != NOWHERE).then_some(*at)))
    }
}

/// The last exports of an engine of a subject, and the ones before.
#[derive(Debug)]
pub(super) struct LastLook {
    pub look: ConsoleLook,
    pub records: Vec<LookRecord>,
    /// The subject of each record, or [`NOWHERE`].
    pub places: Vec<u32>,
    pub before: Option<(ConsoleLook, Vec<LookRecord>)>,
}

/// Visits and exports laid over what is listed.
pub struct Overlaid<'s> {
    pub(super) subjects: &'s Subjects,
    pub(super) visits: &'s Visits<'s>,
    pub(super) knowledge: &'s PageKnowledge<'s>,
    pub(super) looks: Vec<LastLook>,
    pub(super) said: Vec<Said>,
    pub(super) has_logs: bool,
    pub(super) now: i64,
    pub(super) patience_days: u32,
    /// The day a year ago.
    pub(super) year_ago: String,
}

/// Lays visits and exports over what is listed, at an instant in seconds since 1970. What changed or was told less than
/// `patience_days` ago may wait.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn overlay<'s>(
    ledger: &dyn Ledger,
    (subjects, visits, knowledge): (&'s Subjects, &'s Visits<'s>, &'s PageKnowledge<'s>),
    now: i64,
    patience_days: u32,
) -> Result<Overlaid<'s>, StoreError> {
    let mut looks: Vec<LastLook> = Vec::new();
    for (id, look) in ledger.looks()? {
        let known =
            looks.iter_mut().find(|last| (&last.look.engine, last.look.subject) == (&look.engine, look.subject));
        match known {
            Some(last) if last.before.is_none() => last.before = Some((look, ledger.look_records(id)?)),
            Some(_) => {}
            None => {
                let records = ledger.look_records(id)?;
                let places = records.par_iter().map(|record| subjects.find(record.tag).unwrap_or(NOWHERE)).collect();
                looks.push(LastLook { look, records, places, before: None });
            }
        }
    }
    let mut overlaid = Overlaid {
        subjects,
        visits,
        knowledge,
        said: vec![Said::default(); subjects.len()],
        looks,
        has_logs: visits.logs.lines > 0,
        now,
        patience_days,
        year_ago: Lastmod::from_epoch_day((now / DAY - YEAR_DAYS) as i32).map_or(String::new(), |day| day.to_string()),
    };
    overlaid.hear();
    Ok(overlaid)
}

impl Overlaid<'_> {
    /// Hears what every export says.
    fn hear(&mut self) {
        for (nth, last) in self.looks.iter().enumerate() {
            let look = &last.look;
            if look.subject == Subject::SitemapFiles {
                continue;
            }
            let range = self.subjects.range(look.subject);
            if look.facts.is_whole {
                self.said[range.start as usize..range.end as usize]
                    .iter_mut()
                    .for_each(|said| said.picked_up = said.picked_up.or(Some(false)));
            }
            // Exports of pictures and videos may name the pages that show them.
            let by_page: HashMap<u32, LookRecord, RandomState> = match look.subject {
                Subject::Pages => HashMap::default(),
                _ => last.placed().filter_map(|(record, at)| Some((at?, *record))).collect(),
            };
            let mut say = |at: u32, record: &LookRecord| {
                let said = &mut self.said[at as usize];
                if record.picked_up {
                    *said = Said { picked_up: Some(true), reason: (0, 0) };
                } else if said.picked_up != Some(true) {
                    let reason = if record.reason > 0 { (nth.min(254) as u8 + 1, record.reason) } else { said.reason };
                    *said = Said { picked_up: Some(false), reason };
                }
            };
            for (record, at) in last.placed() {
                if let Some(at) = at.filter(|at| range.contains(at)) {
                    say(at, record);
                }
            }
            for at in range.filter(|_| !by_page.is_empty()) {
                if let Some(record) = by_page.get(&self.subjects.page_of(at)) {
                    say(at, record);
                }
            }
        }
    }

    /// When a subject last changed, in seconds since 1970; 0 if that is no longer remembered.
    pub(super) fn changed_at(&self, at: u32) -> i64 {
        self.visits.changed_at(at)
    }

    /// What is known of a subject.
    pub(super) fn known(&self, at: u32) -> KnownUptake {
        let visits = self.visits.of(at);
        let told_at = self.visits.times().told_at(self.subjects.changed(at));
        let begins = self.changed_at(at).max(told_at.unwrap_or(0));
        KnownUptake {
            fetched: visits.count > 0,
            error: visits.count > 0 && visits.status >= 400,
            picked_up: self.said[at as usize].picked_up,
            recent: self.now - begins < i64::from(self.patience_days) * DAY,
        }
    }

    /// Whether an export tells anything of a subject.
    pub(super) fn has_exports(&self, subject: Subject) -> bool {
        self.looks.iter().any(|last| last.look.subject == subject)
    }

    /// Whether an export tells that anything of a subject is picked up.
    pub(super) fn says_what_is_picked_up(&self, subject: Subject) -> bool {
        let mut looks = self.looks.iter().map(|last| &last.look).filter(|look| look.subject == subject);
        looks.any(|look| look.facts.is_whole || look.facts.picked_up > 0)
    }

    /// The words of an engine for not taking a subject.
    pub(super) fn reason(&self, at: u32) -> Option<&str> {
        let (look, reason) = self.said[at as usize].reason;
        let last = self.looks.get(usize::from(look).checked_sub(1)?)?;
        last.look.facts.reasons.get(usize::from(reason).checked_sub(1)?).map(|(words, _)| words.as_str())
    }

    /// Whether an export says of a page whether an engine has it.
    pub(super) fn tells_of_pages(&self) -> bool {
        self.has_exports(Subject::Pages)
    }
}
