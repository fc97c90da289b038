//! Builds that are stopped at any operation of their destination leave a complete site, and the next build finishes.
//!
//! The program's own tests kill whole processes that write into a folder; here every single operation is tried.

use std::collections::BTreeSet;

use atlas_store::destination::{Gzip, InMemory};
use rstest::rstest;

use crate::railway::{Day, Pages, Railway, live, url};

/// What the stopped build changes.
#[derive(Debug, Clone, Copy)]
enum StoppedBuild {
    /// Everything: there was no build before.
    Everything,
    /// Some entries are added, some edited.
    Some,
    /// Entries move to the other section, and files shrink.
    Sections,
    /// Most entries are removed, so files are folded.
    Most,
    /// Files shrink, and nothing else changes.
    Smaller,
}

/// A railway in memory with its first pages, which are built unless all of them are to be new.
fn before(gzip: Gzip, changes: StoppedBuild) -> (Railway, InMemory, Pages, u32) {
    let memory = InMemory::default();
    let railway = Railway::in_memory(gzip, &memory);
    let (mut pages, mut next, mut limit) = (Pages::new(), 0, 10);
    live(&Day::Add(30), 19_000, &mut pages, &mut next, &mut limit);
    if !matches!(changes, StoppedBuild::Everything) {
        railway.build(&pages, limit).unwrap();
    }
    (railway, memory, pages, next)
}

/// The pages that the stopped build is to write.
fn after(changes: StoppedBuild, before: &Pages, next: u32) -> (Pages, u32) {
    let (mut pages, mut next, mut limit) = (before.clone(), next, 10);
    let days: &[Day] = match changes {
        StoppedBuild::Everything => &[],
        StoppedBuild::Some => &[Day::Add(9), Day::Edit(1)],
        StoppedBuild::Sections => &[Day::Move(1), Day::Limit(6), Day::Add(3)],
        StoppedBuild::Smaller => &[Day::Limit(6)],
        StoppedBuild::Most => &[Day::Remove(0), Day::Remove(0), Day::Edit(2)],
    };
    days.iter().for_each(|day| live(day, 19_001, &mut pages, &mut next, &mut limit));
    (pages, limit)
}

fn urls(pages: &Pages) -> BTreeSet<String> {
    pages.iter().map(|(number, page)| url(*number, page)).collect()
}

#[rstest]
#[case::first_build(Gzip::Beside, StoppedBuild::Everything)]
#[case::edits(Gzip::Beside, StoppedBuild::Some)]
#[case::moves(Gzip::Beside, StoppedBuild::Sections)]
#[case::losses(Gzip::Beside, StoppedBuild::Most)]
#[case::packed_alone(Gzip::Only, StoppedBuild::Sections)]
#[case::smaller_files(Gzip::Off, StoppedBuild::Smaller)]
#[case::plain_alone(Gzip::Off, StoppedBuild::Sections)]
fn a_build_that_is_stopped_anywhere_leaves_a_whole_site(#[case] gzip: Gzip, #[case] changes: StoppedBuild) {
    let (railway_before, memory_before, first, next) = before(gzip, changes);
    let (pages, limit) = after(changes, &first, next);
    let twin = railway_before.copy(&memory_before.copy());
    twin.build(&pages, limit).unwrap();
    let stay: BTreeSet<String> = match changes {
        StoppedBuild::Everything => BTreeSet::new(),
        _ => urls(&first).intersection(&urls(&pages)).cloned().collect(),
    };
    let mut stops = 0;
    for verb in 0.. {
        let memory = memory_before.copy();
        let railway = railway_before.copy(&memory);
        memory.fail_after(verb);
        let stopped = railway.try_build(&pages, limit);
        memory.mend();
        // At every instant, listed files exist and are complete, and no remaining entry is missing.
        let served = railway.served();
        assert!(stay.is_subset(&served), "verb {verb}: {:?}", stay.difference(&served).collect::<Vec<_>>());
        assert!(served.iter().all(|url| urls(&first).contains(url) || urls(&pages).contains(url)), "verb {verb}");
        if stopped.is_ok() {
            break;
        }
        stops += 1;
        railway.build(&pages, limit).unwrap();
        let (mine, theirs) = (railway.files(), twin.files());
        let differ = mine.keys().chain(theirs.keys()).filter(|name| mine.get(*name) != theirs.get(*name));
        assert_eq!(differ.collect::<Vec<_>>(), Vec::<&String>::new(), "verb {verb}");
        assert!(railway.build(&pages, limit).unwrap().written.is_empty(), "verb {verb}");
    }
    assert!(stops > 10, "only {stops} instants");
}
