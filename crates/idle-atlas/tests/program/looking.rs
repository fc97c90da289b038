//! The command `survey`, as a whole and entry by entry: what no single page shows.

use rstest::rstest;
use serde_json::Value;

use crate::support::{HTML, TestSite};

fn notice<'s>(survey: &'s Value, code: &str) -> &'s Value {
    survey["notices"].as_array().unwrap().iter().find(|notice| notice["code"] == code).unwrap_or(&Value::Null)
}

fn urls(notice: &Value) -> Vec<&str> {
    let examples = notice["examples"].as_array().map(Vec::as_slice).unwrap_or_default();
    examples
        .iter()
        .map(|example| example["url"].as_str().unwrap().trim_start_matches("https://www.marrowvale.example"))
        .collect()
}

fn linked(site: &TestSite, name: &str, links: &[&str]) {
    let links: String = links.iter().map(|link| format!("<a href='{link}'>on</a>")).collect();
    site.write(&format!("public/{name}"), format!("<title>{name}</title><main><p>{name}</p>{links}</main>"));
}

#[test]
fn unlinked_pages_and_broken_links() {
    let site = TestSite::new(HTML);
    linked(
        &site,
        "index.html",
        &[
            "/a/",
            "b.html?x=1#top",
            "/c",
            "/plan.pdf",
            "/nowhere/",
            "https://other.example/",
            "/sitemap.xml",
            "mailto:a@b.example",
        ],
    );
    linked(&site, "a/index.html", &["/", "../nowhere/", "/a/"]);
    linked(&site, "b.html", &["/d.html", "/only/"]);
    linked(&site, "c/index.html", &[]);
    linked(&site, "d.html", &["/d.html"]);
    linked(&site, "lonely.html", &["/lonely.html"]);
    site.write(
        "public/hidden.html",
        "<meta name=robots content=nofollow><title>H</title><a href=/nofollowed.html>x</a>",
    );
    linked(&site, "nofollowed.html", &[]);
    site.write("public/plan.pdf", "%PDF");
    let survey = site.json(&["survey"]);
    assert_eq!(urls(notice(&survey, "unlinked")), ["/hidden.html", "/lonely.html", "/nofollowed.html"]);
    assert_eq!(urls(notice(&survey, "linked-not-found")), ["/nowhere/", "/only/"]);
    let nowhere = &notice(&survey, "linked-not-found")["examples"][0]["detail"];
    assert_eq!(nowhere, "linked from https://www.marrowvale.example/a/index.html".replace("index.html", "").as_str());
    let again = site.json(&["survey"]);
    assert_eq!(again["notices"], survey["notices"], "what is remembered says the same");
    site.run(&["survey"])
        .says(0, &["worth a look", "3  pages that no other page links to", "2  dead links", "survey --verbose"]);
    site.run(&["survey", "--verbose"]).says(
        0,
        &[
            "link to them, or leave them out with a rule",
            "https://www.marrowvale.example/only/ (linked from https://www.marrowvale.example/b.html)",
        ],
    );
}

#[test]
fn sources_that_disagree_and_hosts_that_differ() {
    let site = TestSite::new(&format!("{HTML}[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n"));
    site.page("a.html", "Fares", "x");
    site.page("b.html", "Halts", "y");
    site.write("t.csv", "url,title\n/a.html,Prices\n/b.html,Halts\nhttp://marrowvale.example/c/,C\nhttp://marrowvale.example/d/,D\nhttps://shop.example/,S\n");
    let survey = site.json(&["survey"]);
    let odds = notice(&survey, "at-odds");
    assert_eq!((odds["count"].as_u64(), urls(odds)), (Some(1), vec!["/a.html"]));
    assert_eq!(odds["about"], "title, between html public and table t.csv");
    assert_eq!(odds["examples"][0]["detail"], "“Fares” and “Prices”");
    let elsewhere: Vec<(&str, u64)> = survey["notices"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|notice| notice["code"] == "elsewhere")
        .map(|notice| (notice["about"].as_str().unwrap(), notice["count"].as_u64().unwrap()))
        .collect();
    assert_eq!(elsewhere, [("http://marrowvale.example", 2), ("https://shop.example", 1)]);
    let sources: Vec<(u64, u64)> = survey["sources"]
        .as_array()
        .unwrap()
        .iter()
        .map(|source| (source["kept"].as_u64().unwrap(), source["left_out"].as_u64().unwrap()))
        .collect();
    assert_eq!(sources, [(2, 0), (2, 3)]);
    let why = site.json(&["why", "--fresh", "/a.html"]);
    let title = why["fields"].as_array().unwrap().iter().find(|field| field["field"] == "title").unwrap();
    assert_eq!((title["value"].as_str(), title["source"].as_str()), (Some("Fares"), Some("html public")));
    site.run(&["why", "--fresh", "/a.html"])
        .says(0, &["Fields and their sources", "From html public", "From table t.csv", "Prices"]);
}

#[test]
fn the_two_differing_sources_of_three_are_named() {
    let tables: String =
        ["a", "b", "c"].map(|name| format!("[[source]]\nfrom = \"table\"\nfile = \"{name}.csv\"\n")).concat();
    let site = TestSite::new(&tables);
    site.write("a.csv", "url\n/x/\n");
    site.write("b.csv", "url,title\n/x/,Fares\n");
    site.write("c.csv", "url,title\n/x/,Prices\n");
    let survey = site.json(&["survey"]);
    assert_eq!(notice(&survey, "at-odds")["about"], "title, between table b.csv and table c.csv");
}

#[test]
fn dates_and_contents_that_change_alone() {
    let site = TestSite::new(HTML);
    let dated = |name: &str, day: &str, text: &str| {
        site.write(
            &format!("public/{name}"),
            format!("<html><head><title>T</title><meta property=article:modified_time content={day}></head><main>{text}</main>"),
        );
    };
    for name in ["a.html", "b.html", "c.html", "d.html"] {
        dated(name, "2026-01-01", "one");
    }
    site.build();
    dated("a.html", "2026-02-02", "one");
    dated("b.html", "2026-01-01", "two");
    dated("c.html", "2026-02-02", "two");
    let survey = site.json(&["survey"]);
    assert_eq!(urls(notice(&survey, "date-alone")), ["/a.html"]);
    assert_eq!(urls(notice(&survey, "content-alone")), ["/b.html"]);
}

#[test]
fn attachments_that_repeat_their_article() {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    site.write(
        "t.csv",
        "url,id,parent,title,images\n/gala/,7,,Gala,/a.svg|/b.svg\n/gala/a/,8,7,a.svg,/a.svg\n/gala/b/,9,/gala/,Gala,\n/gala/plan/,10,7,A plan of its own,/plan.svg\n/lost/,11,99,Lost,/a.svg\n",
    );
    let survey = site.json(&["survey"]);
    let repeats = notice(&survey, "repeats-parent");
    assert_eq!(urls(repeats), ["/gala/a/", "/gala/b/"]);
    assert_eq!(repeats["examples"][0]["detail"], "belongs to https://www.marrowvale.example/gala/");
}

fn shed() -> TestSite {
    let site = TestSite::new(&format!(
        "{HTML}[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\nsection = \"lamps\"\npages = \"may-be-elsewhere\"\n[[rule]]\nmatching = [\"/staff/**\"]\nkeep = false\n"
    ));
    site.page("index.html", "Home", "x");
    site.page("staff/rota.html", "Rota", "x");
    site.page("staff/keys.html", "Keys", "x");
    site.write("t.csv", "url,modified,images,title\n/lamps/b/,2026-01-01,/1.svg|/2.svg,Brass\n/lamps/a/,2026-03-01,/1.svg,\"Amber, small\"\n");
    site
}

#[rstest]
#[case(&[], &["/", "/staff/keys.html", "/staff/rota.html", "/lamps/b/", "/lamps/a/"])]
#[case(&["--section", "lamps"], &["/lamps/b/", "/lamps/a/"])]
#[case(&["--section", "lamps", "--sort", "url"], &["/lamps/a/", "/lamps/b/"])]
#[case(&["--reason", "rule"], &["/staff/keys.html", "/staff/rota.html"])]
#[case(&["--source", "t.csv", "--sort", "newest"], &["/lamps/a/", "/lamps/b/"])]
#[case(&["--under", "/staff/", "--most", "1"], &["/staff/keys.html"])]
#[case(&["--sort", "pictures", "--most", "2"], &["/lamps/b/", "/lamps/a/"])]
#[case(&["--reason", "noindex"], &[])]
fn lists(#[case] options: &[&str], #[case] wanted: &[&str]) {
    let site = shed();
    let list = site.json(&[&["survey", "--list"], options].concat());
    let paths: Vec<String> = list
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| entry["url"].as_str().unwrap().replace("https://www.marrowvale.example", ""))
        .collect();
    assert_eq!(paths, wanted);
}

#[test]
fn lists_as_table_csv_and_json() {
    let site = shed();
    let csv = site.run(&["survey", "--list", "--section", "lamps", "--as", "csv"]);
    assert_eq!(
        csv.out,
        "url,section,reason,lastmod,images,videos,title,sources\n\
         https://www.marrowvale.example/lamps/b/,lamps,,2026-01-01,2,0,Brass,table t.csv\n\
         https://www.marrowvale.example/lamps/a/,lamps,,2026-03-01,1,0,\"Amber, small\",table t.csv\n"
    );
    let json = site.run(&["survey", "--list", "--most", "1", "--as", "json"]);
    assert_eq!(serde_json::from_str::<Value>(&json.out).unwrap()[0]["section"], "pages");
    site.run(&["survey", "--list", "--most", "2"])
        .says(0, &["5 entries; 2 shown", "listed", "no: rule", "idle-atlas why URL"]);
}

#[rstest]
#[case(&["--list", "--section", "lamp"], "there is no section “lamp”; known: lamps, pages")]
#[case(&["--list", "--reason", "bored"], "“bored” is unknown; expected one of other-host")]
#[case(&["--list", "--source", "sql"], "there is no source “sql”; known: html public, table t.csv")]
#[case(&["--list", "--under", "staff"], "must begin with “/”")]
#[case(&["--reason", "rule"], "--list")]
fn an_impossible_request_is_explained(#[case] options: &[&str], #[case] wanted: &str) {
    shed().run(&[&["survey"], options].concat()).says(2, &[wanted]);
}
