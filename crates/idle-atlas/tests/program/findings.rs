//! What becomes of findings: known ones, exit codes, explanations, SARIF, and advice about content.

use std::process::Command;

use atlas_core::check::kinds;
use serde_json::Value;

use crate::support::{HTML, TestSite};

const FINDINGS: &str = include_str!("../../../../docs/findings.md");

/// A site with an error, a warning and a piece of advice.
fn spoilt() -> TestSite {
    let site = TestSite::new(HTML);
    site.page("index.html", "Home", "The line.");
    site.page("fares.html", "Fares", "What it costs.");
    site.build();
    let file = site.read("public/sitemap.xml");
    let spoilt =
        file.replacen("<url>", "<url><lamp/>", 1).replacen("</urlset>", "<url><loc>/yard/</loc></url>\n</urlset>", 1);
    site.spoil("sitemap.xml", format!("\u{feff}{spoilt}"));
    std::fs::remove_file(site.path("public/sitemap.xml.gz")).unwrap();
    site
}

fn codes(report: &Value) -> Vec<&str> {
    report["findings"].as_array().unwrap().iter().map(|finding| finding["code"].as_str().unwrap()).collect()
}

#[test]
fn the_exit_code_follows_the_severity_that_matters() {
    let site = spoilt();
    assert_eq!(codes(&site.json(&["check"])), ["loc-no-url", "element-unknown", "byte-order-mark"]);
    let exit = |options: &[&str]| site.run(&[&["check"], options].concat()).code;
    assert_eq!([exit(&[]), exit(&["--fail-on", "never"]), exit(&["--strict"])], [1, 0, 1]);
    site.run(&["check", "--accept", "loc-no-url"]).says(0, &["loc-no-url /yard/"]);
    let least = ["never", "error", "warning", "advice"].map(|least| exit(&["--fail-on", least]));
    assert_eq!(least, [0, 0, 1, 1]);
    assert_eq!([exit(&[]), exit(&["--strict"])], [0, 1]);
}

/// Findings are accepted by code and URL, so that the same elsewhere is still shown.
#[test]
fn accepted_findings_are_counted_and_others_still_shown() {
    let site = spoilt();
    site.run(&["check", "--accept", "loc-no-url"]).says(0, &["Added to", "known-findings.txt"]);
    let report = site.json(&["check"]);
    assert_eq!((codes(&report), &report["accepted"]), (vec!["element-unknown", "byte-order-mark"], &Value::from(1)));
    site.run(&["check"]).says(0, &["1 finding is not shown, because accepted"]);
    let file = site.read("public/sitemap.xml");
    site.spoil("sitemap.xml", file.replacen("</urlset>", "<url><loc>/quay/</loc></url>\n</urlset>", 1));
    assert_eq!(codes(&site.json(&["check"])), ["loc-no-url", "element-unknown", "byte-order-mark"]);
    site.run(&["check", "--accept", "loc-no-url", "/quay/"]).says(0, &["loc-no-url /quay/"]);
    assert_eq!(site.json(&["check"])["accepted"], 2);
    site.run(&["check", "--accept", "no-answer"]).says(2, &["finds nothing with the code “no-answer” now"]);
    site.run(&["check", "--accept", "lamp", "/"]).says(2, &["“lamp” is unknown"]);
}

#[test]
fn many_findings_of_a_kind_are_grouped() {
    let site = TestSite::new(HTML);
    site.page("index.html", "Home", "The line.");
    site.build();
    let urls: String = (0..12_000).map(|n| format!("<url><loc>/{n}</loc></url>\n")).collect();
    let file = site.read("public/sitemap.xml").replacen("</urlset>", &format!("{urls}</urlset>"), 1);
    site.spoil("sitemap.xml", file);
    std::fs::remove_file(site.path("public/sitemap.xml.gz")).unwrap();
    let report = site.json(&["check"]);
    assert_eq!(report["findings"].as_array().unwrap().len(), 10_000);
    assert_eq!((&report["more"]["loc-no-url"], &report["counts"]["error"]), (&2_000.into(), &12_000.into()));
    let ran = site.run(&["check"]);
    ran.says(1, &["error loc-no-url, 12,000 places", "and 11,997 more: --verbose", "12,000 errors"]);
    assert!(ran.out.lines().count() < 30, "{}", ran.out);
    assert!(site.run(&["check", "--verbose"]).out.lines().count() > 20_000);
}

#[test]
fn every_code_is_explained_and_in_the_table() {
    let site = TestSite::new("");
    for kind in kinds() {
        let row = format!("| `{}` | {} | {} | {} |", kind.code, kind.severity, kind.means, kind.mend);
        assert!(FINDINGS.contains(&row), "docs/findings.md lacks the row\n{row}");
    }
    assert_eq!(FINDINGS.lines().filter(|line| line.starts_with("| `")).count(), kinds().count());
    site.run(&["check", "--explain", "soft-404"]).says(0, &["soft-404 (error)", "For example", "What to do"]);
    site.run(&["check", "--explain", "soft404"]).says(2, &["did you mean “soft-404”?"]);
    let document = site.json(&["check", "--explain", "duplicate"]);
    assert_eq!(document["severity"], "warning");
}

#[test]
fn build_servers_get_sarif() {
    let site = spoilt();
    site.run(&["check", "--sarif", "check.sarif"]);
    let sarif: Value = serde_json::from_str(&site.read("check.sarif")).unwrap();
    let run = &sarif["runs"][0];
    let results = run["results"].as_array().unwrap();
    assert_eq!((sarif["version"].as_str(), results.len()), (Some("2.1.0"), 3));
    let place = &results[0]["locations"][0]["physicalLocation"];
    assert_eq!(place["artifactLocation"]["uri"], "public/sitemap.xml");
    assert_eq!(place["region"]["startLine"], 6);
    let rule = results[0]["ruleIndex"].as_u64().unwrap() as usize;
    assert_eq!(run["tool"]["driver"]["rules"][rule]["id"], results[0]["ruleId"]);
}

/// The published schema of SARIF accepts what is written.
#[test]
#[ignore = "needs python3-jsonschema"]
fn sarif_is_valid() {
    let site = spoilt();
    site.run(&["check", "--sarif", "check.sarif"]);
    let schema = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/schemas/sarif-2.1.0.json");
    let script =
        "import json, sys, jsonschema\njsonschema.validate(json.load(open(sys.argv[1])), json.load(open(sys.argv[2])))";
    let ran = Command::new("python3").args(["-c", script]).arg(site.path("check.sarif")).arg(schema).output().unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
}

#[test]
fn advice_about_the_content_of_pages() {
    let site = TestSite::new(&format!(
        "{HTML}[visitor_page]\n[check]\nthin_words = 5\n[[section]]\nname = \"notes\"\nmatching = [\"/notes/**\"]\nthin_words = 0\n"
    ));
    let page = |name: &str, title: &str, body: &str| {
        site.write(&format!("public/{name}"), format!("<html><head>{title}</head><body><main>{body}</main>"));
    };
    let text = "A day ticket costs eighteen lamps, and children travel for half of it.";
    page(
        "index.html",
        "<title>Home</title>",
        &format!(
            "<h1>Home</h1><p>{text}</p>\n<a href=/fares.html rel=nofollow>Fares</a> <a href=/two.html>Two</a>\n<a href=/lost.html>The old <b>timetable</b></a> <a href=/notes/a.html>a</a>"
        ),
    );
    page(
        "fares.html",
        "<title>Same</title><meta name=description content=Welcome>",
        &format!("<h1>Fares</h1><h3>Children</h3><p>{text}<img src=/lamp.jpg>"),
    );
    page(
        "two.html",
        "<title>same</title><title>Other</title><meta name=description content=Welcome>",
        &format!("<h2>Two</h2><p>{text}<form><input type=password></form>"),
    );
    page("thin.html", "", "<h1>Thin</h1><h1>Twice</h1><p>Few.");
    page("notes/a.html", "<title>A note</title>", "<h1>Note</h1>");
    let report = site.json(&["check", "--content"]);
    let mut found: Vec<(String, String)> = Vec::new();
    for finding in report["findings"].as_array().unwrap() {
        let about = finding["url"].as_str().unwrap_or_default().replace("https://www.marrowvale.example", "");
        found.push((finding["code"].as_str().unwrap().to_owned(), about));
    }
    found.sort();
    let wanted = [
        ("description-repeated", "/fares.html"),
        ("description-repeated", "/two.html"),
        ("heading-skipped", "/fares.html"),
        ("link-nofollow", "/"),
        ("linked-not-found", "/lost.html"),
        ("looks-private", "/two.html"),
        ("main-heading-missing", "/two.html"),
        ("main-headings-many", "/thin.html"),
        ("no-title", "/thin.html"),
        ("picture-without-words", "/fares.html"),
        ("thin-page", "/thin.html"),
        ("title-repeated", "/fares.html"),
        ("title-repeated", "/two.html"),
        ("titles-many", "/two.html"),
        ("unlinked", "/fares.html"),
        ("unlinked", "/thin.html"),
        ("visitor-page-unlinked", "/atlas.html"),
    ];
    assert_eq!(found, wanted.map(|(code, about)| (code.to_owned(), about.to_owned())));
    site.run(&["check", "--content"]).says(
        0,
        &[
            "the link “The old timetable” leads to nothing",
            "https://www.marrowvale.example/ line 3",
            "the link “Fares” is marked nofollow",
            "https://www.marrowvale.example/ line 2",
        ],
    );
    site.run(&["check", "--content", "--accept", "unlinked"])
        .says(0, &["unlinked https://www.marrowvale.example/thin.html"]);
    assert_eq!(site.json(&["check", "--content"])["accepted"], 2);
    site.build();
    site.run(&["why", "/fares.html"])
        .says(0, &["page        15 words", "outline     Fares", "linked from no page of the site"]);
    site.run(&["why", "/two.html"]).says(0, &["linked from https://www.marrowvale.example/"]);
    site.reconfigure("thin_words = 5", "thin_words = -5");
    site.run(&["check", "--content"]).says(2, &["“thin_words”: expected a number of words, 0 or more"]);
}
