//! Guards: builds that would do harm are held back, old files stay, and the named option lets a build pass.

use std::fs;

use rstest::rstest;
use serde_json::Value;

use crate::support::{DAY, HTML, NOON, TestSite, count};

/// The guards in a report.
fn guards(report: &Value) -> Vec<String> {
    let held = report["held"].as_array().map(Vec::as_slice).unwrap_or_default();
    held.iter().map(|held| held["guard"].as_str().unwrap().to_owned()).collect()
}

/// A site of 30 pages that has been built once.
fn built() -> TestSite {
    let site = TestSite::new(&format!("{HTML}[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n"));
    for at in 0..25 {
        site.page(&format!("halts/h{at}.html"), "Halt", &at.to_string());
    }
    for at in 0..25 {
        site.page(&format!("p{at}.html"), "Page", &at.to_string());
    }
    site.build();
    site
}

/// The build is held back and changes nothing. With the option that it names it goes on, and is not held back again.
fn held(site: &TestSite, option: &str, words: &[&str]) {
    let before = site.outputs();
    let option_named = format!("If this is intended, let it pass: idle-atlas build --allow {option}");
    let words: Vec<&str> = words.iter().copied().chain([option_named.as_str(), "nothing was written"]).collect();
    site.run(&["build"]).says(3, &words);
    site.run(&["build", "--dry-run"]).says(3, &["It would be held back"]);
    // A survey names the guard beforehand, and the report of the held build says what would have happened.
    assert!(guards(&site.json(&["survey"])).contains(&option.to_owned()));
    let report: Value = serde_json::from_str(&site.run(&["build", "--json"]).out).unwrap();
    assert!(guards(&report).contains(&option.to_owned()), "{report}");
    assert!(report["files"].is_array() && report["changes"]["removed"]["count"].is_u64(), "{report}");
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
#[case::section("new-sections", "name = \"halts\"", "name = \"stops\"", &["section halts would disappear", "25 of its 25 entries"])]
#[case::off("shrink", "name = \"halts\"", "name = \"halts\"\non = false", &["section halts would lose 25 of its 25 entries"])]
fn edited_the_configuration(#[case] option: &str, #[case] piece: &str, #[case] by: &str, #[case] words: &[&str]) {
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

/// As long as robots.txt says so, each build has to be allowed.
fn held_every_time(site: &TestSite, option: &str, words: &[&str]) {
    site.run(&["build"]).says(3, words);
    assert!(site.run(&["build", "--allow", option]).code <= 1);
    site.run(&["build"]).says(3, words);
}

#[test]
fn one_reason_for_most_of_the_site_even_on_a_first_build() {
    let site = TestSite::new(HTML);
    let page = |at: usize, head: &str| {
        let text = format!("<html><head><title>{at}</title>{head}</head><body><main>{at}</main>");
        site.write(&format!("public/p{at}.html"), text);
    };
    let noindex = "<meta name=robots content=noindex>";
    (0..60).for_each(|at| page(at, if at < 40 { noindex } else { "" }));
    assert!(site.outputs().is_empty());
    held(&site, "left-out", &["40 entries, 66 % of all, would be left out for one reason: page says noindex, such as"]);
    // What was accepted is not asked about again, unless it grows considerably.
    (40..48).for_each(|at| page(at, noindex));
    site.run(&["build", "--allow", "shrink"]).says(3, &["48 entries, 80 % of all"]);
}

/// Whatever it looks like, even like a file of this tool.
#[rstest]
#[case::in_one_line("")]
#[case::a_line_for_each_url("\n")]
fn a_sitemap_of_another_tool(#[case] end: &str) {
    let site = TestSite::new(HTML);
    site.page("index.html", "Home", "Tea");
    let url = format!("<url><loc>https://www.marrowvale.example/old</loc></url>{end}");
    let xmlns = "xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"";
    let other = format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>{end}<urlset {xmlns}>{end}{url}</urlset>{end}");
    site.write("public/sitemap.xml", other);
    held(&site, "overwrite", &["sitemap.xml is there already, and another tool wrote it"]);
}

/// What only the old sitemap knew is taken over: a URL, and a date, until something newer is known.
#[test]
fn an_old_sitemap_is_not_destroyed() {
    let mut site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    site.write("t.csv", "url,title,modified\n/a/,Amber,\n/b/,Brass,2026-10-01\n/c/,Copper,\n");
    let index = "<sitemapindex xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><sitemap><loc>https://www.marrowvale.example/posts.xml</loc></sitemap></sitemapindex>";
    let child = "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><url><loc>https://www.marrowvale.example/a/</loc><lastmod>2026-03-01</lastmod></url><url><loc>https://www.marrowvale.example/b/</loc><lastmod>2026-03-02</lastmod></url><url><loc>https://www.marrowvale.example/old/</loc><lastmod>2026-03-03</lastmod></url></urlset>";
    site.spoil("sitemap.xml", index);
    site.write("public/posts.xml", child);
    site.run(&["build"]).says(3, &["another tool wrote it"]);
    site.run(&["build", "--allow", "overwrite"]).says(
        0,
        &["Kept the sitemap.xml of another tool and 1 file that it lists in .idle-atlas/overwritten", "4 entries"],
    );
    assert_eq!(
        (site.read(".idle-atlas/overwritten/sitemap.xml"), site.read(".idle-atlas/overwritten/posts.xml")),
        (index.into(), child.into())
    );
    let dates = |site: &TestSite| ["/a/", "/b/", "/c/", "/old/"].map(|path| site.lastmod(path));
    let day = |text: &str| Some(text.to_owned());
    assert_eq!(dates(&site), [day("2026-03-01"), day("2026-10-01"), None, day("2026-03-03")]);
    site.at(NOON + DAY);
    site.write("t.csv", "url,title,modified\n/a/,Amber lamp,\n/b/,Brass,2026-10-01\n/c/,Copper,\n");
    assert_eq!(count(&site.build(), "changed"), 1);
    assert_eq!(dates(&site), [day("2026-11-24"), day("2026-10-01"), None, day("2026-03-03")]);
    site.run(&["survey"]).says(0, &["overwritten sitemap", "until you delete"]);
    fs::remove_dir_all(site.path(".idle-atlas/overwritten")).unwrap();
    assert_eq!(count(&site.build(), "removed"), 1);
}

/// Building again helps only if a build writes the file.
#[test]
fn check_advises_to_build_again_only_where_that_helps() {
    let site = TestSite::new(HTML);
    site.page("index.html", "Home", "Tea");
    site.build();
    let robots = site.read("public/robots.txt");
    site.write("public/robots.txt", format!("{robots}Sitemap: https://www.marrowvale.example/shop.xml\nSitemap: https://www.marrowvale.example/broken.xml\n"));
    site.write("public/broken.xml", "<urlset");
    let findings = site.json(&["check"])["findings"].clone();
    let mends: Vec<&str> = findings.as_array().unwrap().iter().filter_map(|finding| finding["mend"].as_str()).collect();
    assert!(mends.len() == 2 && mends.iter().all(|mend| !mend.to_lowercase().contains("build again")), "{mends:?}");
    site.spoil("sitemap.xml", "<urlset");
    let findings = site.json(&["check"])["findings"].clone();
    let own = findings.as_array().unwrap().iter().filter(|one| one["file"].as_str().unwrap().ends_with("/sitemap.xml"));
    assert!(
        own.clone().count() > 0
            && own.into_iter().any(|one| one["mend"].as_str().unwrap().to_lowercase().contains("build again"))
    );
}

#[rstest]
#[case::one_file("")]
#[case::an_index("[files]\nstyle = false\nurls_per_file = 1\n")]
fn a_ledger_that_was_lost_does_not_make_the_sites_own_files_anothers(#[case] files: &str) {
    let site = TestSite::new(&format!("{HTML}{files}"));
    site.page("index.html", "Home", "Tea");
    site.page("fares.html", "Fares", "Eight shillings");
    site.build();
    fs::remove_dir_all(site.path(".idle-atlas")).unwrap();
    site.run(&["build"]).says(0, &["of 2 entries were learnt from", "Run 2: 2 entries"]);
}

/// A site from a table with this many halts.
fn halts(number: usize, keys: &str) -> TestSite {
    let site = TestSite::new(&format!("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\nsection = \"halts\"\n{keys}"));
    rows(&site, 0..number);
    site.build();
    site
}

fn rows(site: &TestSite, numbers: std::ops::Range<usize>) {
    let rows: String = numbers.map(|number| format!("/halts/{number}/,\n")).collect();
    site.write("t.csv", format!("url,expires\n/,\n{rows}"));
}

/// A loss of more than 30 % and more than two entries is held, however small the site; both limits can be set.
#[rstest]
#[case::all_but_the_home_page(11, 0, "", 3)]
#[case::most(29, 7, "", 3)]
#[case::three_of_ten(9, 6, "", 0)]
#[case::four_of_ten(9, 5, "", 3)]
#[case::two_of_three(2, 0, "", 0)]
#[case::a_large_share_is_meant(9, 5, "[guards]\nmost_lost = \"60%\"\n", 0)]
#[case::a_small_share_is_not(9, 6, "[guards]\nmost_lost = \"20%\"\n", 3)]
#[case::few_are_more(9, 5, "[guards]\nfew = 4\n", 0)]
#[case::few_are_none(2, 1, "[guards]\nfew = 0\n", 3)]
fn small_sites_are_guarded_too(#[case] before: usize, #[case] after: usize, #[case] keys: &str, #[case] code: i32) {
    let site = halts(before, keys);
    rows(&site, 0..after);
    site.run(&["build"]).says(code, if code == 3 { &["section halts would lose", "--allow shrink"] } else { &[] });
}

#[test]
fn a_small_section_that_was_renamed_is_held() {
    let site = halts(10, "");
    site.reconfigure("section = \"halts\"", "section = \"stops\"");
    held(&site, "new-sections", &["section halts would disappear", "11 of its 11 entries"]);
}

/// An entry that had announced when it would expire is not a loss.
#[test]
fn what_expires_is_not_lost() {
    let mut site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    let fairs: String = (0..9).map(|fair| format!("/fairs/{fair}/,2026-11-24\n")).collect();
    site.write("t.csv", format!("url,expires\n/,\n{fairs}"));
    site.build();
    site.at(NOON + DAY);
    let built = site.build();
    assert_eq!((count(&built, "left_out"), count(&built, "removed")), (9, 0));
}

#[rstest]
#[case("most_lost = 30", "“most_lost”: ")]
#[case("most_lost = \"lots\"", "expected a share from \"0%\" to \"100%\"")]
#[case("most_left_out = \"101%\"", "expected a share")]
#[case("few = -1", "expected a whole number of entries")]
#[case("most_lots = \"3%\"", "did you mean “most_lost”?")]
fn thresholds_are_checked(#[case] key: &str, #[case] words: &str) {
    TestSite::new(&format!("{HTML}[guards]\n{key}\n")).run(&["build"]).says(2, &["idle-atlas.toml line ", words]);
}

/// A remark does not stop a nightly build, unless asked to.
#[test]
fn remarks_do_not_stop_the_routine() {
    let site = TestSite::new(HTML);
    site.write("public/index.html", "<title>Home</title><main><video src=/cab.webm></video>Tea</main>");
    site.run(&["build"]).says(0, &["1  video that is not written"]);
    site.run(&["build", "--strict"]).says(1, &["1 remark"]);
    site.run(&["survey", "--strict"]).says(1, &[]);
    site.write("public/empty.html", "");
    site.run(&["build"]).says(1, &["public/empty.html: it is empty"]);
}

#[test]
fn help_names_every_guard() {
    let help = TestSite::new("").run(&["build", "--help"]).out;
    for guard in ["shrink", "left-out", "new-url", "new-main", "new-sections", "gzip", "shut-out", "overwrite"] {
        assert!(help.contains(&format!("- {guard}: ")), "{help}");
    }
}
