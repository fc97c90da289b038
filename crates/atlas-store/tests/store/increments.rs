//! Sources that are asked for changes alone: the files are the same as if everything had been read.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

use atlas_core::choose::Reason;
use atlas_core::report::Increment;
use atlas_store::build::{Ended, build, survey};
use atlas_store::destination::{Gzip, InMemory};
use atlas_store::error::StoreError;
use atlas_store::report::Built;
use atlas_store::source::{Gathering, Source};
use jiff::SignedDuration;
use proptest::prelude::*;
use rstest::rstest;

use crate::histories::cases;
use crate::railway::{Day, MadePage, MadeRows, Pages, ROOT, Railway, day, live, url};
use crate::small::{Small, pages};

/// A row, and the day on which it changed.
type DatedRow = (String, MadePage, i64);

/// A table whose rows know when they changed.
#[derive(Clone, Default)]
struct ChangingTable {
    rows: Arc<Mutex<Vec<DatedRow>>>,
    /// How many rows were asked for.
    asked: Arc<AtomicU64>,
}

impl ChangingTable {
    fn of(rows: Vec<(String, MadePage)>, day: i64) -> Self {
        let depot = Self::default();
        rows.into_iter().for_each(|(url, page)| depot.set(&url, page, day));
        depot
    }

    /// Adds or changes a row.
    fn set(&self, url: &str, page: MadePage, day: i64) {
        let mut rows = self.rows.lock().unwrap();
        match rows.iter_mut().find(|row| row.0 == url) {
            Some(row) => *row = (url.to_owned(), page, day),
            None => rows.push((url.to_owned(), page, day)),
        }
    }

    fn edit(&self, url: &str, day: i64, edit: impl FnOnce(&mut MadePage)) {
        let page = self.rows.lock().unwrap().iter().find(|row| row.0 == url).map(|row| row.1.clone());
        let mut page = page.unwrap();
        edit(&mut page);
        self.set(url, page, day);
    }

    /// Takes a row out without a trace.
    fn delete(&self, url: &str) {
        self.rows.lock().unwrap().retain(|row| row.0 != url);
    }

    fn asked(&self) -> u64 {
        self.asked.swap(0, Ordering::Relaxed)
    }
}

/// The rows of such a table as a source.
struct ChangingRows {
    depot: ChangingTable,
    name: &'static str,
    full_every: Option<SignedDuration>,
    knows_rows: bool,
    fails: bool,
}

impl ChangingRows {
    /// Which can be asked for changes alone, and is read in full every four days.
    fn new(depot: &ChangingTable) -> Self {
        let full_every = Some(SignedDuration::from_hours(4 * 24));
        Self { depot: depot.clone(), name: "depot", full_every, knows_rows: true, fails: false }
    }

    fn boxed(self) -> Vec<Box<dyn Source>> {
        vec![Box::new(self)]
    }
}

impl Source for ChangingRows {
    fn name(&self) -> String {
        self.name.into()
    }

    fn settings(&self) -> u64 {
        0
    }

    fn knows_rows(&self) -> bool {
        self.knows_rows
    }

    fn yields_once(&self) -> bool {
        true
    }

    fn full_every(&self) -> Option<SignedDuration> {
        self.full_every
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let since = gathering.since().map_or(0, |since| since.as_second());
        let rows: Vec<_> =
            self.depot.rows.lock().unwrap().iter().filter(|row| row.2 * 86_400 >= since).cloned().collect();
        self.depot.asked.fetch_add(rows.len() as u64, Ordering::Relaxed);
        let rows = rows.into_iter().map(|(url, page, _)| (url, page)).collect();
        let rows = MadeRows::new("depot", rows);
        let rows = if self.knows_rows { rows } else { rows.read_anew() };
        rows.gather(gathering)?;
        match self.fails {
            true => Err(StoreError::Source { name: self.name(), why: "the connection was lost".into() }),
            false => Ok(()),
        }
    }
}

/// A small site with one table of forty halts, built once.
fn site() -> (Small, ChangingTable) {
    let site = Small::new();
    let depot = ChangingTable::of(pages("halts", 0..40), site.day);
    built(&site, ChangingRows::new(&depot));
    assert_eq!(depot.asked(), 40);
    (site, depot)
}

fn built(site: &Small, rows: ChangingRows) -> Built {
    built_of(site, &rows.boxed())
}

fn built_of(site: &Small, sources: &[Box<dyn Source>]) -> Built {
    match site.with_sources(sources, build).unwrap() {
        Ended::Built(built) => *built,
        Ended::Held(held) => panic!("{:?}", held.survey.held),
    }
}

/// The next day's build.
fn next(site: &mut Small, depot: &ChangingTable) -> Built {
    site.day += 1;
    built(site, ChangingRows::new(depot))
}

fn halt(number: u32) -> String {
    format!("{ROOT}halts/{number}/")
}

fn increment(built: &Built) -> Option<u64> {
    built.survey.sources[0].outcome.increment.as_ref().map(|Increment { stand, .. }| *stand)
}

fn remarks(built: &Built) -> String {
    built.survey.sources.iter().flat_map(|source| source.outcome.remarks.clone()).collect()
}

#[test]
fn a_change_costs_what_changed() {
    let (mut site, depot) = site();
    let quiet = next(&mut site, &depot);
    assert_eq!((depot.asked(), increment(&quiet)), (40, Some(0)), "the day on which it was read belongs to the next");
    let quiet = next(&mut site, &depot);
    assert_eq!((depot.asked(), increment(&quiet), quiet.survey.sources[0].kept), (0, Some(40), 40));
    assert!(quiet.written.is_empty());
    depot.edit(&halt(3), site.day + 1, |page| page.title = 9);
    depot.edit(&halt(4), site.day + 1, |page| page.gone = true);
    depot.set(&halt(90), pages("halts", 90..91)[0].1.clone(), site.day + 1);
    let moved = next(&mut site, &depot);
    let changes = &moved.survey.changes;
    assert_eq!((depot.asked(), increment(&moved), moved.survey.entries()), (3, Some(38), 40));
    assert_eq!(changes.changed.examples, [halt(3)]);
    assert_eq!((&changes.added.examples, &changes.left_out.examples), (&vec![halt(90)], &vec![halt(4)]));
    assert_eq!(moved.to_announce, 3);
    assert_eq!(
        moved.survey.left_out.iter().map(|one| (one.reason, one.counted.count)).collect::<Vec<_>>(),
        [(Reason::Gone, 1)]
    );
}

#[test]
fn what_left_without_a_trace_is_found_by_a_full_read() {
    let (mut site, depot) = site();
    depot.delete(&halt(7));
    for _ in 0..3 {
        assert_eq!(next(&mut site, &depot).survey.entries(), 40);
    }
    let full = next(&mut site, &depot);
    assert_eq!((full.survey.entries(), increment(&full)), (39, None));
    assert_eq!(full.survey.changes.removed.examples, [halt(7)]);
    assert_eq!(remarks(&full), "");
    // The four days begin anew.
    assert!(increment(&next(&mut site, &depot)).is_some());
}

#[test]
fn what_was_left_out_stays_known() {
    let (mut site, depot) = site();
    depot.edit(&halt(5), site.day + 1, |page| page.gone = true);
    next(&mut site, &depot);
    site.day += 1;
    let quiet = next(&mut site, &depot);
    assert_eq!(quiet.survey.left_out.iter().map(|one| one.counted.count).collect::<Vec<_>>(), [1]);
    depot.edit(&halt(5), site.day + 1, |page| page.gone = false);
    let back = next(&mut site, &depot);
    assert_eq!((back.survey.left_out.len(), back.survey.entries()), (0, 40));
}

#[test]
fn another_configuration_reads_everything() {
    let (mut site, depot) = site();
    site.urls_per_file = 20;
    let full = next(&mut site, &depot);
    assert_eq!((depot.asked(), increment(&full)), (40, None));
}

#[test]
fn a_survey_reads_everything_and_remembers_nothing() {
    let (mut site, depot) = site();
    site.day += 2;
    depot.edit(&halt(3), site.day, |page| page.title = 9);
    let seen = site.with_sources(&ChangingRows::new(&depot).boxed(), survey).unwrap();
    assert_eq!((depot.asked(), seen.entries()), (40, 40));
    assert_eq!(next(&mut site, &depot).survey.changes.changed.count, 1);
}

#[test]
fn a_source_that_fails_is_asked_again_for_the_same() {
    let (mut site, depot) = site();
    site.day += 2;
    depot.edit(&halt(3), site.day, |page| page.title = 9);
    let failed = built(&site, ChangingRows { fails: true, ..ChangingRows::new(&depot) });
    assert_eq!(failed.survey.entries(), 40);
    // It is asked from before the failed run, although that came after the change.
    site.day += 1;
    depot.edit(&halt(4), site.day - 1, |page| page.title = 9);
    let mended = built(&site, ChangingRows::new(&depot));
    assert!(increment(&mended).is_some());
    assert!(mended.survey.changes.changed.examples.contains(&halt(4)));
}

/// What failed is no reason to read the others in full from then on.
#[rstest]
#[case::nothing_changed(false)]
#[case::something_changed(true)]
fn a_source_that_fails_leaves_the_others_as_they_are(#[case] changed: bool) {
    let (mut site, depot) = site();
    let films = ChangingTable::of(pages("films", 0..5), site.day);
    let both = |fails: bool| -> Vec<Box<dyn Source>> {
        let films = ChangingRows { name: "films", fails, ..ChangingRows::new(&films) };
        vec![Box::new(ChangingRows::new(&depot)), Box::new(films)]
    };
    built_of(&site, &both(false));
    site.day += 2;
    if changed {
        depot.edit(&halt(3), site.day, |page| page.title = 9);
    }
    let failed = built_of(&site, &both(true));
    assert!(failed.survey.sources[1].outcome.failure.is_some());
    assert_eq!((failed.survey.entries(), remarks(&failed)), (45, String::new()));
    site.day += 1;
    depot.asked();
    let mended = built_of(&site, &both(false));
    assert_eq!((mended.survey.entries(), remarks(&mended)), (45, String::new()));
    assert!(increment(&mended).is_some() && depot.asked() <= 1);
}

#[test]
fn a_time_that_comes_is_not_missed() {
    let (mut site, depot) = site();
    depot.edit(&halt(6), site.day + 1, |page| page.published = 20_003);
    let gone = next(&mut site, &depot);
    assert_eq!((gone.survey.entries(), gone.survey.waiting.count), (39, 1));
    // Nothing about its row changes.
    let waits = next(&mut site, &depot);
    assert_eq!((waits.survey.entries(), waits.survey.waiting.soonest[0].url.clone()), (39, halt(6)));
    let due = next(&mut site, &depot);
    assert_eq!((due.survey.entries(), due.survey.waiting.count), (40, 0));
}

/// With another source that names the same pages, what one of them says cannot be left out.
#[rstest]
#[case::in_chunks(true)]
#[case::read_anew(false)]
fn pages_of_several_sources_are_read_in_full(#[case] knows_rows: bool) {
    let (mut site, depot) = site();
    let sources = |rows: Vec<(String, MadePage)>| -> Vec<Box<dyn Source>> {
        let other = MadeRows::new("other", rows);
        let other = if knows_rows { other } else { other.read_anew() };
        vec![Box::new(ChangingRows::new(&depot)), Box::new(other)]
    };
    site.day += 2;
    built_of(&site, &sources(pages("halts", 35..45)));
    site.day += 1;
    let built = built_of(&site, &sources(pages("halts", 36..45)));
    assert!(remarks(&built).contains("other sources name some of its pages"), "{}", remarks(&built));
    assert_eq!((built.survey.entries(), increment(&built)), (45, None));
    depot.asked();
    site.day += 1;
    let again = built_of(&site, &sources(pages("halts", 36..45)));
    assert_eq!((depot.asked(), again.survey.entries()), (40, 45), "it is not asked for changes first");
    // Once each has pages of its own, changes are enough, after some days.
    site.day += 4;
    built_of(&site, &sources(pages("halts", 40..45)));
    site.day += 1;
    let apart = built_of(&site, &sources(pages("halts", 40..44)));
    assert_eq!((apart.survey.entries(), increment(&apart)), (44, Some(40)));
}

#[test]
fn a_clock_that_went_back_reads_everything() {
    let (mut site, depot) = site();
    site.day -= 1;
    site.allow = vec![atlas_store::report::Guard::Clock];
    assert_eq!(increment(&built(&site, ChangingRows::new(&depot))), None);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(cases()))]

    /// Day after day, a site of which only changes are read has the same files as one that is read in full.
    #[test]
    fn changes_alone_make_the_same_site(
        days in proptest::collection::vec(day(), 1..14),
        gzip in prop_oneof![Just(Gzip::Beside), Just(Gzip::Only), Just(Gzip::Off)],
        knows_rows in any::<bool>(),
    ) {
        let (mut railway, mut twin) = (Railway::in_memory(gzip, &InMemory::default()), Railway::in_memory(gzip, &InMemory::default()));
        let (mut pages, mut next, mut limit) = (Pages::new(), 0, 10);
        let (depot, mut before) = (ChangingTable::default(), BTreeMap::<String, MadePage>::new());
        for day in std::iter::once(Day::Add(5)).chain(days) {
            railway.day += 1;
            twin.day += 1;
            live(&day, railway.day, &mut pages, &mut next, &mut limit);
            let row = |(number, page): (&u32, &MadePage)| (url(*number, page), page.clone());
            let now: BTreeMap<String, MadePage> = pages.iter().map(row).collect();
            for (url, page) in &now {
                if before.get(url) != Some(page) {
                    depot.set(url, page.clone(), railway.day);
                }
            }
            for url in before.keys().filter(|url| !now.contains_key(*url)) {
                depot.edit(url, railway.day, |page| page.gone = true);
            }
            before = now;
            let mine = railway.with_sources(&ChangingRows { knows_rows, ..ChangingRows::new(&depot) }.boxed(), limit, build).unwrap();
            let theirs = twin.with_sources(&ChangingRows { full_every: None, ..ChangingRows::new(&depot) }.boxed(), limit, build).unwrap();
            let (Ended::Built(mine), Ended::Built(theirs)) = (mine, theirs) else { continue };
            prop_assert_eq!(mine.survey.entries(), theirs.survey.entries());
            prop_assert_eq!(&mine.survey.changes, &theirs.survey.changes);
            for kind in ["pages", "images"] {
                prop_assert_eq!(railway.homes(kind), twin.homes(kind));
            }
            let (mine, theirs) = (railway.files(), twin.files());
            let differ = mine.keys().chain(theirs.keys()).filter(|name| mine.get(*name) != theirs.get(*name));
            // A file of articles that are no longer news lists the newest that were read, whichever those are.
            let is_fixed = |name: &&String| !(name.contains(".news-") || name.starts_with("sitemap"));
            let differ: Vec<&String> = differ.filter(is_fixed).collect();
            prop_assert!(differ.is_empty(), "{:?} {:?}", differ, day);
        }
    }
}
