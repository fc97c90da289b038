//! The command `demo`, and the sample site.

use crate::support::{Ran, TestSite};

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
            "Three things to try next",
        ],
    );
    assert!(ran.out.lines().count() <= 160, "{}", ran.out);
    let robots = site.read("railway/public/robots.txt");
    assert!(robots.starts_with("# Marrow Vale Light Railway\n"));
    assert!(robots.ends_with("\nSitemap: https://www.marrowvale.example/sitemap.xml\n"));
    let why = site.command(&["why", "--fresh", "/staff/rota/"]).current_dir(site.path("railway")).output().unwrap();
    Ran::of(why).says(0, &["left out: rule"]);
    site.run(&["demo", "railway"]).says(2, &["railway is not empty"]);
}
