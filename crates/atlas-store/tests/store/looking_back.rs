//! Visits and exports laid over what is listed, compared with plain models of both.

use std::collections::{BTreeMap, BTreeSet};

use atlas_core::address::Site;
use atlas_core::page::PageReader;
use atlas_core::uptake::export::Subject;
use atlas_core::uptake::log::LogLine;
use atlas_core::uptake::standing::PageState;
use atlas_store::destination::Names;
use atlas_store::ledger::Ledger;
use atlas_store::model::UptakePart;
use atlas_store::site_state::site_state;
use atlas_store::uptake::{
    ExportRow, LogMark, LogsRead, LookBuilder, Overlaid, Overview, PageKnowledge, PageUptake, Subjects, Visits, overlay,
};
use proptest::prelude::*;
use rstest::rstest;

use crate::railway::ROOT;
use crate::small::{Small, pages};

const PAGES: u32 = 9;
const DAY: i64 = 86_400;
/// When the site was built.
const BUILT: i64 = 20_000 * DAY;
/// When it is looked at.
const NOW: i64 = BUILT + 40 * DAY;

fn url(page: u32) -> String {
    format!("{ROOT}halts/{page}/")
}

fn small() -> Small {
    let small = Small { urls_per_file: 4, ..Small::new() };
    small.build(&pages("halts", 0..PAGES));
    small
}

fn subjects(ledger: &dyn Ledger) -> Subjects {
    Subjects::read(ledger, &Site::parse(ROOT).unwrap(), &Names::of(ROOT)).unwrap()
}

fn laid_over<T>(ledger: &dyn Ledger, then: impl FnOnce(&Overlaid<'_>) -> T) -> T {
    let subjects = subjects(ledger);
    let visits = Visits::read(ledger, &subjects, &[]).unwrap();
    let reader = PageReader::default();
    let knowledge = PageKnowledge::read(ledger, &subjects, &[], (&reader, 100)).unwrap();
    then(&overlay(ledger, (&subjects, &visits, &knowledge), NOW, 3).unwrap())
}

fn overview(ledger: &dyn Ledger) -> Overview {
    laid_over(ledger, |overlaid| overlaid.overview(ledger, &Names::of(ROOT)).unwrap())
}

fn listed(ledger: &dyn Ledger) -> BTreeMap<String, PageUptake> {
    let pages = laid_over(ledger, |overlaid| overlaid.pages(ledger, &|_| true).unwrap());
    pages.into_iter().map(|page| (page.url.clone(), page)).collect()
}

/// A request: the page, the crawler, the second, the status.
type Asked = (u32, u8, u32, u16);

fn asked() -> impl Strategy<Value = Vec<Asked>> {
    // Pages beyond the last are not listed. No two requests are in the same second, so that the last is one.
    let one = (0..PAGES + 3, 0u8..3, prop::sample::select(vec![200u16, 304, 404, 500]));
    prop::collection::vec(one, 0..60).prop_map(|all| {
        let numbered = all.into_iter().zip(1..);
        numbered.map(|((page, crawler, status), second)| (page, crawler, second, status)).collect()
    })
}

const AGENTS: [&str; 3] =
    ["lampbot/1.0", "Mozilla/5.0 (compatible; wickbot/2; +http://wick.example)", "Mozilla/5.0 (X11)"];

/// Counts requests, divided among some threads, and remembers them.
fn count(ledger: &mut dyn Ledger, parts: &[&[Asked]]) {
    let subjects = subjects(ledger);
    let mut visits = Visits::read(ledger, &subjects, &[]).unwrap();
    let counted: Vec<_> = parts
        .iter()
        .map(|part| {
            let mut worker = visits.worker();
            for (page, crawler, second, status) in *part {
                let target = format!("/halts/{page}/");
                worker.line(&LogLine {
                    address: None,
                    seconds: BUILT + i64::from(*second),
                    host: None,
                    target: target.as_bytes(),
                    status: *status,
                    agent: Some(AGENTS[usize::from(*crawler)].as_bytes()),
                    took: None,
                });
            }
            worker.done()
        })
        .collect();
    counted.into_iter().for_each(|one| visits.add(one));
    let writing = ledger.transaction().unwrap();
    visits.keep(&*writing).unwrap();
    writing.commit().unwrap();
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn visits_are_those_of_a_plain_model(all in asked(), cuts in prop::collection::vec(0usize..60, 3)) {
        let small = small();
        let mut ledger = small.ledger();
        let mut shuffled = all.clone();
        shuffled.reverse();
        let cut = |nth: usize| cuts[nth].min(shuffled.len());
        let (first, rest) = shuffled.split_at(cut(0));
        let (one, other) = rest.split_at(cut(1).min(rest.len()));
        // In two goes, the second on two threads.
        count(&mut *ledger, &[first]);
        count(&mut *ledger, &[one, other]);
        let pages = listed(&*ledger);
        prop_assert_eq!(pages.len(), PAGES as usize);
        for page in 0..PAGES {
            let of_it: Vec<&Asked> = all.iter().filter(|one| one.0 == page && one.1 < 2).collect();
            let told = &pages[&url(page)];
            prop_assert_eq!(told.visits as usize, of_it.len());
            prop_assert_eq!(told.first_visit, of_it.first().map(|one| BUILT + i64::from(one.2)));
            prop_assert_eq!(told.last_visit, of_it.last().map(|one| BUILT + i64::from(one.2)));
            prop_assert_eq!(told.status, of_it.last().map(|one| one.3));
            let by: BTreeSet<&str> = of_it.iter().map(|one| ["lampbot", "wickbot"][usize::from(one.1)]).collect();
            let told: BTreeSet<&str> = told.crawlers.iter().map(String::as_str).collect();
            prop_assert_eq!(told, by);
        }
        let overview = overview(&*ledger);
        let crawlers = all.iter().filter(|one| one.1 < 2);
        prop_assert_eq!(overview.crawlers.iter().map(|one| one.requests).sum::<u64>(), crawlers.clone().count() as u64);
        let requests: u64 = overview.crawl.iter().map(|one| one.requests).sum();
        prop_assert_eq!(requests, crawlers.clone().count() as u64);
        let unlisted: BTreeSet<u32> = crawlers.filter(|one| one.0 >= PAGES && one.3 < 400).map(|one| one.0).collect();
        let wanted = (!all.is_empty()).then_some(unlisted.len() as u64);
        prop_assert_eq!(overview.totals.fetched_not_listed, wanted);
    }
}

/// Takes an export of pages: each with its reason, if it has one.
fn take(ledger: &mut dyn Ledger, at: i64, rows: &[(u32, Option<&str>)], lists_taken: bool) {
    let subjects = subjects(ledger);
    let visits = Visits::read(ledger, &subjects, &[]).unwrap();
    let mut look = LookBuilder::new(&subjects, "lamp", Subject::Pages, at, &[]);
    for (page, reason) in rows {
        let row = ExportRow { url: &url(*page), reason: *reason, ..ExportRow::default() };
        assert!(look.row(&row, lists_taken));
    }
    let before = ledger.looks().unwrap();
    if let Some((id, earlier)) = before.first() {
        look.go_on_from(earlier, ledger.look_records(*id).unwrap());
    }
    let writing = ledger.transaction().unwrap();
    look.keep(&*writing, &visits).unwrap();
    writing.commit().unwrap();
}

fn states(ledger: &dyn Ledger) -> String {
    let pages = listed(ledger);
    let letter = |state: PageState| match state {
        PageState::PickedUp => '+',
        PageState::NotPickedUp => '-',
        PageState::Unknown => '?',
        other => panic!("{other:?}"),
    };
    (0..PAGES).map(|page| letter(pages[&url(page)].state)).collect()
}

const NOT: Option<&str> = Some("Fetched, not indexed");
const YES: Option<&str> = Some("Indexed");

#[test]
fn an_export_of_everything_says_by_its_silence_that_the_rest_is_not_in() {
    let small = small();
    let mut ledger = small.ledger();
    take(&mut *ledger, NOW, &[(0, YES), (1, YES), (2, NOT)], true);
    assert_eq!(states(&*ledger), "++-------");
}

#[test]
fn one_of_reasons_alone_says_nothing_of_the_rest_and_adds_to_what_is_known() {
    let small = small();
    let mut ledger = small.ledger();
    take(&mut *ledger, NOW - 9 * DAY, &[(2, NOT)], true);
    assert_eq!(states(&*ledger), "??-??????");
    take(&mut *ledger, NOW - 8 * DAY, &[(0, None), (1, None), (2, None), (3, None)], true);
    assert_eq!(states(&*ledger), "++++-----");
    take(&mut *ledger, NOW, &[(3, NOT)], true);
    assert_eq!(states(&*ledger), "+++------");
    assert_eq!(listed(&*ledger)[&url(3)].reason.as_deref(), NOT);
}

#[test]
fn several_rows_of_one_url_are_one() {
    let small = small();
    let mut ledger = small.ledger();
    take(&mut *ledger, NOW, &[(0, None), (0, NOT), (1, NOT), (1, YES), (2, NOT), (2, None)], true);
    assert_eq!(states(&*ledger), "-+-------");
    let looks = ledger.looks().unwrap();
    assert_eq!((looks[0].1.facts.rows, looks[0].1.facts.picked_up), (6, 1));
    assert_eq!(ledger.look_records(looks[0].0).unwrap().len(), 3);
}

#[test]
fn what_has_left_is_not_laid_over() {
    let small = small();
    let mut ledger = small.ledger();
    count(&mut *ledger, &[&[(0, 0, 1, 200), (8, 0, 2, 200)]]);
    take(&mut *ledger, NOW, &[(0, YES), (8, YES)], true);
    drop(ledger);
    let small = Small { day: 20_001, allow: vec![atlas_store::report::Guard::Shrink], ..small };
    small.build(&pages("halts", 0..8));
    let ledger = small.ledger();
    let overview = overview(&*ledger);
    assert_eq!((overview.totals.submitted, overview.totals.fetched), (8, Some(1)));
    assert_eq!((overview.totals.picked_up, overview.totals.picked_up_not_listed), (Some(1), Some(1)));
}

#[test]
fn a_change_begins_the_wait_anew() {
    let small = small();
    let mut ledger = small.ledger();
    take(&mut *ledger, NOW, &[(0, YES)], true);
    drop(ledger);
    let mut rows = pages("halts", 0..PAGES);
    rows[5].1.title = 7;
    let small = Small { day: 20_039, ..small };
    small.build(&rows);
    let ledger = small.ledger();
    let states: Vec<PageState> = (4..7).map(|page| listed(&*ledger)[&url(page)].state).collect();
    assert_eq!(states, [PageState::NotPickedUp, PageState::Waiting, PageState::NotPickedUp]);
}

#[test]
fn one_page_is_found_in_whatever_file_it_is() {
    let small = small();
    let mut ledger = small.ledger();
    count(&mut *ledger, &[&[(3, 0, 1, 200), (4, 0, 2, 404), (8, 1, 3, 200)]]);
    for page in 0..PAGES {
        let found = laid_over(&*ledger, |overlaid| overlaid.of_page(&*ledger, &url(page)).unwrap()).unwrap();
        assert_eq!((found.url, found.visits > 0), (url(page), [3, 4, 8].contains(&page)));
    }
    assert_eq!(laid_over(&*ledger, |overlaid| overlaid.of_page(&*ledger, &url(PAGES)).unwrap()), None);
    // The error comes first.
    assert_eq!(overview(&*ledger).worth_looking_at[0].url, url(4));
}

#[rstest]
#[case::few(4, 4)]
#[case::one_of_each(1, 1)]
#[case::none(0, 0)]
#[case::all(100, 9)]
fn the_state_of_the_site_has_samples(#[case] samples: usize, #[case] most: usize) {
    let small = small();
    let state = site_state(&*small.ledger(), &Names::of(ROOT), NOW, samples).unwrap();
    assert_eq!(state.files.iter().map(|file| file.entries).collect::<Vec<_>>(), [4, 4, 1]);
    let some: Vec<&String> = state.files.iter().flat_map(|file| &file.some).map(|entry| &entry.url).collect();
    assert!(some.len() <= most && (samples < 100 || some.len() == most), "{some:?}");
    assert_eq!(state.sections[0].pages, u64::from(PAGES));
    assert_eq!(state.ages.iter().map(|age| age.pages).sum::<u64>() + state.undated, u64::from(PAGES));
    assert_eq!((state.files[0].percent_full, state.files[2].percent_full), (100, 25));
}

#[test]
fn a_log_is_recognised_by_its_furthest_mark() {
    let mut logs = LogsRead::default();
    let mark = |first_line: u64, bytes: u64| LogMark { first_line, bytes, end: bytes * 7 };
    [mark(1, 100), mark(2, 50), mark(1, 300), mark(1, 200)].into_iter().for_each(|mark| logs.mark(mark));
    assert_eq!(logs.marks_of(1), [mark(1, 300), mark(1, 200)]);
    assert_eq!(logs.marks_of(3), []);
}

#[test]
fn damage_is_an_error() {
    let small = small();
    let mut ledger = small.ledger();
    count(&mut *ledger, &[&[(3, 0, 1, 200)]]);
    let writing = ledger.transaction().unwrap();
    writing.keep_visits(UptakePart::Visits, b"half a record").unwrap();
    writing.commit().unwrap();
    assert!(Visits::read(&*ledger, &subjects(&*ledger), &[]).is_err());
}
