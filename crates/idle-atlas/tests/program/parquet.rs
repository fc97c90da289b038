//! Tables in Parquet files, as Spark, pyarrow and DuckDB write them.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use rstest::rstest;

use crate::support::{TestSite, copy, source};

/// The mapping of the tests' table.
const FIELDS: &str = "fields = { url = \"/halts/{year}/{slug}/\", modified = \"updated\", images = \"pictures\" }";

/// A site with the table that Spark wrote.
fn spark(more: &str) -> TestSite {
    let site = TestSite::new(&source("table", &format!("file = \"spark/**/*.parquet\"\n{more}")));
    copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/parquet/spark"), &site.path("spark"));
    site
}

/// The files of a table, in the order of their names.
fn files(folder: &Path) -> Vec<PathBuf> {
    let mut found: Vec<PathBuf> = Vec::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            found.extend(files(&path));
        } else if path.extension().is_some_and(|end| end == "parquet") {
            found.push(path);
        }
    }
    found.sort();
    found
}

#[rstest]
#[case::by_pattern("spark/**/*.parquet", "")]
#[case::by_folder("spark/", "layout = \"parquet\"")]
fn a_partitioned_table_of_spark(#[case] file: &str, #[case] layout: &str) {
    let site = spark("");
    site.configure(&source("table", &format!("file = \"{file}\"\n{layout}\n{FIELDS}")));
    site.run(&["build"]).says(0, &["2 entries in 1 sitemap file", "draft"]);
    assert_eq!(site.lastmod("/halts/2025/weir/").unwrap(), "2025-07-01T08:30:00Z", "96 bits are an instant");
    assert_eq!(site.lastmod("/halts/2026/ty-croes/").unwrap(), "2026-11-01T08:30:00Z");
    assert_eq!(site.listed()["sitemap.xml"][0].images.len(), 2);
}

#[test]
fn unchanged_rows_are_recognised_and_changes_found() {
    let site = spark(FIELDS);
    site.build();
    site.run(&["build"]).says(0, &["no entry changed"]);
    fs::remove_dir_all(site.path("spark/year=2025")).unwrap();
    site.run(&["build"]).says(0, &["1 removed"]);
}

/// A part that cannot be read costs nothing: what it named stands.
#[rstest]
#[case::cut_short(|bytes: &mut Vec<u8>| bytes.truncate(300), "it is not a whole Parquet file")]
#[case::nothing(Vec::clear, "it is not a whole Parquet file")]
#[case::damaged_inside(|bytes: &mut Vec<u8>| bytes[4..60].fill(0xff), "year=2026/part")]
fn a_damaged_part_of_a_table(#[case] damage: fn(&mut Vec<u8>), #[case] wanted: &str) {
    let site = spark(FIELDS);
    site.build();
    let part = files(&site.path("spark")).pop().unwrap();
    let mut bytes = fs::read(&part).unwrap();
    damage(&mut bytes);
    fs::write(&part, bytes).unwrap();
    site.run(&["build"]).says(1, &[wanted, "year=2026"]);
    assert!(site.lastmod("/halts/2026/ty-croes/").is_some(), "what it named stands");
    assert!(site.lastmod("/halts/2025/weir/").is_some());
}

#[rstest]
#[case::boolean(
    "modified = \"draft\"",
    "“draft” is of type boolean, which cannot serve as the field “modified”; expected a date, a timestamp, a number or a text"
)]
#[case::a_list(
    "title = \"pictures\"",
    "“pictures” is of type list of string, which cannot serve as the field “title”; expected a text or a number"
)]
#[case::a_list_in_a_template(
    "id = \"/x/{pictures}/\"",
    "“pictures” is of type list of string, which cannot serve as a template"
)]
#[case::no_such_column(
    "title = \"name\"",
    "it has no column “name” for the field “title”; its columns are “slug”, “title”, “updated”, “views”, “pictures”, “draft”, “year”"
)]
fn columns_that_cannot_serve(#[case] field: &str, #[case] wanted: &str) {
    let site = spark(&format!("fields = {{ url = \"/halts/{{slug}}/\", {field} }}"));
    site.run(&["survey"]).says(1, &["spark/", wanted]);
}

#[test]
fn nothing_matches() {
    let site = TestSite::new(&source("table", &format!("file = \"exports/*.parquet\"\n{FIELDS}")));
    site.run(&["survey"]).says(1, &["cannot read exports/*.parquet: No such file or directory", "correct “file”"]);
}

/// Dictionaries, large strings, zones, decimals, lists and structs, in files with several row groups.
#[rstest]
#[case::pyarrow("pyarrow")]
#[case::duckdb("duckdb")]
#[ignore = "needs pyarrow and DuckDB in the Python that IDLE_ATLAS_PYTHON names"]
fn a_table_written_by(#[case] program: &str) {
    let python = std::env::var("IDLE_ATLAS_PYTHON").expect("IDLE_ATLAS_PYTHON names a Python");
    let fields = "fields = { url = \"/halts/{year}/{slug}/\", modified = [\"updated\", \"local\"], published = \"opened\", \
                  images = \"pictures\", videos = \"films\", priority = \"share\" }";
    let archive = "[[archive]]\nby = \"tag\"\nurl = \"/about/{slug}/\"\n";
    let site = TestSite::new(&source("table", &format!("file = \"halts/**/*.parquet\"\n{fields}\n{archive}")));
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/parquet/write.py");
    let written = Command::new(python).arg(script).arg(program).arg(site.path("halts")).status().unwrap();
    assert!(written.success());
    site.run(&["build"]).says(0, &["5 entries in", "draft"]);
    assert_eq!(site.lastmod("/halts/2025/weir/").unwrap(), "2026-07-01T08:30:00Z");
    assert_eq!(site.lastmod("/halts/2026/summit/").unwrap(), "2026-07-02T09:00:00+01:00", "of the site's zone");
    let listed = site.listed();
    let weir = listed.values().flatten().find(|url| url.loc.as_ref().unwrap().ends_with("/weir/")).unwrap();
    assert_eq!((weir.images.len(), weir.videos.len()), (2, 1));
    site.run(&["why", "/halts/2025/weir/", "--fresh"]).says(0, &["0.8", "VideoObject"]);
    site.run(&["why", "/about/river/"]).says(0, &["listed"]);
    site.run(&["build"]).says(0, &["no entry changed"]);
}
