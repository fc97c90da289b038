//! One entry per URL: merging rows, and what happens to known entries.

use atlas_core::choose::Reason;
use atlas_core::report::Notice;
use atlas_store::build::Ended;
use atlas_store::report::{Built, Guard};

use rstest::rstest;

use crate::railway::MadePage;
use crate::small::{Small, pages};

fn both(small: &Small, sources: &[&[(String, MadePage)]]) -> Built {
    match small.run(sources) {
        Ended::Built(built) => *built,
        Ended::Held(held) => panic!("{:?}", held.survey.held),
    }
}

fn counts(built: &Built) -> (u64, u64, u64) {
    let changes = &built.survey.changes;
    (changes.added.count, changes.changed.count, changes.removed.count)
}

#[test]
fn a_url_in_two_sources_is_one_entry_and_the_first_source_wins() {
    let small = Small::new();
    let first = pages("halts", 0..6);
    let mut second = pages("halts", 3..9);
    second[0].1.modified = Some(15_500);
    second[1].1.section = "films";
    second[2].1.title = 9;
    let built = both(&small, &[&first, &second]);
    let entries: Vec<(&str, u64)> =
        built.survey.sections.iter().map(|section| (section.name.as_str(), section.entries)).collect();
    assert!(entries.contains(&("halts", 9)), "{entries:?}");
    assert!(small.memory.files()["sitemap.xml"].windows(10).any(|text| text == b"2011-01-29"), "15003 days, not 15500");
    let notices = small.survey(&[&first, &second]).notices;
    let mut told: Vec<String> = notices
        .into_iter()
        .filter(|noticed| noticed.code == Notice::AtOdds)
        .filter_map(|noticed| noticed.about)
        .collect();
    told.sort_unstable();
    assert_eq!(told, ["modified", "section", "title"].map(|field| format!("{field}, between first and second")));
    assert_eq!(built.survey.sources.iter().map(|source| source.kept).collect::<Vec<_>>(), [6, 6]);
}

/// A page is not gone if one source drops it and another still names it.
#[rstest]
fn an_entry_stays_while_any_source_names_it(#[values(false, true)] reads_rows: bool) {
    let small = Small { reads_rows, ..Small::new() };
    let (all, some) = (pages("halts", 0..9), pages("halts", 0..7));
    both(&small, &[&all, &some]);
    assert_eq!(counts(&both(&small, &[&all, &[]])), (0, 0, 0));
    assert_eq!(counts(&both(&small, &[&some, &[]])), (0, 0, 2));
}

#[test]
fn a_repeated_row_counts_once() {
    let small = Small::new();
    let rows = [pages("halts", 0..5), pages("halts", 0..2)].concat();
    let built = small.build(&rows);
    assert_eq!(counts(&built).0, 5);
    let twice = built.survey.left_out.iter().find(|left| left.reason == Reason::Duplicate).unwrap();
    assert_eq!(twice.counted.count, 2);
    assert_eq!(small.file("sitemap.xml").len(), 5);
}

/// The order of rows does not matter, neither for where an entry is known nor for whether it changed.
#[rstest]
fn rows_in_another_order_are_the_same_entries(#[values(false, true)] reads_rows: bool) {
    let small = Small { reads_rows, ..Small::new() };
    let mut rows = pages("halts", 0..50);
    small.build(&rows);
    rows.reverse();
    rows.swap(3, 30);
    let built = small.build(&rows);
    assert_eq!((counts(&built), built.written.len()), ((0, 0, 0), 0));
    rows[7].1.title += 1;
    rows[8].1.modified = Some(17_000);
    assert_eq!(counts(&small.build(&rows)), (0, 2, 0));
}

#[test]
fn an_entry_that_leaves_and_comes_back_is_removed_and_added() {
    let mut small = Small::new();
    small.allow = vec![Guard::Shrink];
    small.build(&pages("halts", 0..6));
    assert_eq!(counts(&small.build(&pages("halts", 0..3))), (0, 0, 3));
    assert_eq!(counts(&small.build(&pages("halts", 0..5))), (2, 0, 0));
}
