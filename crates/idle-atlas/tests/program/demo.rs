//! The command `demo`, and the sample site.

use std::collections::BTreeSet;

use serde_json::{Value, json};

use crate::support::{Ran, TestSite};

const HOST: &str = "https://www.marrowvale.example";

#[test]
fn the_demo_tells_the_whole_story() {
    let site = TestSite::new("");
    let ran = site.run(&["demo", "railway"]);
    ran.says(
        0,
        &[
            "1. Describe the site",
            "entries would be listed",
            "Run 1:",
            "Nothing is wrong",
            "Run 2:",
            "1 added, 3 changed, 1 removed",
            "5 URLs to announce (1 added, 3 changed, 1 removed); 5 accepted",
            "Run 3:",
            "nothing to write",
            "nothing to announce",
            "public/fares/index.html has changed",
            "/news/new-year-special/ is listed",
            "1 added; 8 files written",
            "1 URL kept for later: the engine has a problem",
            "something waits to be announced",
            "picked up      85 of 86 pages",
            "1  it answers 404, and no sitemap lists it",
            "12. Look back",
            "85 pages submitted: 85 picked up, 0 not",
            "13. The state of it all on one page",
            "railway-report.html written",
            "Three things to try next",
        ],
    );
    assert!(ran.out.lines().count() <= 185, "{}", ran.out);
    let robots = site.read("railway/public/robots.txt");
    assert!(robots.starts_with("# Marrow Vale Light Railway\n"));
    assert!(robots.ends_with("\nSitemap: https://www.marrowvale.example/sitemap.xml\n"));
    // What uptake says agrees with what the test engine asked for and picked up.
    let uptake = site.command(&["uptake", "--json"]).current_dir(site.path("railway")).output().unwrap();
    let uptake: Value = serde_json::from_str(&Ran::of(uptake).out).unwrap();
    let (log, export) = (site.read("railway/access.log"), site.read("railway/lamp-pages.csv"));
    let crawler = &uptake["crawlers"][0];
    assert_eq!((&crawler["token"], &crawler["verified"]), (&json!("lampbot"), &json!(true)));
    assert_eq!(crawler["requests"], log.lines().count());
    // A page that is gone by now may have been fetched while it was there.
    let picked_up = export.lines().filter_map(|line| line.strip_suffix(",Picked up")?.strip_prefix(HOST));
    let picked_up: BTreeSet<&str> = picked_up.collect();
    let requested: BTreeSet<&str> = log.lines().filter_map(|line| line.split(' ').nth(6)).collect();
    let fetched = json!(picked_up.intersection(&requested).count());
    assert_eq!((&crawler["pages"], &uptake["totals"]["fetched"]), (&fetched, &fetched));
    assert_eq!(uptake["totals"]["picked_up"], picked_up.len());
    let why = site.command(&["why", "--fresh", "/staff/rota/"]).current_dir(site.path("railway")).output().unwrap();
    Ran::of(why).says(0, &["left out: rule"]);
    site.run(&["demo", "railway"]).says(2, &["railway is not empty"]);
}
