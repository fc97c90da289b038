//! What is written, in which form and when, and how an interrupted build is undone.

use atlas_core::format::{RawSitemap, read};
use atlas_store::destination::{Destination, Gzip, InMemory};
use atlas_store::disk::segmented_gzip::unpack;
use atlas_store::report::Guard;
use rstest::rstest;

use crate::railway::{MadePage, ROOT};
use crate::small::{Small, pages};

fn small() -> Small {
    Small { urls_per_file: 4, allow: vec![Guard::Shrink], ..Small::new() }
}

/// The day of each file in the index.
fn days(small: &Small) -> Vec<(String, String)> {
    let mut days = Vec::new();
    let index = &small.memory.files()["sitemap.xml"];
    let take = |child: RawSitemap| {
        days.push((child.loc.unwrap()[ROOT.len()..].to_owned(), child.lastmod.unwrap()[..10].to_owned()))
    };
    read(index, |_| (), take).unwrap();
    days
}

#[test]
fn an_unchanged_build_puts_nothing() {
    let mut small = small();
    small.build(&pages("halts", 0..10));
    let versions =
        |memory: &InMemory| memory.files().into_keys().map(|name| memory.version(&name).unwrap()).collect::<Vec<_>>();
    let before = versions(&small.memory);
    small.day += 3;
    assert_eq!(small.build(&pages("halts", 0..10)).written, [""; 0]);
    assert_eq!(versions(&small.memory), before);
}

/// A file that somebody edited or removed is restored.
#[rstest]
#[case::child("atlas-halts-2.xml")]
#[case::index("sitemap.xml")]
fn altered_files_are_rewritten(#[case] name: &str) {
    let small = small();
    small.build(&pages("halts", 0..10));
    let before = small.memory.files();
    small.memory.remove(name).unwrap();
    assert_eq!(small.build(&pages("halts", 0..10)).written, [name]);
    assert_eq!(small.memory.files(), before);
    let mut draft = small.memory.begin(name).unwrap();
    std::io::Write::write_all(&mut draft, b"lamp oil").unwrap();
    small.memory.put(vec![draft]).unwrap();
    small.build(&pages("halts", 0..10));
    assert_eq!(small.memory.files(), before);
}

/// The index dates each file by the run in which its content last changed.
#[test]
fn the_index_says_when_each_file_changed() {
    let mut small = small();
    let mut rows = pages("halts", 0..10);
    small.build(&rows);
    small.day += 1;
    rows[5].1.modified = Some(16_000);
    small.build(&rows);
    let wanted = [(1, "2024-10-04"), (2, "2024-10-05"), (3, "2024-10-04")];
    assert_eq!(days(&small), wanted.map(|(number, day)| (format!("atlas-halts-{number}.xml"), day.to_owned())));
}

#[test]
fn a_folded_file_stays_for_a_while_and_is_then_removed() {
    let mut small = small();
    small.build(&pages("halts", 0..12));
    let before = small.memory.files();
    let rows: Vec<(String, MadePage)> =
        pages("halts", 0..12).into_iter().filter(|(_, page)| page.modified < Some(15_008)).collect();
    let built = small.build(&rows);
    assert_eq!((built.retired.as_slice(), built.removed.len()), (["atlas-halts-3.xml".to_owned()].as_slice(), 0));
    assert_eq!(small.memory.files()["atlas-halts-3.xml"], before["atlas-halts-3.xml"]);
    small.day += 14;
    assert_eq!(small.build(&rows).removed, [""; 0]);
    small.day += 1;
    assert_eq!(small.build(&rows).removed, ["atlas-halts-3.xml"]);
    assert!(!small.memory.files().contains_key("atlas-halts-3.xml"));
}

#[rstest]
#[case(Gzip::Off, &["atlas-halts-1.xml", "atlas-halts-2.xml", "sitemap.xml"])]
#[case(Gzip::Only, &["atlas-halts-1.xml.gz", "atlas-halts-2.xml.gz", "sitemap.xml"])]
#[case(Gzip::Beside, &["atlas-halts-1.xml", "atlas-halts-1.xml.gz", "atlas-halts-2.xml", "atlas-halts-2.xml.gz", "sitemap.xml", "sitemap.xml.gz"])]
fn files_have_the_requested_forms(#[case] gzip: Gzip, #[case] names: &[&str]) {
    let mut small = small();
    small.gzip = gzip;
    small.build(&pages("halts", 0..6));
    let files = small.memory.files();
    assert_eq!(files.keys().collect::<Vec<_>>(), names);
    for (name, bytes) in files.iter().filter(|(name, _)| name.ends_with(".gz")) {
        let unpacked = unpack(bytes, 1 << 20).unwrap();
        assert!(unpacked.ends_with(b">\n"), "{name}");
        if let Some(plain) = files.get(name.trim_end_matches(".gz")) {
            assert_eq!(&unpacked, plain, "{name}");
        }
    }
}

/// A site with more files than one index may list has several indexes; the main file is the first.
#[test]
fn indexes_are_split_and_joined_again() {
    let mut small = small();
    small.files_per_index = 2;
    small.build(&pages("halts", 0..20));
    assert_eq!(small.file("sitemap.xml"), ["atlas-halts-1.xml", "atlas-halts-2.xml"]);
    assert_eq!(small.file("sitemap-2.xml"), ["atlas-halts-3.xml", "atlas-halts-4.xml"]);
    assert_eq!(small.file("sitemap-3.xml"), ["atlas-halts-5.xml"]);
    small.build(&pages("halts", 0..8));
    assert_eq!(small.file("sitemap.xml"), ["atlas-halts-1.xml", "atlas-halts-2.xml"]);
    let left: Vec<String> = small.memory.files().into_keys().filter(|name| name.starts_with("sitemap-")).collect();
    assert_eq!(left, [""; 0], "an index that is no more goes at once: it names what is listed elsewhere");
}

/// A build that was interrupted and is no longer wanted leaves nothing behind.
#[test]
fn a_failed_build_is_undone() {
    let small = small();
    let rows = pages("halts", 0..10);
    small.build(&rows);
    let before = small.memory.files();
    let mut wanted = rows.clone();
    wanted.remove(2);
    wanted[0].1.section = "films";
    wanted[6].1.title = 4;
    wanted.extend(pages("films", 0..7));
    let mut stops = 0;
    loop {
        small.memory.fail_after(stops);
        let stopped = small.try_run(&[&wanted]).is_err();
        small.memory.mend();
        if !stopped {
            break;
        }
        small.build(&rows);
        let after = small.memory.files();
        for (name, bytes) in &before {
            assert_eq!(String::from_utf8_lossy(&after[name]), String::from_utf8_lossy(bytes), "{name}, stop {stops}");
        }
        let named = small.file("sitemap.xml");
        assert!(named.iter().all(|name| before.contains_key(name)), "stop {stops}: {named:?}");
        stops += 1;
    }
    assert!(stops > 10, "only {stops} verbs");
}
