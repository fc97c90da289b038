//! Sections that rows make.

use rstest::rstest;

use crate::support::TestSite;

/// Rows make the sections that they name; later builds know them without reading every row.
#[rstest]
#[case::template("section = \"{Kind}\"", "url,Kind")]
#[case::column("", "url,section")]
fn rows_make_sections(#[case] setting: &str, #[case] header: &str) {
    let defaults = "[sections]\nchangefreq = \"weekly\"\nurls_per_file = 2\n";
    let site = TestSite::new(&format!("{defaults}[[source]]\nfrom = \"table\"\nfile = \"rows.csv\"\n{setting}\n"));
    let rows = |more: &str| format!("{header}\n/a/,Cab rides & Films\n/b/,cab rides; films\n/c/,Halts\n/d/,—\n{more}");
    site.write("rows.csv", rows(""));
    let first = site.run(&["build"]);
    first.says(0, &["2  sections that rows made", "cab-rides-films", "halts", "4 entries"]);
    let of = |section: &str| {
        let listed = site.json(&["survey", "--list", "--section", section]);
        let rows = listed.as_array().unwrap_or_else(|| panic!("{listed}")).clone();
        rows.iter().map(|row| row["url"].as_str().unwrap().rsplit('/').nth(1).unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(
        (of("cab-rides-films"), of("halts"), of("pages")),
        (vec!["a".into(), "b".into()], vec!["c".into()], vec!["d".into()])
    );
    let hints = site.read("public/atlas-cab-rides-films-1.xml");
    assert_eq!(hints.matches("<changefreq>weekly</changefreq>").count(), 2, "{hints}");
    site.run(&["build"]).says(0, &["nothing to write"]);
    site.write("rows.csv", rows("/e/,Halts\n/f/,Signals\n"));
    let later = site.run(&["build"]);
    later.says(0, &["1  section that rows made", "signals"]);
    assert!(!later.out.contains("changed   https://www.marrowvale.example/atlas-cab"), "{later:?}");
    assert_eq!((of("halts"), of("signals")), (vec!["c".to_owned(), "e".into()], vec!["f".to_owned()]));
}

#[test]
fn sections_from_a_template_need_rows() {
    let site = TestSite::new("[[source]]\nfrom = \"html\"\nfolder = \"public\"\nsection = \"{kind}\"\n");
    site.run(&["survey"]).says(2, &["“section”: only sources of the kinds table, sql, command make sections"]);
}
