//! Builds over long random histories: the files on disk always match the sources, and entries stay where they are.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::fs;

use atlas_core::announce::{Change, EngineState};
use atlas_store::build::survey;
use atlas_store::destination::{Gzip, InMemory};
use atlas_store::ledger::pending;
use atlas_store::model::Pending;
use proptest::prelude::*;
use rstest::rstest;

use crate::railway::{Day, MadePage, Pages, Railway, day, live, railway_of, url};

/// The number of histories: more with `HISTORIES=500 cargo test -p atlas-store --test store`.
pub fn cases() -> u32 {
    std::env::var("HISTORIES").ok().and_then(|text| text.parse().ok()).unwrap_or(16)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(cases()))]

    #[test]
    fn what_is_listed_is_what_the_sources_say(
        days in proptest::collection::vec(day(), 1..14),
        gzip in prop_oneof![Just(Gzip::Beside), Just(Gzip::Only), Just(Gzip::Off)],
    ) {
        // Its twin is in memory.
        let (mut railway, mut twin) = (Railway::new(gzip), Railway::in_memory(gzip, &InMemory::default()));
        let (mut pages, mut next, mut limit) = (Pages::new(), 0, 10);
        let mut before: BTreeMap<String, String> = BTreeMap::new();
        let mut sections = BTreeMap::new();
        for day in std::iter::once(Day::Add(5)).chain(days) {
            railway.day += 1;
            twin.day += 1;
            live(&day, railway.day, &mut pages, &mut next, &mut limit);
            if let Day::Lose(which) = &day {
                // A file that is listed: those that left the index are not restored.
                let live: BTreeSet<&String> = before.values().collect();
                if let Some(name) = live.iter().nth(usize::from(*which) % live.len().max(1)) {
                    fs::remove_file(railway.folder.path().join("public").join(name)).unwrap();
                }
            }
            let built = railway.build(&pages, limit);
            if pages.is_empty() {
                // The build was held, and a lost file comes back with the next build.
                prop_assert!(built.is_none());
                before.clear();
                continue;
            }
            let built = built.unwrap();
            let homes = railway.homes("pages");
            let wanted: BTreeSet<String> = pages.iter().map(|(number, page)| url(*number, page)).collect();
            prop_assert_eq!(homes.keys().cloned().collect::<BTreeSet<_>>(), wanted);
            let of = |wanted: &dyn Fn(&MadePage) -> bool| -> BTreeSet<String> {
                pages.iter().filter(|(_, page)| wanted(page)).map(|(number, page)| url(*number, page)).collect()
            };
            let with_pictures = of(&|page| page.section == "halts" && page.pictures > 0);
            prop_assert_eq!(railway.homes("images").into_keys().collect::<BTreeSet<_>>(), with_pictures);
            let news = of(&|page| page.is_news(railway.day));
            let listed = railway.homes("news");
            if news.is_empty() {
                // The news file lists the newest anyway: some that it listed before, or those that were read.
                let halts = of(&|page| page.section == "halts");
                prop_assert!(listed.len() <= 10 && listed.is_empty() == halts.is_empty(), "{:?}", listed);
                prop_assert!(listed.keys().all(|url| halts.contains(url)), "{:?}", listed);
            } else {
                prop_assert_eq!(listed.keys().cloned().collect::<BTreeSet<_>>(), news);
            }
            prop_assert!(listed.is_empty() || listed.values().any(|name| name.contains("news-1.")), "{:?}", listed);
            let retired: HashSet<&str> = built.retired.iter().map(String::as_str).collect();
            for (number, page) in &pages {
                let url = url(*number, page);
                let home = &homes[&url];
                prop_assert!(home == "sitemap.xml" || home.starts_with(&format!("atlas-{}-", page.section)), "{} in {}", url, home);
                // It may have moved only with its section, out of a folded file, or because limits changed.
                let stayed = sections.get(number) == Some(&page.section) && !matches!(day, Day::Limit(_));
                if let Some(old) = before.get(&url).filter(|old| stayed && !retired.contains(old.as_str()) && *old != "sitemap.xml") {
                    prop_assert_eq!(old, home, "{} moved without cause", url);
                }
            }
            if matches!(day, Day::Lose(_)) {
                prop_assert_eq!(built.survey.changes.changed.count + built.survey.changes.added.count, 0);
            }
            // Another ledger with the same history, which lost no file, has the same files.
            twin.build(&pages, limit).unwrap();
            let (mine, theirs) = (railway.files(), twin.files());
            let differ: Vec<&String> = mine.keys().chain(theirs.keys()).filter(|name| mine.get(*name) != theirs.get(*name)).collect();
            prop_assert!(differ.is_empty(), "{:?}", differ);
            let again = railway.build(&pages, limit).unwrap();
            prop_assert!(again.written.is_empty(), "{:?}", again.written);
            twin.build(&pages, limit).unwrap();
            sections = pages.iter().map(|(number, page)| (*number, page.section)).collect();
            before = homes;
        }
    }
}

#[test]
fn pending_is_what_changed_since_a_run() {
    let (railway, mut pages) = railway_of(8);
    railway.build(&pages, 10).unwrap();
    pages.get_mut(&3).unwrap().title = 9;
    let gone = pages.remove(&5).unwrap();
    railway.build(&pages, 10).unwrap();
    let ledger = railway.ledger();
    let tell = |after: i64| -> BTreeSet<(String, &'static str)> {
        let pending = pending(&*ledger, &EngineState::met(after)).unwrap();
        let changes: Vec<Pending> = pending.iter().collect();
        assert!(changes.is_sorted_by_key(|one| (Reverse(one.run), one.key)));
        let ends = changes.iter().filter(|one| one.ends_run).count();
        assert_eq!(ends, changes.iter().map(|one| one.run).collect::<BTreeSet<_>>().len());
        let kind = |change: Change| if change == Change::Removed { "removed" } else { "changed" };
        changes.into_iter().map(|one| (one.url, kind(one.change))).collect()
    };
    let wanted = BTreeSet::from([(url(3, &pages[&3]), "changed"), (url(5, &gone), "removed")]);
    assert_eq!(tell(1), wanted);
    assert_eq!(tell(0).len(), 8);
    assert!(tell(2).is_empty());
}

#[rstest]
#[case::as_it_was(false, None)]
#[case::with_another_title(true, Some(Change::Added))]
fn a_returning_entry_is_announced_if_it_changed(#[case] edited: bool, #[case] wanted: Option<Change>) {
    let (railway, mut pages) = railway_of(8);
    railway.build(&pages, 10).unwrap();
    let mut gone = pages.remove(&5).unwrap();
    railway.build(&pages, 10).unwrap();
    if edited {
        gone.title = 9;
    }
    pages.insert(5, gone);
    let built = railway.build(&pages, 10).unwrap();
    assert_eq!(built.to_announce, u64::from(edited));
    let ledger = railway.ledger();
    let pending = pending(&*ledger, &EngineState::met(1)).unwrap();
    assert_eq!(pending.iter().map(|one| one.change).next(), wanted);
    assert!(pending.len() <= 1);
}

#[test]
fn a_survey_predicts_the_build() {
    let (railway, mut pages) = railway_of(25);
    let surveyed = railway.with_job(&pages, 10, survey).unwrap();
    assert!(railway.files().is_empty());
    let built = railway.build(&pages, 10).unwrap();
    assert_eq!(surveyed.sections, built.survey.sections);
    pages.get_mut(&3).unwrap().title = 9;
    let surveyed = railway.with_job(&pages, 10, survey).unwrap();
    let built = railway.build(&pages, 10).unwrap();
    assert_eq!(surveyed.changes, built.survey.changes);
    assert_eq!(built.survey.changes.changed.examples, [url(3, &pages[&3])]);
}

/// A site that stays the same size: each day some pages come, some go and some change. After a hundred and ten days, seventy of which are remembered, its
/// ledger is hardly larger than after a week.
#[test]
fn the_ledger_has_an_end() {
    let (mut railway, mut pages) = railway_of(100);
    let mut next = 100;
    let size = |railway: &Railway| -> u64 {
        let files = fs::read_dir(railway.folder.path().join(".idle-atlas")).unwrap().flatten();
        files.map(|file| file.metadata().unwrap().len()).sum()
    };
    let mut week = 0;
    for day in 1..=110 {
        railway.day += 1;
        let oldest: Vec<u32> = pages.keys().copied().take(3).collect();
        pages.retain(|number, _| !oldest.contains(number));
        pages.values_mut().step_by(40).for_each(|page| page.title += 1);
        live(&Day::Add(3), railway.day, &mut pages, &mut next, &mut 50);
        railway.build(&pages, 50).unwrap();
        if day == 7 {
            week = size(&railway);
        }
    }
    let year = size(&railway);
    assert!(year <= 2 * week, "{year} bytes, and {week} after a week");
    let ledger = railway.ledger();
    let gone = ledger.tombstones().unwrap();
    assert!(gone.iter().all(|(one, _)| !one.section.is_empty()));
    assert!(gone.len() <= 71 * 3 && gone.len() >= 69 * 3, "{} entries that are gone", gone.len());
    assert_eq!(ledger.runs(1000).unwrap().len(), 71);
}
