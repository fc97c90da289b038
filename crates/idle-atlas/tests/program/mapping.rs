//! A changed configuration is not a change to the pages: another mapping or other sources change no date and announce
//! nothing.

use rstest::rstest;

use crate::support::{DAY, HTML, NOON, TestSite, count};

fn table(keys: &str) -> String {
    format!("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\npages = \"may-be-elsewhere\"\nfields = {{ {keys} }}\n")
}

/// Rows with a name and a date, the second date as given.
fn rows(site: &TestSite, second: &str) {
    site.write(
        "t.csv",
        format!("url,Name,Seen,Plates\n/a/,Amber,2026-03-01,/a.svg\n/b/,{second}\n/c/,Copper,2026-03-03,/c.svg\n"),
    );
}

/// The paths that would be announced. The baseline is included, as by `announce --all`.
fn told(site: &TestSite) -> Vec<String> {
    let entries = site.run(&["history", "--entries", "--json"]).out;
    let entries = entries.lines().map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap());
    let last = site.json(&["history"])["runs"][0]["run"].as_i64();
    let changed = entries.filter(|entry| entry["run"].as_i64() == last);
    changed.map(|entry| entry["url"].as_str().unwrap().replace("https://www.marrowvale.example", "")).collect()
}

/// The mapping before and after, and how the paths of entries that change at the same time are announced.
#[rstest]
#[case::a_date_more("title = \"Name\"", "title = \"Name\", modified = \"Seen\"", "Brass,2026-03-02,/b.svg", &[])]
#[case::a_title_more("modified = \"Seen\"", "title = \"Name\", modified = \"Seen\"", "Brass,2026-03-02,/b.svg", &[])]
#[case::another_title("title = \"Name\"", "title = \"Plates\"", "Brass,2026-03-02,/b.svg", &[])]
#[case::a_title_less("title = \"Name\", modified = \"Seen\"", "modified = \"Seen\"", "Brass,2026-03-02,/b.svg", &[])]
#[case::with_an_edit("title = \"Name\"", "title = \"Name\", modified = \"Seen\"", "Bronze,2026-03-02,/b.svg", &["/b/"])]
#[case::with_another_date("modified = \"Seen\"", "modified = \"Seen\", images = \"Plates\"", "Brass,2026-05-02,/b.svg", &["/b/"])]
#[case::with_an_edit_of_what_stays("title = \"Name\", images = \"Plates\"", "title = \"Name\"", "Bronze,2026-03-02,/b.svg", &["/b/"])]
fn a_changed_mapping_is_no_change(
    #[case] before: &str,
    #[case] after: &str,
    #[case] second: &str,
    #[case] wanted: &[&str],
) {
    let mut site = TestSite::new(&table(before));
    rows(&site, "Brass,2026-03-02,/b.svg");
    site.build();
    site.at(NOON + DAY);
    site.configure(&table(after));
    rows(&site, second);
    let built = site.build();
    assert_eq!(count(&built, "changed") as usize, wanted.len());
    let remapped = &built["changes"]["remapped"][0];
    assert_eq!((remapped["source"].as_str(), remapped["change"].as_str()), (Some("table t.csv"), Some("mapping")));
    assert_eq!(remapped["entries"], 3);
    assert_eq!(told(&site), wanted);
    // A date that is mapped now is written at once.
    let date = after.contains("Seen").then_some("2026-03-01");
    assert_eq!(site.lastmod("/a/").as_deref(), date);
    // From then on everything is as usual.
    let again = site.build();
    assert_eq!((count(&again, "changed"), again["written"].as_array().map(Vec::len)), (0, Some(0)));
    assert!(again["changes"]["remapped"].is_null());
    rows(&site, "Tin,2026-06-02,/tin.svg");
    site.at(NOON + 2 * DAY);
    assert_eq!((count(&site.build(), "changed"), told(&site)), (1, vec!["/b/".to_owned()]));
}

#[test]
fn one_line_says_so() {
    let site = TestSite::new(&table("title = \"Name\""));
    rows(&site, "Brass,,");
    site.build();
    site.configure(&table("title = \"Name\", modified = \"Seen\""));
    site.run(&["survey"]).says(0, &["The mapping of table t.csv changed: 3 entries are taken as they are."]);
    site.run(&["build"]).says(0, &["The mapping of table t.csv changed: 3 entries are taken as they are."]);
    site.run(&["build"]).says(0, &["no entry changed"]);
}

#[test]
fn a_query_that_names_a_column_more_changes_no_page() {
    let query = |columns: &str| {
        format!(
            "[[source]]\nfrom = \"sql\"\nconnection = \"sqlite:depot.db\"\nquery = \"select {columns} from lamps\"\n"
        )
    };
    let site = TestSite::new(&query("url"));
    let depot = rusqlite::Connection::open(site.path("depot.db")).unwrap();
    depot
        .execute_batch("create table lamps (url text, title text, modified text); insert into lamps values ('/a/', 'Amber', '2026-03-01'), ('/b/', 'Brass', null);")
        .unwrap();
    site.build();
    site.configure(&query("url, title, modified"));
    let built = site.build();
    assert_eq!((count(&built, "changed"), built["changes"]["remapped"][0]["entries"].as_u64()), (0, Some(2)));
    assert_eq!(site.lastmod("/a/").as_deref(), Some("2026-03-01"));
    depot.execute_batch("update lamps set title = 'Bronze' where url = '/b/'").unwrap();
    assert_eq!((count(&site.build(), "changed"), told(&site)), (1, vec!["/b/".to_owned()]));
}

#[test]
fn a_source_that_joins_or_leaves_changes_no_page() {
    let table = table("title = \"Name\", modified = \"Seen\"");
    let mut site = TestSite::new(HTML);
    for name in ["a", "b", "c"] {
        site.page(&format!("{name}/index.html"), name, "x");
    }
    rows(&site, "Brass,2026-03-02,");
    site.build();
    site.at(NOON + DAY);
    // It is added with the highest precedence, while a page is edited.
    site.configure(&format!("{table}{HTML}"));
    site.page("c/index.html", "c", "Polished");
    let built = site.build();
    assert_eq!((count(&built, "changed"), told(&site)), (1, vec!["/c/".to_owned()]));
    assert_eq!(built["changes"]["remapped"][0]["change"], "joined");
    assert_eq!(site.lastmod("/a/").as_deref(), Some("2026-03-01"));
    // It is removed after the move, while a page is edited.
    site.at(NOON + 2 * DAY);
    site.configure(HTML);
    site.page("b/index.html", "b", "Polished too");
    let built = site.build();
    assert_eq!((count(&built, "changed"), told(&site)), (1, vec!["/b/".to_owned()]));
    assert_eq!(built["changes"]["remapped"][0]["change"], "left");
    assert_eq!(["/a/", "/b/"].map(|path| site.lastmod(path)), [None, Some("2026-11-25".into())]);
}

/// What only a removed source knew was left out by the user, and is not announced.
#[test]
fn entries_of_a_removed_source_are_not_announced() {
    let all = "[[engine]]\nwait_until_live = false\nname = \"test\"\nvia = \"indexnow\"\nendpoint = \"http://127.0.0.1:9/\"\n";
    let site = TestSite::new(&format!("{HTML}{}{all}", table("title = \"Name\"")));
    site.page("index.html", "Home", "Tea");
    site.page("fares.html", "Fares", "Eight shillings");
    rows(&site, "Brass,,");
    site.build();
    site.configure(&format!("{HTML}{all}"));
    std::fs::remove_file(site.path("public/fares.html")).unwrap();
    let ran = site.run(&["build", "--allow", "shrink", "--json"]);
    let built: serde_json::Value = serde_json::from_str(&ran.out).unwrap();
    assert_eq!(count(&built, "removed"), 4);
    let plan = site.json(&["announce", "--dry-run"]);
    let urls: Vec<&str> = plan[0]["tell"].as_array().unwrap().iter().filter_map(|one| one["url"].as_str()).collect();
    assert_eq!(urls, ["https://www.marrowvale.example/fares.html"]);
}

/// Settings that affect how a page is read do not change a page either.
#[test]
fn settings_of_the_reader_change_no_page() {
    let site = TestSite::new(HTML);
    for name in ["a", "b", "c"] {
        site.write(
            &format!("public/{name}.html"),
            format!("<title>{name}</title><meta property=og:image content=/{name}.jpg><main>Tea</main>"),
        );
    }
    site.build();
    site.configure(&format!("{HTML}[images]\nlead_picture = false\n"));
    site.write("public/c.html", "<title>c</title><meta property=og:image content=/c.jpg><main>Coffee</main>");
    assert_eq!((count(&site.build(), "changed"), told(&site)), (1, vec!["/c.html".to_owned()]));
    assert!(site.listed()["sitemap.xml"].iter().all(|url| url.images.is_empty()));
}
