//! A program built without some features says what it lacks, and how to get it.

#[cfg(not(all(
    feature = "feed",
    feature = "markdown",
    feature = "parquet",
    feature = "sql-servers",
    feature = "test-engine"
)))]
use crate::support::TestSite;

#[cfg(not(feature = "feed"))]
#[test]
fn feeds() {
    let site = TestSite::new("[[source]]\nfrom = \"feed\"\nfile = \"feed.xml\"\n");
    site.run(&["survey"]).says(2, &["idle-atlas.toml", "built without “feed”", "cargo feature “feed”"]);
}

#[cfg(not(feature = "markdown"))]
#[test]
fn articles() {
    let site = TestSite::new("[[source]]\nfrom = \"markdown\"\nfolder = \"articles\"\n");
    site.run(&["survey"]).says(2, &["idle-atlas.toml", "built without “markdown”", "cargo feature “markdown”"]);
}

#[cfg(not(feature = "sql-servers"))]
#[rstest::rstest]
#[case("postgres://db.example/depot")]
#[case("mysql://db.example/depot")]
fn servers_of_databases(#[case] connection: &str) {
    let query = "select url from pages";
    let source = format!("[[source]]\nfrom = \"sql\"\nconnection = \"{connection}\"\nquery = \"{query}\"\n");
    let told = ["idle-atlas.toml", "built without database servers", "cargo feature “sql-servers”"];
    TestSite::new(&source).run(&["survey"]).says(2, &told);
}

#[cfg(not(feature = "test-engine"))]
#[rstest::rstest]
#[case("demo")]
#[case("test-engine")]
fn the_test_engine(#[case] command: &str) {
    TestSite::new("").run(&[command]).says(2, &["built without a test engine", "cargo feature “test-engine”"]);
}

#[cfg(not(feature = "parquet"))]
#[rstest::rstest]
#[case::by_name("file = \"exports/*.parquet\"")]
#[case::by_layout("file = \"exports/\"\nlayout = \"parquet\"")]
fn parquet(#[case] typed: &str) {
    let told = ["idle-atlas.toml", "built without Parquet", "use the release archive", "cargo feature “parquet”"];
    TestSite::new(&format!("[[source]]\nfrom = \"table\"\n{typed}\n")).run(&["survey"]).says(2, &told);
}
