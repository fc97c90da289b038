//! Builds that would do harm are held back, leave everything as it was, and go on if that is allowed.

use atlas_store::destination::{Destination, Gzip};
use atlas_store::report::Guard;
use rstest::rstest;

use crate::small::{Small, pages};

#[rstest]
#[case::three_of_ten(10, 7, false)]
#[case::four_of_ten(10, 6, true)]
#[case::two_of_three_are_few(3, 1, false)]
#[case::three_of_four(4, 1, true)]
fn a_section_that_shrinks(#[case] before: u32, #[case] after: u32, #[case] is_held: bool) {
    let mut small = Small::new();
    let films = pages("films", 0..100);
    small.build(&[pages("halts", 0..before), films.clone()].concat());
    let files = small.memory.files();
    let rest = [pages("halts", 0..after), films].concat();
    let held = small.held(&rest);
    if !is_held {
        assert_eq!(held, []);
        return;
    }
    assert_eq!(held[0].guard, Guard::Shrink);
    let (lost, percent) = (before - after, (before - after) * 100 / before);
    assert_eq!(held[0].message, format!("section halts would lose {lost} of its {before} entries ({percent} %)"));
    assert_eq!(held[0].mend, "If this is intended, let it pass");
    assert_eq!(small.memory.files(), files, "nothing is touched");
    assert_eq!(small.ledger().last_run().unwrap(), 1);
    small.allow = vec![Guard::Shrink];
    assert_eq!(small.build(&rest).survey.changes.removed.count, u64::from(lost));
}

#[test]
fn every_section_that_shrinks_is_named() {
    let small = Small::new();
    let both = |halts, films| [pages("halts", 0..halts), pages("films", 0..films), pages("fares", 0..10)].concat();
    small.build(&both(20, 10));
    let held = small.held(&both(5, 4));
    assert_eq!(held.len(), 1);
    assert_eq!(held[0].message, "section films would lose 6 of its 10 entries (60 %), halts 15 of 20 (75 %)");
}

/// Entries are lost even if others replace them.
#[test]
fn losses_are_counted_before_additions() {
    let small = Small::new();
    small.build(&pages("halts", 0..10));
    assert_eq!(small.guards(&pages("halts", 5..20)), [Guard::Shrink]);
}

#[test]
fn a_share_left_out_is_held_accepted_and_held_again_if_it_grows() {
    let rows = |elsewhere: u32| {
        let mut rows = pages("halts", 0..100);
        for (url, _) in rows.iter_mut().rev().take(elsewhere as usize) {
            *url = url.replace("www.", "old.");
        }
        rows
    };
    let mut small = Small::new();
    assert_eq!(small.guards(&rows(50)), []);
    small.allow = vec![Guard::Shrink];
    assert_eq!(small.guards(&rows(51)), [Guard::LeftOut]);
    assert!(small.held(&rows(51))[0].message.starts_with("51 entries, 51 % of all, would be left out for one reason"));
    small.allow.push(Guard::LeftOut);
    small.build(&rows(60));
    small.allow.pop();
    assert_eq!(small.guards(&rows(70)), [], "it may grow by ten points");
    assert_eq!(small.guards(&rows(71)), [Guard::LeftOut], "but what was accepted stays what it was");
}

#[test]
fn an_empty_site_cannot_be_allowed() {
    let mut small = Small::new();
    assert_eq!(small.guards(&[]), [Guard::Empty], "a first build neither");
    assert_eq!(small.guards(&pages("halts", 0..1)), [], "one entry is something");
    small.build(&pages("halts", 0..2));
    small.allow = Guard::ALL.to_vec();
    small.allow.retain(|guard| *guard != Guard::Empty);
    let held = small.held(&[]);
    assert_eq!((held.len(), held[0].guard), (1, Guard::Empty));
    assert_eq!(held[0].mend, "See what is left out, and why");
}

#[test]
fn changes_of_address_are_held() {
    let mut small = Small::new();
    let rows = pages("halts", 0..5);
    small.build(&rows);
    small.main = "map.xml";
    assert_eq!(small.guards(&rows), [Guard::NewMain]);
    small.main = "sitemap.xml";
    small.gzip = Gzip::Beside;
    assert_eq!(small.guards(&rows), [], "the same names and some more");
    small.gzip = Gzip::Only;
    assert!(small.guards(&rows).contains(&Guard::Gzip));
    small.gzip = Gzip::Off;
    small.root = "https://vale.example/";
    let moved: Vec<_> =
        rows.iter().map(|(url, page)| (url.replace("www.marrowvale.example", "vale.example"), page.clone())).collect();
    assert_eq!(small.guards(&moved), [Guard::NewUrl, Guard::Shrink]);
    small.allow = vec![Guard::NewUrl];
    assert_eq!(small.guards(&moved), [], "all that is known is lost by that, and that is right");
}

#[rstest]
#[case::all_under_another_name(0, Some(Guard::NewSections))]
#[case::some_gone_meanwhile(4, Some(Guard::NewSections))]
#[case::half_gone(5, None)]
fn renamed_sections_are_held(#[case] gone: u32, #[case] wanted: Option<Guard>) {
    let mut small = Small::new();
    small.allow = vec![Guard::Shrink];
    small.build(&pages("halts", 0..10));
    let mut renamed = pages("halts", gone..10);
    renamed.iter_mut().for_each(|(_, page)| page.section = "films");
    assert_eq!(small.guards(&renamed), Vec::from_iter(wanted));
}

/// A main file that another tool wrote is not overwritten. Our own is, even if no ledger knows it.
#[rstest]
#[case::anothers("https://www.marrowvale.example/posts.xml", true)]
#[case::our_own("https://www.marrowvale.example/atlas-halts-1.xml", false)]
fn an_existing_main_file_is_held(#[case] child: &str, #[case] is_held: bool) {
    let index = format!(
        "<sitemapindex xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><sitemap><loc>{child}</loc></sitemap></sitemapindex>"
    );
    let small = Small::new();
    let mut draft = small.memory.begin("sitemap.xml").unwrap();
    std::io::Write::write_all(&mut draft, index.as_bytes()).unwrap();
    small.memory.put(vec![draft]).unwrap();
    assert_eq!(small.guards(&pages("halts", 0..3)).contains(&Guard::Overwrite), is_held);
    assert_eq!(small.memory.files()["sitemap.xml"] == index.as_bytes(), is_held);
}
