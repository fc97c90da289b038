//! The command `report`, and history as plots.

use serde_json::{Value, json};

use crate::support::{DAY, NOON, TestSite};

fn site() -> TestSite {
    let mut site = TestSite::sample();
    for day in 0..6 {
        site.at(NOON + day * DAY);
        site.page(&format!("news/day-{day}/index.html"), &format!("Day {day}"), "The kettle is on.");
        site.build();
    }
    site
}

#[test]
fn the_report_stands_on_its_own() {
    let site = site();
    let report = site.json(&["report", "report.html"]);
    let page = site.read("report.html");
    for outside in ["<script", "src=", "@import", "url(", "<link", "<iframe"] {
        assert!(!page.contains(outside), "{outside}");
    }
    let pages = report["state"]["sections"].as_array().unwrap().iter().map(|one| one["pages"].as_u64().unwrap());
    let pages: u64 = pages.sum();
    assert!(page.contains(&format!("The site tells search engines about {pages} pages")), "{pages}");
    assert_eq!(report["state"]["runs"].as_array().unwrap().len(), 6);
    // Every sitemap file leads to its live address and opens to its entries.
    for file in report["state"]["files"].as_array().unwrap() {
        assert!(page.contains(&format!("<a href=\"{}\">", file["address"].as_str().unwrap())));
        assert!(!file["some"].as_array().unwrap().is_empty());
    }
    // So do pictures and videos.
    let entries = report["state"]["files"].as_array().unwrap().iter().flat_map(|file| file["some"].as_array().unwrap());
    let pictures: Vec<&str> = entries.filter_map(|entry| entry["image"].as_str()).collect();
    assert!(pictures.len() > 3 && pictures.iter().all(|picture| page.contains(&format!("<a href=\"{picture}\">"))));
    assert_eq!(page.matches("<figure>").count(), page.matches("<figcaption>").count());
    assert_eq!(page.matches("<svg").count(), page.matches("role=\"img\" aria-label=").count());
}

#[test]
fn the_report_says_what_to_do_next() {
    let site = site();
    let report = site.json(&["report"]);
    let steps = |report: &Value| -> Vec<String> {
        let next = report["next"].as_array().unwrap().iter();
        next.map(|step| step["command"].as_str().unwrap().to_owned()).collect()
    };
    assert!(steps(&report).contains(&"idle-atlas uptake pages.csv --engine NAME".to_owned()), "{report:#}");
    site.spoil("robots.txt", "User-agent: *\nDisallow: /\n");
    site.spoil("sitemap.xml", "<urlset>");
    let broken = site.json(&["report"]);
    assert_eq!(steps(&broken)[0], "idle-atlas check");
    site.run(&["report"]).says(0, &["site-report.html written", "errors are in the sitemap files"]);
}

#[test]
fn the_report_is_not_served() {
    let site = site();
    site.run(&["report", "public/report.html"]).says(2, &["would be served to everyone"]);
    site.run(&["report", "nowhere/report.html"]).says(2, &["cannot write nowhere/report.html"]);
}

#[test]
fn engines_and_consoles_are_part_of_it() {
    let site = site();
    site.write(
        "export.csv",
        "URL,State\nhttps://www.marrowvale.example/,Indexed\nhttps://www.marrowvale.example/fares/,Not <b>taken</b>\n",
    );
    site.json(&["uptake", "export.csv", "--engine", "lamp & co"]);
    site.run(&["announce", "--done", "sitemap.xml", "--in", "lamp"]).says(0, &["Ticked off"]);
    let report = site.json(&["report", "report.html"]);
    let page = site.read("report.html");
    assert!(page.contains("Not &lt;b&gt;taken&lt;/b&gt;") && page.contains("lamp &amp; co"));
    assert_eq!(report["uptake"]["totals"]["picked_up"], 1);
    assert_eq!(report["exports"][0]["days"], 0);
    assert_eq!(report["consoles"][0]["console"], "lamp");
}

#[test]
fn history_is_drawn() {
    let site = site();
    site.run(&["history", "--plot"])
        .says(0, &["Entries", "Added, changed and removed", "█", "2026-11-23", "2026-11-28"]);
    let mut ascii = site.command(&["history", "--plot"]);
    let output = ascii.env("LC_ALL", "C").output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(text.contains('#') && text.is_ascii(), "{text}");
    let timeline = site.json(&["history", "--plot"]);
    assert_eq!(timeline["runs"].as_array().unwrap().len(), 6);
    let since = site.json(&["history", "--plot", "--since", "2026-11-26"]);
    assert_eq!(since["runs"].as_array().unwrap().len(), 3);
    assert_eq!(since["announcements"], json!([]));
}
