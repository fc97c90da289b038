//! Bad input gets a clear error and loses nothing.

use rstest::rstest;

use crate::support::{HTML, TestSite};

#[rstest]
#[case::not_toml("[site", &["line 1"])]
#[case::unknown_key("[site]\nurl = \"https://www.marrowvale.example/\"\nweb_rot = \"public\"\n", &["line 3", "unknown key “web_rot”", "did you mean “web_root”"])]
#[case::bad_url("[site]\nurl = \"www.marrowvale.example\"\nweb_root = \"public\"\n", &["line 2", "“url”", "https://www.marrowvale.example/"])]
#[case::no_web_root("[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"pubic\"\n", &["line 3", "there is no folder", "pubic"])]
#[case::zone("[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"public\"\ntimezone = \"Vale\"\n", &["line 4", "Europe/London"])]
#[case::environment("[site]\nurl = \"${NO_SUCH_THING}\"\nweb_root = \"public\"\n", &["line 2", "NO_SUCH_THING", "set it"])]
#[case::no_source("[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"public\"\n", &["there is no source"])]
fn broken_configuration(#[case] config: &str, #[case] words: &[&str]) {
    let site = TestSite::new("");
    site.write("idle-atlas.toml", config);
    site.run(&["build"]).says(2, &[&["idle-atlas.toml"], words].concat());
}

#[rstest]
#[case::source_kind("[[source]]\nfrom = \"hmtl\"\n", &["line 10", "“hmtl” is not a kind of source"])]
#[case::source_key("[[source]]\nfrom = \"html\"\nfile = \"x\"\n", &["line 11", "“file” has no effect"])]
#[case::missing_key("[[source]]\nfrom = \"table\"\n", &["needs “file”"])]
#[case::field("[[source]]\nfrom = \"table\"\nfile = \"x.csv\"\nfields = { ulr = \"x\" }\n", &["there is no field “ulr”"])]
#[case::braces("[[source]]\nfrom = \"table\"\nfile = \"x.csv\"\nfields = { url = \"/{x\" }\n", &["braces"])]
#[case::glob("[[rule]]\nmatching = [\"staff/**\"]\n", &["must begin with “/”"])]
#[case::priority("[[rule]]\nmatching = [\"/a\"]\npriority = 7.0\n", &["“priority”", "0.0 to 1.0"])]
#[case::section("[[section]]\nname = \"My Section\"\n", &["“name”", "lower-case letters"])]
#[case::sections("[[section]]\nname = \"a\"\n[[section]]\nname = \"a\"\n", &["two sections “a”"])]
#[case::main("[files]\nmain = \"maps/sitemap.xml\"\n", &["“main”"])]
#[case::gzip("[files]\ngzip = \"both\"\n", &["beside, only, off or encoded"])]
#[case::urls("[files]\nurls_per_file = 50001\n", &["1 to 50,000"])]
#[case::bytes("[files]\nbytes_per_file = 99999999999\n", &["52428800"])]
#[case::key("[[engine]]\nwait_until_live = false\nname = \"e\"\nvia = \"indexnow\"\nendpoint = \"http://127.0.0.1:1/\"\nkey = \"short\"\n", &["“key”", "8 to 128"])]
#[case::via("[[engine]]\nwait_until_live = false\nname = \"e\"\nvia = \"pigeon\"\nendpoint = \"http://127.0.0.1:1/\"\n", &["“pigeon” is unknown"])]
fn settings_that_make_no_sense(#[case] config: &str, #[case] words: &[&str]) {
    let site = TestSite::new(&format!("{config}{HTML}"));
    site.run(&["survey"]).says(2, words);
}

#[test]
fn no_configuration_at_all() {
    let site = TestSite::new("");
    std::fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    site.run(&["build"]).says(2, &["there is no idle-atlas.toml", "idle-atlas init"]);
    site.run(&["build", "--config", "other.toml"]).says(2, &["cannot read the configuration other.toml"]);
}

#[rstest]
#[case::folder("[[source]]\nfrom = \"html\"\nfolder = \"dist\"\n", "there is no folder")]
#[case::table("[[source]]\nfrom = \"table\"\nfile = \"lost.csv\"\n", "cannot read lost.csv")]
fn a_missing_source_leaves_the_old_files(#[case] source: &str, #[case] words: &str) {
    let site = TestSite::new(HTML);
    site.page("a.html", "A", "x");
    site.build();
    let before = site.outputs();
    site.configure(&format!("{HTML}{source}"));
    site.run(&["build"]).says(3, &[words, "correct", "the first build with source"]);
    site.run(&["build", "--strict"]).says(2, &[words, "correct"]);
    assert_eq!(site.outputs(), before);
}

#[test]
fn malformed_rows_are_listed_and_good_rows_go_on() {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    site.write(
        "t.csv",
        b"url,modified,title\n/good/,2026-01-02,Good\n/short/,2026-01-02\n,2026-01-02,Nothing\nmailto:x@marrowvale.example,,Mail\n/date/,soon,Date\n/bad\xff/,,Bytes\n/last/,,\"Quoted \"\"well\"\"\"\n",
    );
    let ran = site.run(&["build"]);
    ran.says(
        1,
        &[
            "t.csv line 3: 2 columns, but the header has 3",
            "t.csv line 4: it has no url",
            "t.csv line 5: “mailto:x@marrowvale.example” is not an absolute",
            "t.csv line 6: modified “soon” is not a date such as",
            "t.csv line 7: not in UTF-8",
        ],
    );
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), ["/date/", "/good/", "/last/"]);
}

#[test]
fn malformed_json_lines_are_listed_and_good_rows_go_on() {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.jsonl\"\n");
    site.write(
        "t.jsonl",
        "{\"url\": \"/good/\", \"videos\": [{\"title\": \"Ride\", \"content\": \"/a.webm\"}]}\nnot json\n[1]\n{\"url\": 7}\n{\"url\": \"/v/\", \"videos\": \"x\"}\n{\"title\": \"no url\"}",
    );
    site.run(&["build"]).says(
        1,
        &[
            "t.jsonl line 2: not a JSON object",
            "t.jsonl line 3",
            "t.jsonl line 5: videos:",
            "t.jsonl line 6: it has no url",
            "because a part is missing",
        ],
    );
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), ["/7", "/good/", "/v/"]);
}

#[rstest]
#[case("Slug,Title\na,b\n", "has no column “url” for the field “url”; its columns are “Slug”, “Title”")]
#[case("\u{feff}", "has no column")]
fn tables_without_a_url(#[case] table: &str, #[case] words: &str) {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    site.write("t.csv", table);
    site.run(&["survey"]).says(1, &[words, "fields = { url ="]);
}

#[test]
fn an_empty_table_is_held_back() {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    site.write("t.csv", "");
    site.run(&["build"]).says(3, &["nothing would be left to list", "the sources have no entries"]);
    site.run(&["survey"])
        .says(0, &["0 entries would be listed", "A build would be held back (empty)", "the sources have no entries"]);
}

#[cfg(unix)]
#[test]
fn unreadable_and_binary_files_and_a_page_without_a_head() {
    let site = TestSite::new(HTML);
    site.page("good.html", "Good", "x");
    site.write("public/picture.html", b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR");
    site.write("public/empty.html", "");
    site.write("public/headless.html", "<p>Only a paragraph");
    std::os::unix::fs::symlink(site.path("gone.html"), site.path("public/dangling.html")).unwrap();
    let ran = site.run(&["build"]);
    ran.says(
        1,
        &[
            "public/picture.html: it is binary data, not HTML; it is not listed",
            "public/empty.html: it is empty",
            "public/dangling.html: it is a link to a missing file",
            "1  page without a head",
            "https://www.marrowvale.example/headless.html",
        ],
    );
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), ["/good.html", "/headless.html"]);
    let again = site.run(&["build"]);
    again.says(1, &["public/picture.html: it is binary data"]);
}

/// Unchanged rows are not read again, except those with something to report.
#[test]
fn bad_rows_are_reported_by_every_build_with_their_lines() {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    let rows = |fourth: &str, last: &str| {
        format!("url,modified\n/a/,2026-01-05\n/b/,2026-02-01\n/c/,{fourth}\n/d/,2026-03-01\n\"/e/\",{last}\n")
    };
    site.write("t.csv", rows("soonish", "2026-04-01"));
    let told = "t.csv line 4: modified “soonish” is not a date";
    site.run(&["build"]).says(0, &["Run 1: 5 entries", told]);
    // What the last build reported is counted, and shown to those who ask.
    let again = site.run(&["build", "--strict"]);
    again.says(1, &["5 entries", "1 value that could not be read with certainty"]);
    assert!(!again.out.contains("soonish"), "{}", again.out);
    site.run(&["build", "--verbose"]).says(0, &[told]);
    site.write("t.csv", rows("soonish", "by and by"));
    site.run(&["build"]).says(
        0,
        &[
            "5 entries",
            "1 value that could not be read with certainty",
            "t.csv line 6: modified “by and by” is not a date",
        ],
    );
    site.write("t.csv", rows("2026-02-03", "2026-04-02"));
    site.run(&["build"]).says(0, &["5 entries"]);
}

/// Of two rows for one URL, one is unchanged and would be skipped, the other is not: both have to be read.
#[test]
fn a_second_row_of_a_url_counts_although_the_first_is_unchanged() {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    site.write("t.csv", "url,modified,title\n/a/,2026-01-05,Fares\n/b/,2026-02-01,Halts\n");
    site.build();
    site.write(
        "t.csv",
        "url,modified,title\n/a/,2026-01-05,Fares\n/b/,2026-02-01,Halts\n/b/,2026-05-01,Halts and sidings\n",
    );
    site.run(&["build"]).says(0, &["repeated by the same source"]);
    assert_eq!(site.listed()["sitemap.xml"].len(), 2);
}

#[test]
fn a_page_without_a_head_alone_is_no_failure() {
    let site = TestSite::new(HTML);
    site.write("public/headless.html", "<p>Only a paragraph");
    site.run(&["build"]).says(0, &["1  page without a head"]);
}

#[test]
fn a_web_root_that_cannot_be_written() {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    site.write("t.csv", "url\n/a/\n");
    std::fs::create_dir_all(site.path("public/sitemap.xml/in-the-way")).unwrap();
    site.run(&["build"]).says(2, &["cannot write", "sitemap.xml"]);
    std::fs::remove_dir_all(site.path("public/sitemap.xml")).unwrap();
    site.run(&["build"]).says(0, &["Run 1: 1 entry"]);
    assert_eq!(site.paths().len(), 1);
}

#[test]
fn a_damaged_ledger_leaves_the_old_files() {
    let site = TestSite::new(HTML);
    site.page("a.html", "A", "x");
    site.build();
    let before = site.outputs();
    site.write(".idle-atlas/ledger.db", vec![b'x'; 40_000]);
    site.run(&["build"]).says(2, &["the ledger"]);
    assert_eq!(site.outputs(), before);
    std::fs::remove_dir_all(site.path(".idle-atlas")).unwrap();
    site.run(&["build"]).says(0, &["of 1 entry were learnt from 1 sitemap file", "Run 2: 1 entry"]);
    assert_eq!(site.outputs(), before);
}
