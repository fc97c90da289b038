//! Moving from the sitemap of another tool: `moved = true`.

use std::fs;

use rstest::rstest;

use crate::support::{DAY, HTML, NOON, ROOT, TestSite};

const MOVED: &str = "[[source]]\nfrom = \"html\"\nfolder = \"public\"\n[[source]]\nfrom = \"sitemap\"\nmoved = true\n";

fn old(urls: &[(&str, &str)]) -> String {
    let urls: String = urls
        .iter()
        .map(|(path, date)| format!("<url><loc>{ROOT}{path}</loc><lastmod>{date}</lastmod></url>"))
        .collect();
    format!("<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">{urls}</urlset>")
}

/// A site with pages a, b and c, whose old sitemap has a, b and one that is no more.
fn moving(config: &str) -> TestSite {
    let site = TestSite::new(config);
    site.page("a.html", "A", "Amber");
    site.write(
        "public/b.html",
        "<html><head><title>B</title><meta property=\"article:modified_time\" content=\"2026-10-01\"></head><body><main>Brass</main>",
    );
    site.page("c.html", "C", "Copper");
    site
}

const URLS: [(&str, &str); 3] = [("a.html", "2026-03-01"), ("b.html", "2026-03-02"), ("old.html", "2026-03-03")];

/// The old sitemap gives dates to pages that have none of their own, and lists nothing. The site moves from it without
/// another word.
#[test]
fn an_old_sitemap_gives_dates_and_no_entries() {
    let mut site = moving(MOVED);
    site.spoil("sitemap.xml", old(&URLS));
    let survey = site.json(&["survey"]);
    assert_eq!(survey["moved"]["both"], 2);
    assert_eq!(survey["moved"]["only_old"]["examples"][0], format!("{ROOT}old.html"));
    assert_eq!(survey["moved"]["only_new"]["examples"][0], format!("{ROOT}c.html"));
    assert_eq!(
        survey["moved"]["other_date"]["examples"][0],
        format!("{ROOT}b.html\n2026-10-01 now, 2026-03-02 in the old one")
    );
    site.run(&["survey"]).says(
        0,
        &["compared with the old sitemap", "in both", "only in the old one", "survey --list --reason only-before-move"],
    );
    site.run(&["build"]).says(0, &["Kept the sitemap.xml of another tool", "3 entries"]);
    let dates = |site: &TestSite| ["/a.html", "/b.html", "/c.html"].map(|path| site.lastmod(path));
    let day = |text: &str| Some(text.to_owned());
    assert_eq!(dates(&site), [day("2026-03-01"), day("2026-10-01"), None]);
    assert!(!site.paths().contains("/old.html"));
    // The copy goes on to give dates, until something newer is known.
    site.at(NOON + DAY);
    site.page("a.html", "A", "Amber lamp");
    site.build();
    assert_eq!(dates(&site), [day("2026-11-24"), day("2026-10-01"), None]);
    assert_eq!(site.json(&["survey"])["moved"]["both"], 2);
    site.run(&["why", "/old.html", "--fresh"]).says(0, &["only the old sitemap has it"]);
    // Without its source, the dates are seen ones.
    site.configure(HTML);
    fs::remove_dir_all(site.path(".idle-atlas/overwritten")).unwrap();
    site.build();
    assert_eq!(site.lastmod("/a.html"), day("2026-11-24"));
}

/// It is found in the web root under other names, in robots.txt, and compressed.
#[rstest]
#[case::index("sitemap-index.xml", "")]
#[case::in_robots("maps/all.xml", "Sitemap: https://www.marrowvale.example/maps/all.xml\n")]
fn an_old_sitemap_is_found(#[case] name: &str, #[case] robots: &str) {
    let site = moving(MOVED);
    let child = "posts.xml";
    let index = format!(
        "<sitemapindex xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><sitemap><loc>{ROOT}{child}</loc></sitemap></sitemapindex>"
    );
    site.spoil(name, index);
    let folder = name.rsplit_once('/').map_or(String::new(), |(folder, _)| format!("{folder}/"));
    site.spoil(&format!("{folder}{child}"), old(&URLS));
    site.write("public/robots.txt", format!("User-agent: *\nDisallow:\n{robots}"));
    site.build();
    assert_eq!(site.lastmod("/a.html").as_deref(), Some("2026-03-01"));
    // Ours, which is there from now on, is none.
    let survey = site.json(&["survey"]);
    assert_eq!(survey["moved"]["both"], 2);
    let names: Vec<&str> =
        survey["sources"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(names.len(), 2, "{names:?}");
}

#[test]
fn a_file_may_be_named_and_a_missing_one_is_said() {
    let site = moving(&format!("{MOVED}file = \"old/sitemap.xml\"\n"));
    site.write("old/sitemap.xml", old(&URLS));
    site.build();
    assert_eq!(site.lastmod("/a.html").as_deref(), Some("2026-03-01"));
    let site = moving(MOVED);
    site.run(&["survey"]).says(0, &["there is no sitemap of another tool in the web root or in robots.txt"]);
    assert!(site.json(&["survey"])["moved"]["both"] == 0);
}

/// What the old sitemap lists and a rule leaves out is said.
#[test]
fn what_is_left_out_now_is_compared() {
    let site = moving(&format!("{MOVED}[[rule]]\nmatching = [\"/b.html\"]\nkeep = false\n"));
    site.spoil("sitemap.xml", old(&URLS));
    let survey = site.json(&["survey"]);
    assert_eq!(survey["moved"]["left_out"]["count"], 1);
    site.run(&["survey"]).says(0, &["in the old one, left out now", "rule in the configuration"]);
}

/// A sitemap at a URL, as an application makes it: what cannot be fetched stands as it was, and is said.
#[test]
fn an_old_sitemap_at_a_url() {
    use std::sync::Arc;
    use std::sync::atomic::{AtomicBool, Ordering};

    use crate::server::{CannedAnswer, Server};

    let is_up = Arc::new(AtomicBool::new(true));
    let up = Arc::clone(&is_up);
    let server = Server::start(move |_| match up.load(Ordering::SeqCst) {
        true => {
            CannedAnswer::Full(200, vec![("Content-Type".into(), "application/xml".into())], old(&URLS).into_bytes())
        }
        false => CannedAnswer::Full(503, Vec::new(), Vec::new()),
    });
    let mut site = moving(&format!("{MOVED}file = \"{}made/map\"\n", server.url()));
    site.build();
    assert_eq!(site.lastmod("/a.html").as_deref(), Some("2026-03-01"));
    is_up.store(false, Ordering::SeqCst);
    site.at(NOON + DAY);
    let ran = site.run(&["build"]);
    ran.says(1, &["503"]);
    assert_eq!(site.lastmod("/a.html").as_deref(), Some("2026-03-01"), "what it gave stands");
}

/// A sitemap of this tool is none to move from, even if it is named.
#[test]
fn a_sitemap_of_our_own_gives_no_dates() {
    let first = moving(HTML);
    first.build();
    let site = moving(&format!("{MOVED}file = \"ours.xml\"\n"));
    site.write("ours.xml", first.read("public/sitemap.xml"));
    site.run(&["survey"]).says(0, &["ours.xml is a sitemap of this tool by now, so it gives no dates"]);
    assert_eq!(site.json(&["survey"])["moved"]["both"], 0);
}

/// Without moved = true, the main file of another tool is still not overwritten, and as a source it is still an error.
#[test]
fn only_moved_lets_the_main_file_be_overwritten() {
    let site = moving(HTML);
    site.spoil("sitemap.xml", old(&URLS));
    site.run(&["build"]).says(3, &["another tool wrote it", "--allow overwrite"]);
    let site = moving(&format!("{HTML}[[source]]\nfrom = \"sitemap\"\nfile = \"public/sitemap.xml\"\n"));
    site.spoil("sitemap.xml", old(&URLS));
    site.run(&["survey"]).says(2, &["is the file that build writes", "moved = true"]);
    let site = moving(&format!("{MOVED}file = \"public/sitemap.xml\"\n"));
    site.spoil("sitemap.xml", old(&URLS));
    site.run(&["build"]).says(0, &["3 entries"]);
}

/// `moved` belongs to sitemaps alone.
#[test]
fn other_sources_do_not_take_moved() {
    let site = moving("[[source]]\nfrom = \"html\"\nfolder = \"public\"\nmoved = true\n");
    site.run(&["survey"]).says(2, &["line", "“moved” has no effect on a source of kind html"]);
}
