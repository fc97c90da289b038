//! What searchers did: what was never shown, and what moved.

use std::collections::HashMap;

use atlas_core::lastmod::Lastmod;
use atlas_core::uptake::export::Subject;
use foldhash::fast::RandomState;

use super::overlay::{MOST_EXAMPLES, Overlaid};
use super::overview::{MovedUrl, Searches};
use super::worth::urls;

use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::NumbersRecord;

/// How many days are looked at.
const MOST_DAYS: usize = 100;
/// How many URLs are told that moved.
const MOST_MOVED: usize = 10;

/// What searchers did, by engine and subject.
pub(super) fn searches(overlaid: &Overlaid<'_>, ledger: &dyn Ledger) -> Result<Vec<Searches>, StoreError> {
    let mut all = Vec::new();
    for last in overlaid.looks.iter().filter(|last| last.look.subject != Subject::SitemapFiles) {
        let (engine, subject) = (&last.look.engine, last.look.subject);
        let days = ledger.numbers(engine, subject, MOST_DAYS)?;
        let (Some((newest, now)), Some((oldest, _))) = (days.first(), days.last()) else { continue };
        let shown_ever: HashMap<u64, (), RandomState> = days
            .iter()
            .flat_map(|(_, records)| records)
            .filter(|record| record.shown > 0 || record.clicked > 0 || record.position > 0.0)
            .map(|record| (record.tag, ()))
            .collect();
        let range = overlaid.subjects.range(subject);
        let never: Vec<u32> =
            range.filter(|at| !shown_ever.contains_key(&overlaid.subjects.tags()[*at as usize])).collect();
        let before = days.get(1).map_or(&[][..], |(_, records)| records);
        let moved = moved(before, now);
        let texts = texts(overlaid, ledger, subject, &never, &moved)?;
        let text = |tag: u64| texts.get(&tag).or_else(|| last.look.facts.strange.get(&tag)).cloned();
        let tag_at = |at: &u32| overlaid.subjects.tags()[*at as usize];
        let day = |day: i32| Lastmod::from_epoch_day(day).map_or(String::new(), |day| day.to_string());
        all.push(Searches {
            engine: engine.clone(),
            of: subject,
            days: (day(*oldest), day(*newest)),
            shown: now.iter().map(|record| u64::from(record.shown)).sum(),
            clicked: now.iter().map(|record| u64::from(record.clicked)).sum(),
            never_shown: never.len() as u64,
            never_shown_examples: never.iter().take(MOST_EXAMPLES).filter_map(|at| text(tag_at(at))).collect(),
            moved: moved.into_iter().filter_map(|(tag, moved)| Some(MovedUrl { url: text(tag)?, ..moved })).collect(),
        });
    }
    Ok(all)
}

/// The URLs whose numbers moved most, by tag.
fn moved(before: &[NumbersRecord], now: &[NumbersRecord]) -> Vec<(u64, MovedUrl)> {
    let before: HashMap<u64, &NumbersRecord, RandomState> = before.iter().map(|record| (record.tag, record)).collect();
    if before.is_empty() {
        return Vec::new();
    }
    let weight = |moved: &MovedUrl| {
        let shown = moved.shown.0.abs_diff(moved.shown.1);
        let position = moved.position.map_or(0.0, |(before, now)| (before - now).abs());
        (shown, position)
    };
    let mut all: Vec<(u64, MovedUrl)> = now
        .iter()
        .filter_map(|record| {
            let old = before.get(&record.tag)?;
            let position = (old.position > 0.0 && record.position > 0.0).then_some((old.position, record.position));
            Some((record.tag, MovedUrl { url: String::new(), shown: (old.shown, record.shown), position }))
        })
        .filter(|(_, moved)| weight(moved) > (0, 0.5))
        .collect();
    all.sort_by(|(tag, one), (other_tag, other)| {
        let ((shown, position), (other_shown, other_position)) = (weight(one), weight(other));
        other_shown.cmp(&shown).then(other_position.total_cmp(&position)).then(tag.cmp(other_tag))
    });
    all.truncate(MOST_MOVED);
    all
}

/// The URLs of the first pages that were never shown, and of those that moved, by tag.
fn texts(
    overlaid: &Overlaid<'_>,
    ledger: &dyn Ledger,
    subject: Subject,
    never: &[u32],
    moved: &[(u64, MovedUrl)],
) -> Result<HashMap<u64, String>, StoreError> {
    if subject != Subject::Pages {
        return Ok(HashMap::new());
    }
    let subjects = overlaid.subjects;
    let mut wanted: Vec<u32> = moved.iter().filter_map(|(tag, _)| subjects.find(*tag)).collect();
    wanted.extend(never.iter().take(MOST_EXAMPLES));
    let urls = urls(overlaid, ledger, &wanted)?;
    Ok(urls.into_iter().map(|(at, url)| (subjects.tags()[at as usize], url)).collect())
}
