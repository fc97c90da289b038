//! The command `build`: what is written, and what is left alone.

use std::fs;
use std::time::{Duration, SystemTime};

use rstest::rstest;

use crate::support::{DAY, HTML, NOON, ROOT, TestSite, count};

/// A railway of forty pages in two sections.
fn railway() -> TestSite {
    let site = TestSite::new(&format!(
        "{HTML}[[section]]\nname = \"journal\"\nmatching = [\"/journal/**\"]\nurls_per_file = 10\n"
    ));
    site.page("index.html", "Railway", "Five miles of narrow gauge");
    for number in 0..15 {
        site.page(&format!("halts/h{number}/index.html"), "Halt", &format!("Halt number {number}"));
    }
    for number in 0..24 {
        site.page(&format!("journal/j{number}.html"), "Note", &format!("Note number {number}"));
    }
    site.write("public/robots.txt", "# ours\r\nUser-agent: *\r\nDisallow: /staff/\r\n");
    site
}

#[test]
fn a_first_build_lists_every_page_once() {
    let site = railway();
    let built = site.build();
    assert_eq!(site.paths().len(), 40);
    let files: Vec<(String, usize)> = site.listed().into_iter().map(|(name, urls)| (name, urls.len())).collect();
    let file = |name: &str, urls| (name.to_owned(), urls);
    assert_eq!(
        files,
        [
            file("atlas-journal-1.xml", 10),
            file("atlas-journal-2.xml", 10),
            file("atlas-journal-3.xml", 4),
            file("atlas-pages-1.xml", 16)
        ]
    );
    assert_eq!(built["main"], "https://www.marrowvale.example/sitemap.xml");
    assert_eq!(site.lastmod("/halts/h3/"), None, "nobody has seen it change");
    assert_eq!(
        site.read("public/robots.txt"),
        "# ours\r\nUser-agent: *\r\nDisallow: /staff/\r\n\r\nSitemap: https://www.marrowvale.example/sitemap.xml\r\n"
    );
    for (name, bytes) in site.outputs().into_iter().filter(|(name, _)| name.ends_with(".gz")) {
        let plain = fs::read(site.path("public").join(name.trim_end_matches(".gz"))).unwrap();
        assert_eq!(atlas_store::disk::segmented_gzip::unpack(&bytes, 1 << 20).unwrap(), plain, "{name}");
    }
}

#[test]
fn a_build_with_nothing_changed_writes_nothing() {
    let mut site = railway();
    site.build();
    let (before, stamps) = (site.outputs(), stamps(&site));
    site.at(NOON + DAY);
    let again = site.build();
    assert_eq!(again["written"], serde_json::json!([]));
    assert_eq!(site.outputs(), before);
    assert_eq!(self::stamps(&site), stamps, "not even touched");
    site.run(&["build"]).says(0, &["nothing to write", "no entry changed"]);
}

fn stamps(site: &TestSite) -> Vec<SystemTime> {
    site.outputs()
        .keys()
        .map(|name| fs::metadata(site.path("public").join(name)).unwrap().modified().unwrap())
        .collect()
}

#[test]
fn one_changed_page_changes_one_file_and_the_index() {
    let mut site = railway();
    site.build();
    let before = site.outputs();
    site.at(NOON + 3 * DAY);
    site.page("journal/j3.html", "Note", "Note number 3, corrected");
    let built = site.build();
    assert_eq!((count(&built, "changed"), count(&built, "added"), count(&built, "removed")), (1, 0, 0));
    let changed: Vec<String> = site
        .outputs()
        .into_iter()
        .filter(|(name, bytes)| before.get(name) != Some(bytes))
        .map(|(name, _)| name)
        .collect();
    assert_eq!(changed.len(), 4, "a child, the index, and a copy of each: {changed:?}");
    assert_eq!(site.lastmod("/journal/j3.html").as_deref(), Some("2026-11-26"));
    assert_eq!(site.lastmod("/journal/j4.html"), None);
    let index = site.read("public/sitemap.xml");
    assert_eq!(index.matches("2026-11-26T12:00:00Z").count(), 1);
    assert_eq!(index.matches("2026-11-23T12:00:00Z").count(), 3);
}

#[rstest]
#[case::every_mtime(false)]
#[case::every_menu(true)]
fn touched_files_and_a_new_menu_change_nothing(#[case] menu: bool) {
    let mut site = railway();
    site.build();
    let before = site.outputs();
    site.at(NOON + DAY);
    for entry in walk(&site) {
        let text = fs::read_to_string(&entry).unwrap();
        let text =
            if menu { text.replace("<nav>Home Fares", "<nav>Home Fares Films").replace("2026", "2027") } else { text };
        fs::write(&entry, text).unwrap();
        let time = SystemTime::now() - Duration::from_secs(1_000_000);
        fs::File::options().append(true).open(&entry).unwrap().set_modified(time).unwrap();
    }
    let built = site.build();
    assert_eq!(built["written"], serde_json::json!([]));
    assert_eq!(site.outputs(), before);
    assert_eq!(count(&built, "changed"), 0);
}

fn walk(site: &TestSite) -> Vec<std::path::PathBuf> {
    let journal = fs::read_dir(site.path("public/journal")).unwrap().flatten().map(|entry| entry.path());
    let halts = fs::read_dir(site.path("public/halts")).unwrap().flatten().map(|entry| entry.path().join("index.html"));
    journal.chain(halts).collect()
}

#[test]
fn a_redesign_changes_no_date() {
    let mut site = railway();
    site.build();
    site.at(NOON + DAY);
    for path in walk(&site) {
        let text = fs::read_to_string(&path).unwrap().replace("<p>", "<p>Share this! ");
        fs::write(path, text).unwrap();
    }
    let built = site.build();
    assert_eq!(built["changes"]["redesign"], true);
    assert_eq!(count(&built, "changed"), 0);
    assert_eq!(site.lastmod("/journal/j3.html"), None);
    site.page("journal/j3.html", "Note", "One real edit after it");
    assert_eq!(count(&site.build(), "changed"), 1);
}

#[test]
fn added_and_removed_pages_leave_the_others_where_they_are() {
    let site = railway();
    site.build();
    let home = |site: &TestSite| -> Vec<(String, String)> {
        let listed = site.listed().into_iter();
        listed.flat_map(|(name, urls)| urls.into_iter().map(move |url| (url.loc.unwrap(), name.clone()))).collect()
    };
    let before = home(&site);
    fs::remove_file(site.path("public/journal/j5.html")).unwrap();
    site.page("journal/aaa-first-of-all.html", "Note", "New");
    let built = site.build();
    assert_eq!((count(&built, "added"), count(&built, "removed")), (1, 1));
    let after = home(&site);
    for (loc, name) in after.iter().filter(|(loc, _)| !loc.contains("aaa-first")) {
        assert!(before.contains(&(loc.clone(), name.clone())), "{loc} moved to {name}");
    }
    assert!(after.contains(&(format!("{ROOT}journal/aaa-first-of-all.html"), "atlas-journal-3.xml".to_owned())));
}

#[test]
fn a_small_site_is_one_file_and_does_not_flap() {
    let site = TestSite::new(&format!("{HTML}[files]\nurls_per_file = 3\n"));
    for number in 0..3 {
        site.page(&format!("p{number}.html"), "Page", &number.to_string());
    }
    site.build();
    assert!(site.read("public/sitemap.xml").contains("<urlset"));
    assert_eq!(site.outputs().len(), 3, "the file, its copy and robots.txt");
    site.page("p3.html", "Page", "3");
    site.build();
    assert!(site.read("public/sitemap.xml").contains("<sitemapindex"));
    assert_eq!(site.paths().len(), 4);
    site.run(&["check"]).says(0, &["Nothing is wrong"]);
    fs::remove_file(site.path("public/p3.html")).unwrap();
    site.build();
    assert!(site.read("public/sitemap.xml").contains("<sitemapindex"), "once an index, always an index");
    assert_eq!(site.paths().len(), 3);
}

#[rstest]
#[case("beside", &[".xml", ".xml.gz"])]
#[case("only", &[".xml.gz"])]
#[case("off", &[".xml"])]
fn compressed_copies(#[case] gzip: &str, #[case] ends: &[&str]) {
    let site = TestSite::new(&format!("{HTML}[files]\ngzip = \"{gzip}\"\nurls_per_file = 2\n"));
    for number in 0..5 {
        site.page(&format!("p{number}.html"), "Page", &number.to_string());
    }
    site.build();
    assert_eq!(site.paths().len(), 5);
    let names: Vec<String> = site.outputs().into_keys().filter(|name| name.starts_with("atlas-pages-1")).collect();
    assert_eq!(names, ends.iter().map(|end| format!("atlas-pages-1{end}")).collect::<Vec<_>>());
    site.run(&["check"]).says(0, &["Nothing is wrong"]);
}

#[test]
fn identical_input_gives_identical_bytes() {
    let (one, other) = (railway(), railway());
    one.build();
    other.build();
    assert_eq!(one.outputs(), other.outputs());
    let before = one.outputs();
    assert_eq!(one.json(&["build", "--fresh"])["written"], serde_json::json!([]));
    assert_eq!(one.outputs(), before);
}

#[test]
fn lost_and_altered_files_are_restored() {
    let site = railway();
    site.build();
    let before = site.outputs();
    fs::remove_file(site.path("public/atlas-journal-2.xml")).unwrap();
    fs::write(site.path("public/atlas-pages-1.xml"), "<urlset/>").unwrap();
    fs::remove_file(site.path("public/sitemap.xml.gz")).unwrap();
    let built = site.build();
    assert_eq!(site.outputs(), before);
    assert_eq!(built["written"].as_array().unwrap().len(), 3);
}

#[test]
fn a_folded_file_leaves_the_index_and_stays_on_disk_for_a_while() {
    let mut site = railway();
    site.build();
    // The first eight in the order of their names, all in the first file.
    for number in [0, 1, 10, 11, 12, 13, 14, 15] {
        fs::remove_file(site.path(&format!("public/journal/j{number}.html"))).unwrap();
    }
    site.run(&["build"]).says(3, &["section journal would lose 8 of its 24 entries (33 %)", "--allow shrink"]);
    assert_eq!(site.paths().len(), 40, "held back: nothing was written");
    let built = site.json(&["build", "--allow", "shrink"]);
    assert_eq!(built["retired"].as_array().unwrap().len(), 2);
    assert_eq!(site.paths().len(), 32);
    assert!(!site.listed().contains_key("atlas-journal-1.xml"));
    assert!(site.path("public/atlas-journal-1.xml").exists());
    site.at(NOON + 15 * DAY);
    let built = site.build();
    assert_eq!(built["removed"].as_array().unwrap().len(), 2);
    assert!(!site.path("public/atlas-journal-1.xml").exists());
}

#[test]
fn a_change_of_section_moves_entries_and_loses_none() {
    let site = railway();
    site.build();
    let before = site.paths();
    site.configure(&format!("{HTML}[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n"));
    let built = site.json(&["build", "--allow", "new-sections"]);
    assert_eq!(site.paths(), before);
    assert_eq!((count(&built, "added"), count(&built, "changed"), count(&built, "removed")), (0, 0, 0));
    assert_eq!(site.listed()["atlas-halts-1.xml"].len(), 15);
    site.run(&["check"]).says(0, &["Nothing is wrong"]);
}

#[test]
fn pictures_and_films_are_written() {
    let site = TestSite::new(HTML);
    site.write(
        "public/index.html",
        r#"<html><head><title>The cutting & "after"</title><meta name=description content="From the cab"></head><body><main>
        <img src="/a&b.svg"><video src="/cutting.webm" poster="/still.svg"></video></main>"#,
    );
    site.build();
    let listed = site.listed();
    let url = &listed["sitemap.xml"][0];
    assert_eq!(url.images, ["https://www.marrowvale.example/a&b.svg"]);
    assert_eq!(url.videos[0].title.as_deref(), Some("The cutting & \"after\""));
    assert_eq!(url.videos[0].content_loc.as_deref(), Some("https://www.marrowvale.example/cutting.webm"));
    site.configure(&format!("{HTML}[images]\nwrite = \"off\"\n"));
    site.build();
    assert!(site.listed()["sitemap.xml"][0].images.is_empty());
}

#[test]
fn odd_names_become_urls() {
    let site = TestSite::new(HTML);
    site.page("brân fach/50% & more?.html", "Odd", "x");
    site.page(".hidden/index.html", "Hidden", "x");
    site.page("old/INDEX.htm", "Old", "x");
    site.build();
    let wanted = ["/br%C3%A2n%20fach/50%25%20&%20more%3F.html", "/old/INDEX.htm"];
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), wanted);
}

#[cfg(unix)]
#[test]
fn link_loops_end() {
    let site = TestSite::new(HTML);
    site.page("a/index.html", "A", "x");
    std::os::unix::fs::symlink(site.path("public"), site.path("public/a/up")).unwrap();
    site.run(&["build"]).says(0, &["1 entry"]);
}

#[test]
fn two_builds_at_once_are_refused() {
    let site = railway();
    let ledger = atlas_store::ledger::open(&site.path(".idle-atlas")).unwrap();
    site.run(&["build"]).says(2, &["another idle-atlas is working"]);
    drop(ledger);
    site.run(&["build"]).says(0, &["Run 1"]);
}
