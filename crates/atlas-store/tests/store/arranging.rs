//! Where entries go: files fill up in order, gaps are filled, and numbers are used once.

use atlas_store::report::Guard;

use crate::railway::MadePage;
use crate::small::{Small, pages};

fn small() -> Small {
    Small { urls_per_file: 4, allow: vec![Guard::Shrink, Guard::NewSections], ..Small::new() }
}

fn sizes(small: &Small) -> Vec<(String, usize)> {
    let files = small.files().into_iter().filter(|(name, _)| name.starts_with("atlas-"));
    files.map(|(name, urls)| (name, urls.len())).collect()
}

fn named(sizes: &[(&str, usize)]) -> Vec<(String, usize)> {
    sizes.iter().map(|(name, size)| ((*name).to_owned(), *size)).collect()
}

fn without(rows: Vec<(String, MadePage)>, gone: &[usize]) -> Vec<(String, MadePage)> {
    rows.into_iter().enumerate().filter(|(at, _)| !gone.contains(at)).map(|(_, row)| row).collect()
}

#[test]
fn files_are_filled_one_after_the_other_oldest_first() {
    let small = small();
    small.build(&pages("halts", 0..10));
    let wanted = [("atlas-halts-1.xml", 4), ("atlas-halts-2.xml", 4), ("atlas-halts-3.xml", 2)];
    assert_eq!(sizes(&small), named(&wanted));
    assert_eq!(small.file("atlas-halts-1.xml"), ["halts/0/", "halts/1/", "halts/2/", "halts/3/"]);
    assert_eq!(small.file("sitemap.xml"), ["atlas-halts-1.xml", "atlas-halts-2.xml", "atlas-halts-3.xml"]);
}

/// A change rewrites only the file that contains it.
#[test]
fn entries_stay_in_their_files() {
    let small = small();
    small.build(&pages("halts", 0..10));
    let before = small.memory.files();
    let mut rows = without(pages("halts", 0..10), &[1]);
    rows[4].1.modified = Some(15_100);
    small.build(&rows);
    let after = small.memory.files();
    assert_eq!(small.file("atlas-halts-1.xml"), ["halts/0/", "halts/2/", "halts/3/"]);
    assert_ne!(before["atlas-halts-2.xml"], after["atlas-halts-2.xml"]);
    assert_eq!(before["atlas-halts-3.xml"], after["atlas-halts-3.xml"]);
}

#[test]
fn new_entries_fill_the_newest_file() {
    let small = small();
    small.build(&pages("halts", 0..10));
    let first = small.memory.files()["atlas-halts-1.xml"].clone();
    small.build(&pages("halts", 0..13));
    assert_eq!(small.file("atlas-halts-3.xml"), ["halts/8/", "halts/9/", "halts/10/", "halts/11/"]);
    assert_eq!(small.file("atlas-halts-4.xml"), ["halts/12/"]);
    assert_eq!(small.memory.files()["atlas-halts-1.xml"], first);
}

#[test]
fn a_smaller_limit_moves_the_last_entries_and_a_larger_one_folds_small_files_into_the_newest() {
    let mut small = small();
    small.build(&pages("halts", 0..8));
    small.urls_per_file = 3;
    small.build(&pages("halts", 0..8));
    let wanted = [("atlas-halts-1.xml", 3), ("atlas-halts-2.xml", 3), ("atlas-halts-3.xml", 2)];
    assert_eq!(sizes(&small), named(&wanted));
    assert_eq!(small.file("atlas-halts-3.xml"), ["halts/3/", "halts/7/"]);
    small.urls_per_file = 50;
    small.build(&pages("halts", 0..8));
    assert_eq!(small.file("sitemap.xml"), ["atlas-halts-3.xml"]);
    assert_eq!(small.file("atlas-halts-3.xml").len(), 8);
    assert_eq!(small.file("atlas-halts-1.xml").len(), 3, "what engines may still ask for stays for a while");
}

#[test]
fn pictures_count_too() {
    let mut small = small();
    small.media_per_file = 6;
    let mut rows = pages("halts", 0..4);
    rows.iter_mut().for_each(|(_, page)| page.pictures = 3);
    small.build(&rows);
    assert_eq!(sizes(&small), named(&[("atlas-halts-1.xml", 2), ("atlas-halts-2.xml", 2)]));
}

/// A file with few entries is folded into the others, and its number is not used again.
#[test]
fn a_number_is_used_once() {
    let small = small();
    small.build(&pages("halts", 0..12));
    small.build(&without(pages("halts", 0..12), &[8, 9, 10, 11]));
    assert!(!small.file("sitemap.xml").contains(&"atlas-halts-3.xml".to_owned()));
    small.build(&[without(pages("halts", 0..12), &[8, 9, 10, 11]), pages("halts", 20..21)].concat());
    assert_eq!(small.file("atlas-halts-4.xml"), ["halts/20/"]);
}

#[test]
fn an_entry_moves_with_its_section() {
    let small = small();
    let mut rows = [pages("halts", 0..4), pages("films", 0..4)].concat();
    small.build(&rows);
    rows[0].1.section = "films";
    let built = small.build(&rows);
    assert_eq!(small.file("atlas-halts-1.xml"), ["halts/1/", "halts/2/", "halts/3/"]);
    assert_eq!(small.file("atlas-films-2.xml"), ["halts/0/"]);
    assert_eq!(built.survey.changes.changed.count, 0, "to be listed elsewhere is no news");
}

/// Entries are stored in segments: the other segments of a file are carried over compressed.
#[test]
fn files_of_several_segments() {
    let mut small = small();
    small.urls_per_file = 1000;
    small.build(&pages("halts", 0..600));
    let mut rows = without(pages("halts", 0..600), &[5, 300, 599]);
    rows[100].1.modified = Some(16_000);
    rows.extend(pages("halts", 700..950));
    small.build(&rows);
    let paths: Vec<String> = rows.iter().map(|(url, _)| url[crate::railway::ROOT.len()..].to_owned()).collect();
    assert_eq!(small.file("sitemap.xml"), paths);
}

/// If the open file lost an entry to another section, it takes no new one in the same build. If it is then less than
/// half full, the rest of it moves into the next file, together with the new entries.
#[test]
fn an_open_file_that_lost_an_entry_gives_way_to_the_next() {
    let small = small();
    let mut rows = [pages("halts", 0..6), pages("films", 0..4)].concat();
    small.build(&rows);
    rows[4].1.section = "films";
    rows.extend(pages("halts", 20..21));
    small.build(&rows);
    let named = small.file("sitemap.xml");
    assert!(!named.contains(&"atlas-halts-2.xml".to_owned()), "{named:?}");
    assert_eq!(small.file("atlas-halts-3.xml"), ["halts/5/", "halts/20/"]);
}
