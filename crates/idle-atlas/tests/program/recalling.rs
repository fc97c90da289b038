//! Builds on a machine without a ledger, which is rebuilt from the site's own sitemaps.

use std::collections::BTreeMap;
use std::fs;
use std::sync::{Arc, Mutex};

#[cfg(feature = "test-engine")]
use atlas_io::test_engine::{TestEngine, TestEngineSettings};
use rstest::rstest;

use crate::server::{CannedAnswer, Server};
use crate::support::{DAY, NOON, TestSite, count};

fn lose_the_ledger(site: &TestSite) {
    fs::remove_dir_all(site.path(".idle-atlas")).unwrap();
}

#[test]
fn without_a_ledger_every_file_and_date_of_the_sample_site_stays() {
    let mut site = TestSite::sample();
    site.build();
    let before = site.outputs();
    lose_the_ledger(&site);
    site.at(NOON + 2 * DAY);
    // The news of the sample are older than two days by then, except those that are requested.
    site.run(&["build"])
        .says(0, &["placement and dates of 96 entries were learnt from 11 sitemap files", "no entry changed"]);
    let after = site.outputs();
    for (name, bytes) in before.iter().filter(|(name, _)| name.contains("sitemap") || name.contains("atlas-")) {
        assert!(after[name] == *bytes, "{name} is another");
    }
    site.run(&["announce", "--dry-run"]);
    assert_eq!(count(&site.json(&["build"]), "changed"), 0);
}

/// Halts without dates, in files of ten. One was edited a day later, so that only the ledger knew its date.
fn halts(site: &mut TestSite, gzip: &str) {
    site.configure(&format!(
        "[[source]]\nfrom = \"html\"\nfolder = \"public\"\n[files]\nurls_per_file = 10\ngzip = \"{gzip}\"\n"
    ));
    for halt in 0..35 {
        site.page(&format!("halts/{halt:02}/index.html"), "A halt", &format!("Halt {halt}"));
    }
    site.build();
    site.at(NOON + DAY);
    site.page("halts/07/index.html", "A halt", "It has a lamp now");
    site.build();
}

#[rstest]
fn a_date_that_only_the_ledger_knew_is_read_back(#[values("beside", "only", "off")] gzip: &str) {
    let mut site = TestSite::new("");
    halts(&mut site, gzip);
    assert_eq!(site.lastmod("/halts/07/").as_deref(), Some("2026-11-24"));
    let (before, listed) = (site.outputs(), site.listed());
    lose_the_ledger(&site);
    site.at(NOON + 9 * DAY);
    let built = site.build();
    assert_eq!((count(&built, "added"), count(&built, "changed"), count(&built, "removed")), (0, 0, 0));
    assert!(site.outputs() == before);
    // New entries go where they would have gone, and removed ones are noticed.
    site.page("halts/99/index.html", "A halt", "A new one");
    fs::remove_dir_all(site.path("public/halts/03")).unwrap();
    let built = site.build();
    assert_eq!((count(&built, "added"), count(&built, "changed"), count(&built, "removed")), (1, 0, 1));
    let now = site.listed();
    let moved = listed.iter().flat_map(|(name, urls)| urls.iter().map(move |url| (name, url)));
    for (name, url) in moved.filter(|(_, url)| !url.loc.as_deref().unwrap().contains("/03/")) {
        assert!(now[name].iter().any(|other| other.loc == url.loc), "{:?} has left {name}", url.loc);
    }
}

#[test]
fn the_live_site_is_used_if_the_disk_has_nothing() {
    let served: Arc<Mutex<BTreeMap<String, Vec<u8>>>> = Arc::default();
    let answers = Arc::clone(&served);
    let server = Server::start(move |request| {
        let files = answers.lock().unwrap();
        match files.get(request.path.trim_start_matches('/')) {
            Some(bytes) => CannedAnswer::Full(200, vec![], bytes.clone()),
            None => CannedAnswer::Full(404, vec![], vec![]),
        }
    });
    let mut site = TestSite::at_url(&server.url(), "");
    halts(&mut site, "only");
    let before = site.outputs();
    served.lock().unwrap().extend(before.clone());
    lose_the_ledger(&site);
    let sitemaps = before.keys().filter(|name| name.ends_with(".xml") || name.ends_with(".gz"));
    sitemaps.for_each(|name| fs::remove_file(site.path("public").join(name)).unwrap());
    site.at(NOON + 9 * DAY);
    site.run(&["build", "--recall", "live"])
        .says(0, &["35 entries were learnt from 4 sitemap files", "no entry changed"]);
    assert!(site.outputs() == before);
}

#[test]
fn an_unreachable_server_is_reported_and_nothing_starts_over() {
    let server = Server::start(|_| CannedAnswer::Full(503, vec![], vec![]));
    let mut site = TestSite::at_url(&server.url(), "");
    halts(&mut site, "off");
    lose_the_ledger(&site);
    site.run(&["build", "--recall", "live"]).says(2, &["sitemap.xml", "503"]);
}

#[test]
fn an_altered_file_is_reported_and_placed_anew() {
    let mut site = TestSite::new("");
    halts(&mut site, "off");
    lose_the_ledger(&site);
    let text = site.read("public/atlas-pages-2.xml").replace("</url>\n", "</url>");
    site.spoil("atlas-pages-2.xml", text);
    site.at(NOON + 9 * DAY);
    site.run(&["build"]).says(0, &["atlas-pages-2.xml does not look like a file of this tool"]);
    assert_eq!(site.paths().len(), 35);
    assert!(!site.path("public/atlas-pages-5.xml").exists() || site.listed().len() >= 4);
}

#[test]
fn another_tools_sitemap_is_not_recalled() {
    let site = TestSite::new("[[source]]\nfrom = \"html\"\nfolder = \"public\"\n");
    site.page("a.html", "A", "A");
    site.write(
        "public/sitemap.xml",
        "<sitemapindex xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><sitemap><loc>https://www.marrowvale.example/posts-1.xml</loc></sitemap></sitemapindex>",
    );
    site.run(&["build"]).says(3, &["another tool wrote it"]);
}

#[test]
fn the_ledger_can_be_started_over() {
    let mut site = TestSite::new("");
    halts(&mut site, "beside");
    lose_the_ledger(&site);
    site.run(&["build", "--recall", "none"]).says(0, &["this one is the baseline"]);
}

/// A date that differs from the sitemap's is a change and is announced, with the key that was already published.
#[cfg(feature = "test-engine")]
#[test]
fn a_lost_ledger_loses_no_change() {
    let engine = TestEngine::start(TestEngineSettings::fair()).unwrap();
    let mut site = TestSite::new(&format!(
        "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[[engine]]\nwait_until_live = false\nname = \"test\"\nvia = \"indexnow\"\nendpoint = \"{}\"\n",
        engine.endpoint()
    ));
    site.write("t.csv", "url,modified\n/a/,2026-03-01\n/b/,2026-03-02\n/c/,\n/d/,2026-03-04T09:00:00+01:00\n");
    site.build();
    let key = site.json(&["announce", "--key-file"])[0]["address"].clone();
    lose_the_ledger(&site);
    site.at(NOON + DAY);
    site.write("t.csv", "url,modified\n/a/,2026-03-01\n/b/,2026-11-23\n/c/,\n/d/,2026-03-04T09:00:00+01:00\n/e/,\n");
    let built = site.build();
    assert_eq!((count(&built, "changed"), count(&built, "added")), (1, 1));
    assert_eq!(site.lastmod("/b/").as_deref(), Some("2026-11-23"));
    let plan = site.json(&["announce", "--dry-run"]);
    let told: Vec<&str> = plan[0]["tell"].as_array().unwrap().iter().filter_map(|one| one["url"].as_str()).collect();
    assert_eq!(told.len(), 2, "{told:?}");
    assert_eq!(site.json(&["announce", "--key-file"])[0]["address"], key);
    assert_eq!(count(&site.build(), "changed"), 0);
}

#[test]
fn a_recalled_file_continues_to_fill() {
    let mut site = TestSite::new(
        "[[source]]\nfrom = \"html\"\nfolder = \"public\"\n[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n",
    );
    site.page("index.html", "Home", "Tea");
    for halt in 0..9 {
        site.page(&format!("halts/{halt}.html"), "A halt", "x");
    }
    site.build();
    lose_the_ledger(&site);
    site.at(NOON + DAY);
    site.page("halts/new.html", "A halt", "x");
    site.page("fares.html", "Fares", "x");
    site.build();
    let names: Vec<String> = site.listed().into_keys().collect();
    assert_eq!(names, ["atlas-halts-1.xml", "atlas-pages-1.xml"]);
}
