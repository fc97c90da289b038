//! Limits: by count and by bytes, whichever comes first.

use std::fmt::Write as _;

use crate::support::{DAY, NOON, TestSite};

#[test]
fn a_table_of_120_000_entries_makes_three_files_and_an_index() {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[files]\nurls_per_file = 50000\n");
    let mut table = "url,modified\n".to_owned();
    for row in 0..120_000 {
        writeln!(table, "/plates/{row}/,2026-0{}-1{}", row % 9 + 1, row % 7).unwrap();
    }
    site.write("t.csv", table);
    site.build();
    let sizes: Vec<usize> = site.listed().values().map(Vec::len).collect();
    assert_eq!(sizes, [50_000, 50_000, 20_000]);
    assert_eq!(site.paths().len(), 120_000);
    let oldest = &site.listed()["atlas-pages-1.xml"];
    assert!(oldest.iter().all(|url| url.lastmod.as_deref() < Some("2026-06-01")), "filled by age");
    site.run(&["check"]).says(0, &["Nothing is wrong"]);
}

#[test]
fn long_urls_split_on_bytes() {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[files]\nbytes_per_file = 100000\n");
    let tail = "x&y=1/".repeat(150);
    let table: String = (0..500).map(|row| format!("/plates/{row}?q={tail}\n")).collect();
    site.write("t.csv", format!("url\n{table}"));
    site.build();
    let names: Vec<String> = site.listed().into_keys().collect();
    assert!(names.len() > 4, "{names:?}");
    for name in &names {
        let size = std::fs::metadata(site.path("public").join(name)).unwrap().len();
        assert!(size <= 100_000, "{name} has {size} bytes");
    }
    let full =
        names.iter().filter(|name| std::fs::metadata(site.path("public").join(name)).unwrap().len() > 97_000).count();
    assert_eq!(full, names.len() - 1, "each but the last is filled");
    assert_eq!(site.paths().len(), 500);
}

#[test]
fn a_lowered_limit_moves_only_the_surplus() {
    let config =
        |limit: u32| format!("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[files]\nurls_per_file = {limit}\n");
    let site = TestSite::new(&config(10));
    site.write("t.csv", (0..30).fold("url\n".to_owned(), |table, row| format!("{table}/p{row}/\n")));
    site.build();
    let before = site.listed();
    site.configure(&config(8));
    site.build();
    let after = site.listed();
    assert_eq!(site.paths().len(), 30);
    for number in 1..=3 {
        let name = format!("atlas-pages-{number}.xml");
        assert_eq!(after[&name][..], before[&name][..8], "{name}");
    }
    assert_eq!(after["atlas-pages-4.xml"].len(), 6);
}

#[test]
fn more_files_than_one_index_holds_make_a_second_and_all_are_declared() {
    let site = TestSite::new(
        "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[files]\nurls_per_file = 3\nfiles_per_index = 4\ngzip = \"beside\"\n",
    );
    let table = |rows: usize| {
        let rows: String =
            (0..rows).map(|row| format!("/halts/{row:03}/,2026-01-01T00:00:{:02}Z\n", row % 60)).collect();
        site.write("t.csv", format!("url,published\n{rows}"));
    };
    table(30);
    site.run(&["build"]).says(0, &["Submit these 3 URLs", "sitemap.xml", "sitemap-2.xml", "sitemap-3.xml"]);
    let robots = site.read("public/robots.txt");
    assert_eq!(robots.matches("Sitemap: ").count(), 3, "{robots}");
    let lines = |name: &str| site.read(&format!("public/{name}")).matches("<sitemap>").count();
    assert_eq!(["sitemap.xml", "sitemap-2.xml", "sitemap-3.xml"].map(lines), [4, 4, 2]);
    assert!(site.path("public/sitemap-3.xml.gz").exists());
    site.run(&["check"]).says(0, &["Nothing is wrong"]);
    // One index is enough again: the others are removed, and so are their lines.
    table(11);
    site.run(&["build", "--allow", "shrink"]).says(0, &["Submit this one URL"]);
    assert!(!site.path("public/sitemap-2.xml").exists() && !site.path("public/sitemap-3.xml.gz").exists());
    assert_eq!(site.read("public/robots.txt").matches("Sitemap: ").count(), 1);
    site.run(&["check"]).says(0, &["Nothing is wrong"]);
}

#[test]
fn an_index_that_another_tool_wrote_is_not_written_over() {
    let site = TestSite::new(
        "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[files]\nurls_per_file = 1\nfiles_per_index = 1\n",
    );
    site.write("t.csv", "url\n/a/\n/b/\n");
    site.spoil("sitemap-2.xml", "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"></urlset>");
    site.run(&["build"])
        .says(3, &["sitemap-2.xml would be overwritten", "not written by Idle Atlas", "--allow overwrite"]);
}

#[test]
fn a_file_that_left_the_index_stays_for_the_stated_days() {
    for (days, stays) in [("3", true), ("1", false)] {
        let mut site = TestSite::new(&format!(
            "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[files]\nurls_per_file = 10\ngzip = \"off\"\nfolded_days = {days}\n"
        ));
        let table = |site: &TestSite, from: usize| {
            site.write("t.csv", (from..40).fold("url\n".to_owned(), |table, row| table + &format!("/halts/{row}/\n")));
        };
        table(&site, 0);
        site.build();
        table(&site, 8);
        site.build();
        assert!(site.path("public/atlas-pages-1.xml").exists() && !site.listed().contains_key("atlas-pages-1.xml"));
        site.at(NOON + 2 * DAY);
        site.build();
        assert_eq!(site.path("public/atlas-pages-1.xml").exists(), stays);
    }
}
