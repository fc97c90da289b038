//! `announce --by-hand` and `--done`: what is worth submitting in a console, and what has been.

use serde_json::Value;

use crate::support::{HTML, ROOT, TestSite};

const TABLE: &str = "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\npages = \"may-be-elsewhere\"\n";

/// The paths on the list, in order, each with its reason.
fn listed(site: &TestSite, most: &str) -> Vec<(String, String)> {
    let list = site.json(&["announce", "--by-hand", most]);
    let pair = |one: &Value| (one["path"].as_str().unwrap().to_owned(), one["why"].as_str().unwrap().to_owned());
    list["urls"].as_array().unwrap().iter().map(pair).collect()
}

fn pairs(wanted: &[(&str, &str)]) -> Vec<(String, String)> {
    wanted.iter().map(|(path, why)| ((*path).to_owned(), (*why).to_owned())).collect()
}

/// Main pages come first, then new pages, then changed ones; what is ticked off comes up again only after a change.
#[test]
fn the_most_worthy_come_first_and_are_ticked_off() {
    let site = TestSite::new(TABLE);
    let rows =
        |more: &str| site.write("t.csv", format!("url,modified\n/,\n/fares/,\n/a/b/c/,\n/a/b/,2026-01-01\n{more}"));
    rows("");
    site.run(&["announce", "--by-hand", "3"]).says(2, &["there is no build yet"]);
    site.build();
    let main = "unknown-main-page";
    assert_eq!(listed(&site, "3"), pairs(&[("/", main), ("/fares/", main), ("/a/b/", "unknown")]));
    site.run(&["announce", "--done", "/", &format!("{ROOT}fares/")])
        .says(0, &["Ticked off 2 URLs. Each comes up again"]);
    site.run(&["announce", "--done", "/nowhere/"]).says(2, &["no build has listed it, so nothing was ticked off"]);
    rows("/x/y/,\n");
    site.write("t.csv", site.read("t.csv").replace("2026-01-01", "2026-02-02"));
    site.build();
    let wanted = pairs(&[("/x/y/", "new-and-unknown"), ("/a/b/", "changed"), ("/a/b/c/", "unknown")]);
    assert_eq!(listed(&site, "9"), wanted);
    site.write("t.csv", site.read("t.csv").replace("/fares/,", "/fares/,2026-03-03"));
    site.build();
    assert_eq!(listed(&site, "1"), pairs(&[("/fares/", main)]));
    let text = site.run(&["announce", "--by-hand", "1"]);
    text.says(
        0,
        &[
            &format!("\n{ROOT}fares/\n"),
            "\n/fares/\n",
            "Submit the main file there, once",
            "--done sitemap.xml --in NAME",
        ],
    );
    site.run(&["announce", "--done", "/", "/fares/", "/a/b/", "/a/b/c/", "/x/y/"]).says(0, &["5 URLs"]);
    site.run(&["announce", "--by-hand", "5"]).says(0, &["There is nothing to submit by hand"]);
}

/// The ledger knows which file stands in which console; new ones are named, and those that have gone.
#[test]
fn sitemap_files_in_consoles() {
    let sections = "[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n";
    let site = TestSite::new(&format!("{HTML}{sections}[files]\nfolded_days = 0\n"));
    ["a.html", "halts/b.html"].iter().for_each(|name| site.page(name, name, "Text"));
    site.build();
    site.run(&["announce", "--done", "sitemap.xml"]).says(2, &["is a sitemap file", "--in NAME"]);
    site.run(&["announce", "--done", "sitemap.xml", "--in", "lamp-console"])
        .says(0, &["Ticked off 1 sitemap file: submitted in lamp-console", "lamp-console: nothing to do"]);
    site.run(&["announce", "--done", "atlas-quay-1.xml", "--in", "lamp-console"])
        .says(2, &["is neither a sitemap file"]);
    let children = ["atlas-halts-1.xml", "atlas-pages-1.xml", "sitemap.xml"];
    site.run(&[&["announce", "--done"], &children[..], &["--in", "quay-console"]].concat())
        .says(0, &["3 sitemap files"]);
    let config = site.read("idle-atlas.toml");
    site.write("idle-atlas.toml", config + "[[section]]\nname = \"news\"\nmatching = [\"/news/**\"]\n");
    site.page("news/c.html", "c", "Text");
    std::fs::remove_file(site.path("public/halts/b.html")).unwrap();
    let built = site.run(&["build", "--allow", "shrink"]);
    built.says(0, &["In quay-console: submit atlas-news-1.xml, remove atlas-halts-1.xml. Which: idle-atlas announce --by-hand 10"]);
    assert!(!built.out.contains("lamp-console"), "the main file is enough there: {}", built.out);
    let list = site.json(&["announce", "--by-hand", "1"]);
    let [lamp, quay] = &list["consoles"].as_array().unwrap()[..] else { panic!("{list}") };
    assert_eq!((&lamp["submit"], &lamp["remove"]), (&Value::Array(vec![]), &Value::Array(vec![])));
    assert_eq!(quay["submit"][0], format!("{ROOT}atlas-news-1.xml"));
    site.run(&["announce", "--done", "atlas-news-1.xml", "atlas-halts-1.xml", "--in", "quay-console"])
        .says(0, &["1 sitemap file: submitted in", "1 sitemap file: removed from", "quay-console: nothing to do"]);
}

/// Of changed pages, those come first whose text has changed, rather than their title.
#[test]
fn pages_with_another_text_come_first() {
    let site = TestSite::new(HTML);
    let deep = |name: &str| format!("a/b/{name}.html");
    ["one", "two"].iter().for_each(|name| site.page(&deep(name), name, "Text"));
    site.build();
    site.page(&deep("two"), "two", "Quite another text");
    site.build();
    site.page(&deep("one"), "Another title", "Text");
    site.build();
    assert_eq!(listed(&site, "9"), pairs(&[("/a/b/two.html", "changed"), ("/a/b/one.html", "changed")]));
    site.page("c.html", "c", "Text");
    site.build();
    let after = pairs(&[("/c.html", "unknown-main-page"), ("/a/b/two.html", "changed"), ("/a/b/one.html", "changed")]);
    assert_eq!(listed(&site, "9"), after, "an unchanged page keeps what is known of it");
}
