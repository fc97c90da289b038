//! Guards: builds that would do harm are held back, old files stay, and the option that is named goes on.

use std::fs;

use rstest::rstest;

use crate::support::{HTML, Site};

/// A site of 30 pages that has been built once.
fn built() -> Site {
    let site = Site::new(&format!("{HTML}[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n"));
    for at in 0..25 {
        site.page(&format!("halts/h{at}.html"), "Halt", &at.to_string());
    }
    for at in 0..25 {
        site.page(&format!("p{at}.html"), "Page", &at.to_string());
    }
    site.build();
    site
}

/// The build is held back and changes nothing; with the option it names it goes on, and is not held back again.
fn held(site: &Site, option: &str, words: &[&str]) {
    let before = site.outputs();
    let option_named = format!("If that is right: idle-atlas build --allow {option}");
    let words: Vec<&str> = words.iter().copied().chain([option_named.as_str(), "nothing was written"]).collect();
    site.run(&["build"]).says(3, &words);
    site.run(&["build", "--dry-run"]).says(3, &["It would be held back"]);
    assert_eq!(site.outputs(), before);
    let ran = site.run(&["build", "--allow", option]);
    assert!(ran.code <= 1, "{}{}", ran.out, ran.errors);
    let again = site.run(&["build"]);
    assert!(again.code <= 1, "{}{}", again.out, again.errors);
}

#[rstest]
#[case::url("new-url", "https://www.marrowvale.example/", "https://marrowvale.example/", &["every URL would change"])]
#[case::main("new-main", "[[section]]", "[files]\nmain = \"map.xml\"\n[[section]]", &["would be map.xml instead of sitemap.xml"])]
#[case::gzip("gzip", "[[section]]", "[files]\ngzip = \"only\"\n[[section]]", &[".xml.gz instead of .xml"])]
#[case::section("new-sections", "name = \"halts\"", "name = \"stops\"", &["section halts would be no more", "25 of its 25 entries"])]
#[case::off("shrink", "name = \"halts\"", "name = \"halts\"\non = false", &["section halts would lose 25 of its 25 entries"])]
fn changes_of_the_configuration(#[case] option: &str, #[case] piece: &str, #[case] by: &str, #[case] words: &[&str]) {
    let site = built();
    site.reconfigure(piece, by);
    held(&site, option, words);
}

#[test]
fn a_robots_txt_that_shuts_engines_out() {
    let site = built();
    site.write("public/robots.txt", "User-agent: *\nDisallow: /\nAllow: /halts/\nAllow: /p\n");
    held_every_time(&site, "shut-out", &["line 2 of robots.txt, “Disallow: /” (for *), shuts engines out"]);
}

/// As long as robots.txt says so, each build has to be told.
fn held_every_time(site: &Site, option: &str, words: &[&str]) {
    site.run(&["build"]).says(3, words);
    assert!(site.run(&["build", "--allow", option]).code <= 1);
    site.run(&["build"]).says(3, words);
}

#[test]
fn one_reason_for_most_of_the_site_even_on_a_first_build() {
    let site = Site::new(HTML);
    let page = |at: usize, head: &str| {
        let text = format!("<html><head><title>{at}</title>{head}</head><body><main>{at}</main>");
        site.write(&format!("public/p{at}.html"), text);
    };
    let noindex = "<meta name=robots content=noindex>";
    (0..60).for_each(|at| page(at, if at < 40 { noindex } else { "" }));
    assert!(site.outputs().is_empty());
    held(&site, "left-out", &["40 entries, 66 % of all, would be left out for one reason: page says noindex, such as"]);
    // What was accepted is not asked about again, until it is a good deal more.
    (40..48).for_each(|at| page(at, noindex));
    site.run(&["build", "--allow", "shrink"]).says(3, &["48 entries, 80 % of all"]);
}

#[test]
fn a_sitemap_of_another_tool() {
    let site = Site::new(HTML);
    site.page("index.html", "Home", "Tea");
    let other = "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><url><loc>https://www.marrowvale.example/old</loc></url></urlset>";
    site.write("public/sitemap.xml", other);
    held(&site, "overwrite", &["sitemap.xml is there already, and another tool wrote it"]);
}

#[rstest]
#[case::one_file("")]
#[case::an_index("[files]\nstyle = false\nurls_per_file = 1\n")]
fn a_ledger_that_was_lost_does_not_make_the_sites_own_files_anothers(#[case] files: &str) {
    let site = Site::new(&format!("{HTML}{files}"));
    site.page("index.html", "Home", "Tea");
    site.page("fares.html", "Fares", "Eight shillings");
    site.build();
    fs::remove_dir_all(site.path(".idle-atlas")).unwrap();
    site.run(&["build"]).says(0, &["of 2 entries were learnt from", "Run 2: 2 entries"]);
}
