//! Queries that use `:since`: what they read, what they say, and what is wrong with them.

use rstest::rstest;

use crate::databases::{MARIADB, POSTGRES, ask, run};
use crate::support::TestSite;

const QUERY: &str =
    "select '/lamps/' || n || '/' as url, updated as modified, deleted as gone from lamps where updated >= :since";

fn config(query: &str, more: &str) -> String {
    format!(
        "[[source]]\nname = \"shop\"\nfrom = \"sql\"\nconnection = \"sqlite:shop.db\"\nsection = \"lamps\"\nquery = {query:?}\n{more}\n"
    )
}

fn script(site: &TestSite, script: &str) {
    rusqlite::Connection::open(site.path("shop.db")).unwrap().execute_batch(script).unwrap();
}

/// A shop with ten lamps.
fn shop(query: &str, more: &str) -> TestSite {
    let site = TestSite::new(&config(query, more));
    script(
        &site,
        "create table lamps (n integer, updated text, deleted integer default 0);
         with recursive n(i) as (select 1 union all select i + 1 from n where i < 10)
         insert into lamps select i, '2026-01-01 00:00:00', 0 from n;",
    );
    site
}

/// Builds at an instant.
fn at(site: &TestSite, instant: &str, arguments: &[&str]) -> crate::support::Ran {
    let seconds = instant.parse::<jiff::Timestamp>().unwrap().as_second().to_string();
    crate::support::Ran::of(site.command(arguments).env("SOURCE_DATE_EPOCH", seconds).output().unwrap())
}

#[test]
fn only_what_changed_is_read() {
    let site = shop(QUERY, "");
    at(&site, "2026-11-01T10:00:00Z", &["build"]).says(0, &["10 entries"]);
    at(&site, "2026-11-01T11:00:00Z", &["build"])
        .says(0, &["nothing to write", "shop: 0 rows since 2026-11-01 10:00 GMT; 10 entries stand as they were"]);
    script(
        &site,
        "update lamps set updated = '2026-11-01 11:30:00', deleted = 1 where n = 3;
         insert into lamps values (11, '2026-11-01 11:00:00', 0);",
    );
    at(&site, "2026-11-01T12:00:00Z", &["build"]).says(
        0,
        &[
            "shop: 2 rows since 2026-11-01 11:00 GMT; 9 entries stand as they were",
            "+ https://www.marrowvale.example/lamps/11/",
            "row says that it is gone  https://www.marrowvale.example/lamps/3/",
        ],
    );
    assert_eq!(site.paths().len(), 10);
    let told = at(&site, "2026-11-01T13:00:00Z", &["build", "--json"]);
    let told: serde_json::Value = serde_json::from_str(&told.out).unwrap();
    assert_eq!(told["sources"][0]["increment"]["stand"], 10, "{told}");
    assert_eq!(told["sources"][0]["kept"], 10);
    // What is deleted without a trace is found by the full read, a day after the last.
    script(&site, "delete from lamps where n = 5");
    at(&site, "2026-11-02T09:59:59Z", &["build"]).says(0, &["nothing to write"]);
    at(&site, "2026-11-02T10:00:00Z", &["build"]).says(0, &["1 removed", "− https://www.marrowvale.example/lamps/5/"]);
}

#[test]
fn a_killed_or_held_build_asks_for_the_same_again() {
    let site = shop(QUERY, "full_every = \"30 days\"");
    at(&site, "2026-11-01T10:00:00Z", &["build"]).says(0, &["10 entries"]);
    script(&site, "update lamps set updated = '2026-11-02 10:00:00', deleted = 1 where n > 2");
    at(&site, "2026-11-02T11:00:00Z", &["build"]).says(3, &["held"]);
    let ran = at(&site, "2026-11-02T12:00:00Z", &["build", "--allow", "shrink"]);
    ran.says(0, &["8 rows since 2026-11-01 10:00 GMT; 2 entries stand"]);
    assert_eq!(site.paths().len(), 2);
}

#[rstest]
#[case::archives(
    "[[archive]]\nby = \"category\"\nsection = \"lamps\"\nurl = \"/kinds/{slug}/\"\nassume_page = true",
    "something that is made from all rows"
)]
#[case::a_page_for_visitors("[visitor_page]", "something that is made from all rows")]
fn what_is_made_from_all_rows_is_made_from_all(#[case] more: &str, #[case] wanted: &str) {
    let query = QUERY.replace("deleted as gone", "deleted as gone, 'kind ' || n as category");
    let site = shop(&query, more);
    at(&site, "2026-11-01T10:00:00Z", &["build"]).says(0, &["entries"]);
    at(&site, "2026-11-01T11:00:00Z", &["build"]).says(0, &["0 rows since"]);
    script(&site, "insert into lamps values (11, '2026-11-01 11:30:00', 0)");
    let ran = at(&site, "2026-11-01T12:00:00Z", &["build"]);
    ran.says(0, &["+ https://www.marrowvale.example/lamps/11/", wanted]);
    assert!(site.paths().len() >= 11);
}

/// A day begins at midnight in the site's zone: here thirteen hours before it does in UTC.
#[test]
fn a_scheduled_page_is_listed_when_its_day_begins() {
    let query = QUERY.replace("deleted as gone", "deleted as gone, shown as published");
    let site = shop(&query, "");
    site.reconfigure("Europe/London", "Pacific/Auckland");
    script(&site, "alter table lamps add column shown text; update lamps set shown = '2026-11-02' where n = 4;");
    at(&site, "2026-11-01T08:00:00Z", &["build"]).says(0, &["9 entries"]);
    at(&site, "2026-11-01T10:59:00Z", &["build"]).says(0, &["0 rows since", "9 entries"]);
    at(&site, "2026-11-01T11:00:00Z", &["build"]).says(0, &["10 entries", "+ https://www.marrowvale.example/lamps/4/"]);
}

#[test]
fn what_hinders_is_said() {
    let archive = "[[archive]]\nby = \"category\"\nsection = \"lamps\"\nurl = \"/kinds/{slug}/\"\nassume_page = true";
    let site = shop(
        QUERY,
        &format!("pages = \"may-be-elsewhere\"\n[[source]]\nfrom = \"html\"\nfolder = \"public\"\n{archive}"),
    );
    site.page("about.html", "About", "Lamps since then");
    at(&site, "2026-11-01T10:00:00Z", &["build"]).says(0, &["archives or translations, and a source that is neither"]);
    let site = shop(QUERY, "[[rule]]\nolder_than_days = 30\nkeep = false");
    site.reconfigure("older_than_days = 30", "older_than_days = 3650");
    at(&site, "2026-11-01T10:00:00Z", &["build"]).says(0, &["10 entries", "because a rule depends on the date"]);
}

#[rstest]
#[case::misspelt(
    "select '/a/' as url where 1 >= :sinse",
    "",
    "the query has the parameter :sinse, for which there is no value; only :since has one"
)]
#[case::no_condition(
    "select '/a/' as url",
    "full_every = \"1 day\"",
    "“full_every”: the query reads everything each time, because it does not use :since"
)]
#[case::too_short(
    QUERY,
    "full_every = \"5s\"",
    "“full_every”: expected a time of a minute to a year, such as \"1 day\" or \"6h\""
)]
#[case::no_time(QUERY, "full_every = \"daily\"", "“full_every”: expected a time of a minute to a year")]
#[case::unclear_whether_gone("select '/a/' as url, 'perhaps' as gone", "", "gone “perhaps” is not yes or no")]
fn mistakes_are_explained(#[case] query: &str, #[case] more: &str, #[case] wanted: &str) {
    let ran = shop(query, more).run(&["survey"]);
    let said = format!("{}{}", ran.out, ran.errors);
    assert!(ran.code > 0 && said.contains(wanted), "{said}");
}

#[rstest]
#[case::postgres(POSTGRES, "timestamptz", "select '/lamps/' || n || '/' as url from TABLE where seen >= :since")]
#[case::postgres_without_a_zone(
    POSTGRES,
    "timestamp",
    "select '/lamps/' || n || '/' as url from TABLE where seen >= :since"
)]
#[case::mariadb(MARIADB, "timestamp", "select concat('/lamps/', n, '/') as url from TABLE where seen >= :since")]
#[case::mariadb_without_a_zone(
    MARIADB,
    "datetime",
    "select concat('/lamps/', n, '/') as url from TABLE where seen >= :since"
)]
#[ignore = "needs PostgreSQL and MariaDB servers"]
fn each_database_compares_the_instant_with_its_own_times(
    #[case] server: &str,
    #[case] kind: &str,
    #[case] query: &str,
) {
    let table = format!("since_{}_{kind}", if server == POSTGRES { "p" } else { "m" });
    ask(server, &format!("drop table if exists {table}"));
    ask(server, &format!("create table {table} (n int, seen {kind})"));
    // The site is in London, an hour ahead of UTC in July; a time without a zone is the site's.
    let (zone, hour) = if kind == "timestamptz" { ("+00", 9) } else { ("", 10) };
    let session = if server == MARIADB { "set time_zone = 'Europe/London'; " } else { "" };
    let insert = |n: u32, minute: u32| {
        ask(server, &format!("{session}insert into {table} values ({n}, '2026-07-01 {hour:02}:{minute:02}:00{zone}')"));
    };
    insert(1, 10);
    let query = query.replace("TABLE", &table);
    let site = TestSite::new(&format!("[[source]]\nfrom = \"sql\"\nconnection = \"${{DEPOT}}\"\nquery = {query:?}\n"));
    let build = |instant: &str| {
        let seconds = instant.parse::<jiff::Timestamp>().unwrap().as_second().to_string();
        let mut command = site.command(&["build"]);
        command.env("SOURCE_DATE_EPOCH", seconds).env("DEPOT", std::env::var(server).unwrap());
        crate::support::Ran::of(command.output().unwrap())
    };
    build("2026-07-01T09:30:00Z").says(0, &["1 entry"]);
    build("2026-07-01T09:40:00Z").says(0, &["0 rows since 2026-07-01 10:30 BST; 1 entry stands as it was"]);
    insert(2, 39);
    insert(3, 40);
    build("2026-07-01T09:50:00Z").says(0, &["1 row since 2026-07-01 10:40 BST"]);
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), ["/lamps/1/", "/lamps/3/"]);
    ask(server, &format!("drop table {table}"));
    run(&site, server, &["config", "check"]).says(0, &[]);
}
