//! The source `sql` with real servers, named by environment variables.

use rstest::rstest;

use crate::support::TestSite;

fn config(query: &str, more: &str) -> String {
    format!("[[source]]\nfrom = \"sql\"\nconnection = \"${{DEPOT}}\"\nquery = {query:?}\n{more}\n")
}

/// Runs the program with the connection in an environment variable.
fn run(site: &TestSite, server: &str, arguments: &[&str]) -> crate::support::Ran {
    let connection = std::env::var(server).unwrap_or_else(|_| panic!("{server} names a server to test against"));
    crate::support::Ran::of(site.command(arguments).env("DEPOT", connection).output().unwrap())
}

/// The server of `POSTGRES`, behind a pooler that gives a session to another client after each transaction.
const POOLED: &str = "IDLE_ATLAS_POOLED_POSTGRES";
const POSTGRES: &str = "IDLE_ATLAS_POSTGRES";
const MARIADB: &str = "IDLE_ATLAS_MARIADB";

const POSTGRES_QUERY: &str = "select '/halts/' || slug || '/' as url, seen as modified, array[photo, '/all.svg'] as images, stops as priority, json_build_object('a',
 1) as other from (values ('lampworks', timestamptz '2026-03-04 09:30:00+00', '/l.svg', 0.5::numeric), ('kettlewend', null, null, null)) as halts (slug, seen, photo, stops) -- all of them";
const MARIADB_QUERY: &str = "select concat('/halts/', slug, '/') as url, seen as modified, concat(coalesce(photo, ''), '|/all.svg') as images, stops as priority from (select 'lampworks' as slug, timestamp '2026-03-04 09:30:00' as seen, '/l.svg' as photo, 0.5 as stops union all select 'kettlewend', null, null, null) as halts order by slug;";

#[rstest]
#[case::postgres(POSTGRES, POSTGRES_QUERY)]
#[case::mariadb(MARIADB, MARIADB_QUERY)]
#[ignore = "needs PostgreSQL and MariaDB servers"]
fn a_query_is_a_source(#[case] server: &str, #[case] query: &str) {
    let site = TestSite::new(&config(query, "section = \"halts\""));
    run(&site, server, &["build"]).says(0, &["2 entries"]);
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), ["/halts/kettlewend/", "/halts/lampworks/"]);
    let lastmod = site.lastmod("/halts/lampworks/").unwrap();
    assert_eq!(lastmod, "2026-03-04T09:30:00Z");
    if server == MARIADB {
        // One column of each type, both written at 09:30 UTC: an instant, and a time of day in the site's zone.
        for (kind, wanted) in [("instant", "2026-07-04T10:30:00+01:00"), ("time_of_day", "2026-07-04T09:30:00+01:00")] {
            let query = format!("select '/{kind}/' as url, {kind} as modified from visits where {kind} is not null");
            let visits = TestSite::new(&config(&query, ""));
            run(&visits, server, &["build"]).says(0, &["1 entry"]);
            assert_eq!(visits.lastmod(&format!("/{kind}/")).as_deref(), Some(wanted));
        }
    }
    let urls = site.listed()["sitemap.xml"].clone();
    let images: Vec<usize> = urls.iter().map(|url| url.images.len()).collect();
    assert_eq!(images, [2, 1]);
}

#[rstest]
#[case::postgres(
    POSTGRES,
    "select url from no_such_table",
    "",
    "the query failed: relation \"no_such_table\" does not exist"
)]
#[case::mariadb(MARIADB, "select url from no_such_table", "", "the query failed: Table")]
#[case::postgres_writes(POSTGRES, "insert into pg_temp.t values (1) returning 1 as url", "", "the query failed")]
#[case::mariadb_writes(
    MARIADB,
    "create table mischief (a int)",
    "",
    "the query failed: Cannot execute statement in a READ ONLY transaction"
)]
#[case::mariadb_commits(MARIADB, "commit; create table mischief (a int)", "", "the query failed")]
#[case::postgres_slow(POSTGRES, "select '/a/' as url from pg_sleep(20)", "wait_seconds = 1", "longer than 1 second")]
#[case::mariadb_slow(MARIADB, "select '/a/' as url, sleep(20)", "wait_seconds = 1", "longer than 1 second")]
#[ignore = "needs PostgreSQL and MariaDB servers"]
fn database_errors_are_reported(#[case] server: &str, #[case] query: &str, #[case] more: &str, #[case] wanted: &str) {
    let site = TestSite::new(&config(query, more));
    let ran = run(&site, server, &["survey"]);
    let said = format!("{}{}", ran.out, ran.errors);
    assert_eq!(ran.code, 2, "{said}");
    assert!(
        said.contains(wanted) || (wanted == "longer than 1 second" && said.contains("statement timeout")),
        "{said}"
    );
    let connection = std::env::var(server).unwrap();
    let secret = connection.split("://").nth(1).unwrap().split('@').next().unwrap().to_owned();
    assert!(!said.contains(&secret), "{said}");
}

/// During a query the server's time zone is the site's, so its formatting agrees with ours.
#[rstest]
#[case::postgres(
    POSTGRES,
    "select '/' || to_char(at, 'YYYY/MM/DD') || '/' as url, at as published, at::timestamp as modified from (values (timestamptz '2026-07-01 23:30:00+00')) as late (at)"
)]
#[case::pooled(
    POOLED,
    "select '/' || to_char(at, 'YYYY/MM/DD') || '/' as url, at as published, at::timestamp as modified from (values (timestamptz '2026-07-01 23:30:00+00')) as late (at)"
)]
#[case::mariadb(
    MARIADB,
    "select concat('/', date_format(late, '%Y/%m/%d'), '/') as url, late as published, cast(late as datetime) as modified from nights"
)]
#[ignore = "needs PostgreSQL, PgBouncer and MariaDB servers"]
fn a_query_runs_in_the_sites_zone(#[case] server: &str, #[case] query: &str) {
    let site = TestSite::new(&config(query, ""));
    run(&site, server, &["build"]).says(0, &["1 entry"]);
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), ["/2026/07/02/"]);
    assert_eq!(site.lastmod("/2026/07/02/").as_deref(), Some("2026-07-02T00:30:00+01:00"));
}

/// A session that a pooler gives to others has none of our settings, even after a query that failed.
#[rstest]
#[case::done("select '/a/' as url", 0)]
#[case::failed("select url from no_such_table", 2)]
#[ignore = "needs PostgreSQL behind PgBouncer"]
fn a_pooled_session_is_returned_unchanged(#[case] query: &str, #[case] code: i32) {
    let shown = "select '/' || current_setting('transaction_read_only') || '/' || current_setting('default_transaction_read_only') || '/' || current_setting('statement_timeout') || '/' || current_setting('timezone') || '/' as url";
    let client = || {
        let connection = std::env::var(POOLED).unwrap();
        let shown = std::process::Command::new("psql").args([&connection, "-A", "-t", "-c", shown]).output().unwrap();
        String::from_utf8(shown.stdout).unwrap()
    };
    let before = client();
    assert!(before.contains("/off/off/0/"), "{before}");
    let site = TestSite::new(&config(query, ""));
    // Several sources in turn, because statements with the same name would be mixed up.
    for _ in 0..3 {
        assert_eq!(run(&site, POOLED, &["survey"]).code, code);
        assert_eq!(client(), before);
    }
}
