//! The source `sql` with real servers, named by environment variables.

use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};
use std::thread;
use std::time::Duration;

use rstest::rstest;

use crate::support::TestSite;

fn config(query: &str, more: &str) -> String {
    format!("[[source]]\nfrom = \"sql\"\nconnection = \"${{DEPOT}}\"\nquery = {query:?}\n{more}\n")
}

/// Runs the program with the connection in an environment variable.
pub fn run(site: &TestSite, server: &str, arguments: &[&str]) -> crate::support::Ran {
    let connection = std::env::var(server).unwrap_or_else(|_| panic!("{server} names a server to test against"));
    crate::support::Ran::of(site.command(arguments).env("DEPOT", connection).output().unwrap())
}

/// The server of `POSTGRES`, behind a pooler that gives a session to another client after each transaction.
const POOLED: &str = "IDLE_ATLAS_POOLED_POSTGRES";
pub const POSTGRES: &str = "IDLE_ATLAS_POSTGRES";
pub const MARIADB: &str = "IDLE_ATLAS_MARIADB";

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
    assert_eq!(ran.code, 1, "{said}");
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
#[case::failed("select url from no_such_table", 1)]
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

/// Runs a statement as the server's own client does, and returns what it prints.
pub fn ask(server: &str, statement: &str) -> String {
    let url = std::env::var(server).unwrap();
    let output = client(server, &url, statement).output().unwrap();
    assert!(output.status.success(), "{statement}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap().trim().to_owned()
}

/// The server's own client, for one statement.
fn client(server: &str, url: &str, statement: &str) -> Command {
    if server != MARIADB {
        let mut command = Command::new("psql");
        command.args([url, "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-c", statement]);
        return command;
    }
    let url = url::Url::parse(url).unwrap();
    let mut command = Command::new("mariadb");
    command.args(["--no-defaults", "-N", "-h", url.host_str().unwrap(), "-P", &url.port().unwrap().to_string()]);
    command.args(["-u", url.username(), &format!("-p{}", url.password().unwrap()), &url.path()[1..], "-e", statement]);
    command
}

/// Another client, which runs a statement until it is dropped.
struct OtherClient(Child);

impl OtherClient {
    fn running(server: &str, url: &str, statement: &str) -> Self {
        let mut command = client(server, url, statement);
        let client = Self(command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
        thread::sleep(Duration::from_millis(700));
        client
    }
}

impl Drop for OtherClient {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// How many queries with this word the server is busy with.
fn busy(server: &str, word: &str) -> usize {
    let list = match server {
        MARIADB => format!(
            "select count(*) from information_schema.processlist where info like '%{word}%' and id <> connection_id() and command <> 'Sleep'"
        ),
        _ => format!(
            "select count(*) from pg_stat_activity where query like '%{word}%' and state = 'active' and pid <> pg_backend_pid()"
        ),
    };
    ask(server, &list).parse().unwrap()
}

fn is_soon(wanted: impl Fn() -> bool) -> bool {
    (0..100).any(|_| {
        thread::sleep(Duration::from_millis(50));
        wanted()
    })
}

/// The query would be busy for a minute.
fn endless(server: &str, word: &str) -> String {
    match server {
        MARIADB => format!("select '/a/' as url, sleep(60) as {word}"),
        _ => format!("select '/a/' as url, pg_sleep(60)::text as {word}"),
    }
}

/// A query that nobody waits for ends on the server, at the time limit and when the program is stopped.
#[rstest]
#[case::postgres(POSTGRES)]
#[case::pooled(POOLED)]
#[case::mariadb(MARIADB)]
#[ignore = "needs PostgreSQL, PgBouncer and MariaDB servers"]
fn a_query_that_nobody_waits_for_ends(#[case] server: &str) {
    let direct = if server == POOLED { POSTGRES } else { server };
    // Tests run at the same time, on the same servers.
    let (late_word, stopped_word) =
        (format!("late_{server}").to_lowercase(), format!("stopped_{server}").to_lowercase());
    let late = TestSite::new(&config(&endless(server, &late_word), "wait_seconds = 1"));
    run(&late, server, &["survey"]).says(1, &["the query took longer than 1 second and was ended"]);
    assert!(is_soon(|| busy(direct, &late_word) == 0));
    let stopped = TestSite::new(&config(&endless(server, &stopped_word), ""));
    let mut command = stopped.command(&["survey"]);
    let connection = std::env::var(server).unwrap();
    let mut child = command.env("DEPOT", connection).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    assert!(is_soon(|| busy(direct, &stopped_word) == 1));
    Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert!(is_soon(|| busy(direct, &stopped_word) == 0));
}

/// A smaller limit of the server stays.
#[rstest]
#[case::postgres(POSTGRES)]
#[case::mariadb(MARIADB)]
#[ignore = "needs PostgreSQL and MariaDB servers"]
fn a_smaller_limit_of_the_server_stays(#[case] server: &str) {
    if server == POSTGRES {
        ask(server, "drop role if exists hasty");
        ask(server, "create role hasty login password 'lampoil'; alter role hasty set statement_timeout = 500");
    }
    let site = TestSite::new(&config(&endless(server, "hasty"), "wait_seconds = 30"));
    let connection = std::env::var(server).unwrap().replace("//ifor:", "//hasty:");
    let ran = crate::support::Ran::of(site.command(&["survey"]).env("DEPOT", connection).output().unwrap());
    ran.says(1, &["the server ended the query after 500ms, the limit that it sets for this user"]);
}

/// Two sources with one connection see the database at one instant.
#[rstest]
#[case::postgres(POSTGRES, "select '/a/' || n || '/' as url from picture_a, (select pg_sleep(2)::text) as pause")]
#[case::mariadb(MARIADB, "select concat('/a/', n, '/') as url, sleep(2) from picture_a")]
#[ignore = "needs PostgreSQL and MariaDB servers"]
fn sources_see_one_picture_of_the_database(#[case] server: &str, #[case] first: &str) {
    let engine = if server == MARIADB { " engine=innodb" } else { "" };
    for table in ["picture_a", "picture_b"] {
        ask(server, &format!("drop table if exists {table}"));
        ask(server, &format!("create table {table} (n int){engine}"));
        ask(server, &format!("insert into {table} values (1)"));
    }
    let second = "select n, n as id from picture_b";
    let sources =
        config(first, "name = \"first\"") + &config(second, "name = \"second\"\nfields = { url = \"/b/{n}/\" }");
    let site = TestSite::new(&sources);
    let connection = std::env::var(server).unwrap();
    let building = thread::spawn(move || {
        let ran = crate::support::Ran::of(site.command(&["build"]).env("DEPOT", connection).output().unwrap());
        ran.says(0, &["2 entries"]);
        site.paths().into_iter().collect::<Vec<_>>()
    });
    thread::sleep(Duration::from_secs(1));
    ask(server, "update picture_b set n = 2");
    assert_eq!(building.join().unwrap(), ["/a/1/", "/b/1/"]);
}

/// Values come as the database writes them: decimals with their digits, binary text as text, JSON and arrays as lists.
#[test]
#[ignore = "needs PostgreSQL and MariaDB servers"]
fn values_come_as_the_database_writes_them() {
    let postgres = TestSite::new(&config(
        "select 2.10::numeric as version, array['a b', 'c|d'] as tags, '{\"title\": \"Weir\", \"photos\": [{\"src\": \"/w.jpg\"}, \"/x.jpg\"]}'::jsonb as meta, true as keep, 'x'::char(3) as padded",
        "fields = { url = \"/v/{version}/\", title = \"meta.title\", images = \"meta.photos\" }",
    ));
    run(&postgres, POSTGRES, &["build"]).says(0, &["1 entry"]);
    let listed = postgres.listed();
    let url = &listed["sitemap.xml"][0];
    assert_eq!(url.loc.as_deref(), Some("https://www.marrowvale.example/v/2.10/"));
    assert_eq!(url.images, ["https://www.marrowvale.example/w.jpg", "https://www.marrowvale.example/x.jpg"]);
    let why = run(&postgres, POSTGRES, &["why", "--fresh", "/v/2.10/", "--json"]);
    let why: serde_json::Value = serde_json::from_str(&why.out).unwrap();
    assert_eq!(why["sources"][0]["tags"], serde_json::json!(["a b", "c|d"]));
    assert_eq!((&why["sources"][0]["title"], &why["sources"][0]["keep"]), (&"Weir".into(), &true.into()));
    let maria = TestSite::new(&config(
        "select cast(2.10 as decimal(5,2)) as version, cast('Brân' as binary) as title, json_object('photos', json_array('/w.jpg')) as meta",
        "fields = { url = \"/v/{version}/\", images = \"meta.photos\" }",
    ));
    run(&maria, MARIADB, &["build"]).says(0, &["1 entry"]);
    assert_eq!(maria.paths().into_iter().collect::<Vec<_>>(), ["/v/2.10/"]);
    assert_eq!(maria.listed()["sitemap.xml"][0].images.len(), 1);
    let why = run(&maria, MARIADB, &["why", "--fresh", "/v/2.10/", "--json"]);
    assert!(why.out.contains("\"Brân\""), "{why:?}");
    let broken = TestSite::new(&config("select '/a/' as url, x'e92f' as title", ""));
    run(&broken, MARIADB, &["build"]).says(0, &["1 entry", "1 value is not UTF-8, the first in the column “title”"]);
}

/// No character of a value is lost or ends it, neither those that our rows are separated by nor those of the servers'
/// formats.
#[rstest]
#[case::postgres(
    POSTGRES,
    "select '/a/' as url, concat('a', chr(92), 'n', chr(92), chr(9), chr(10), chr(13), chr(31), chr(1), chr(1), '.') as title, '2026-02-03' as modified"
)]
#[case::mariadb(
    MARIADB,
    "select '/a/' as url, concat('a', char(92), 'n', char(92, 9, 10, 13, 31, 1, 1), '.') as title, '2026-02-03' as modified"
)]
#[ignore = "needs PostgreSQL and MariaDB servers"]
fn every_character_of_a_value_comes(#[case] server: &str, #[case] query: &str) {
    let site = TestSite::new(&config(query, ""));
    run(&site, server, &["build"]).says(0, &["1 entry"]);
    assert_eq!(site.lastmod("/a/").as_deref(), Some("2026-02-03"));
    let why = run(&site, server, &["why", "--fresh", "/a/", "--json"]);
    let why: serde_json::Value = serde_json::from_str(&why.out).unwrap();
    assert_eq!(why["sources"][0]["title"], "a\\n\\\t\n\r\u{1f}\u{1}\u{1}.");
}

/// What stands in the way is said, and the files stay as they were.
#[rstest]
#[case::postgres_lock(
    POSTGRES,
    "",
    "begin; lock table held; select pg_sleep(30)",
    "the query took longer than 2 seconds"
)]
#[case::mariadb_lock(MARIADB, "", "lock tables held write; select sleep(30)", "the query took longer than 2 seconds")]
#[case::postgres_password(POSTGRES, ":wrong@", "select 1", "cannot connect: password authentication failed for user")]
#[case::mariadb_password(MARIADB, ":wrong@", "select 1", "cannot connect: Access denied for user")]
#[case::postgres_limit(
    POSTGRES,
    "lone:lampoil@",
    "select pg_sleep(30)",
    "cannot connect: too many connections for role \"lone\"; raise the limit of connections, or build when fewer are open; tried 2 times"
)]
#[case::mariadb_limit(MARIADB, "lone:lampoil@", "select sleep(30)", "tried 2 times")]
#[ignore = "needs PostgreSQL and MariaDB servers"]
fn what_stands_in_the_way_is_said(#[case] server: &str, #[case] user: &str, #[case] other: &str, #[case] told: &str) {
    let _alone = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
    ask(server, "drop table if exists held");
    ask(server, "create table held (url varchar(50))");
    ask(server, "insert into held values ('/a/')");
    if server == POSTGRES {
        ask(server, "do $$ begin drop owned by lone; drop role lone; exception when undefined_object then end $$");
        ask(server, "create role lone login password 'lampoil' connection limit 1");
        ask(server, "grant select on held to lone");
    }
    let site = TestSite::new(&config("select url from held", "wait_seconds = 2\nretries = 1"));
    run(&site, server, &["build"]).says(0, &["1 entry"]);
    let before = site.outputs();
    let connection = std::env::var(server).unwrap();
    let asked = match user.strip_prefix(':') {
        Some(password) => connection.replace(":lampoil@", &format!(":{password}")),
        None if user.is_empty() => connection.clone(),
        None => connection.replace("ifor:lampoil@", user),
    };
    let _other = OtherClient::running(server, if user.starts_with("lone") { &asked } else { &connection }, other);
    let ran = crate::support::Ran::of(site.command(&["build"]).env("DEPOT", asked).output().unwrap());
    ran.says(1, &[told]);
    assert_eq!(site.outputs(), before);
}

/// Those who hold a table leave it to others afterwards.
static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());

/// A query whose connection is ended from outside.
#[rstest]
#[case::postgres(POSTGRES)]
#[case::mariadb(MARIADB)]
#[ignore = "needs PostgreSQL and MariaDB servers"]
fn a_connection_that_is_ended_is_said_to_be(#[case] server: &str) {
    let site = TestSite::new(&config(&endless(server, "ended_from_outside"), "retries = 0"));
    let connection = std::env::var(server).unwrap();
    let building = thread::spawn(move || {
        crate::support::Ran::of(site.command(&["build"]).env("DEPOT", connection).output().unwrap())
    });
    assert!(is_soon(|| busy(server, "ended_from_outside") == 1));
    match server {
        MARIADB => {
            let id = ask(
                server,
                "select id from information_schema.processlist where info like '%ended_from_outside%' and id <> connection_id()",
            );
            ask(server, &format!("kill {id}"));
        }
        _ => {
            _ = ask(
                server,
                "select pg_terminate_backend(pid) from pg_stat_activity where query like '%ended_from_outside%' and pid <> pg_backend_pid()",
            )
        }
    }
    let ran = building.join().unwrap();
    let said = ["the server closed the connection", "Connection was killed", "terminating connection"];
    // A first build that lacks a source is held back.
    assert!(ran.code == 3 && said.iter().any(|words| ran.out.contains(words)), "{ran:?}");
}

/// `init` proposes a source for each table that looks like one, and never writes the password.
#[rstest]
#[case::postgres(POSTGRES)]
#[case::mariadb(MARIADB)]
#[ignore = "needs PostgreSQL and MariaDB servers"]
fn init_looks_at_the_tables_of_a_server(#[case] server: &str) {
    let site = TestSite::new("");
    std::fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    ask(server, "drop table if exists engine_sheds");
    ask(server, "create table engine_sheds (slug varchar(40), name varchar(40), updated_at timestamp)");
    ask(
        server,
        "insert into engine_sheds values ('upper-shed', 'Upper', '2026-10-01 10:00:00'), ('lower-shed', 'Lower', '2026-10-02 10:00:00')",
    );
    let url = ["--url", "https://www.marrowvale.example/"];
    run(&site, server, &["init", "--from", "${DEPOT}", url[0], url[1]])
        .says(0, &["table engine_sheds", "Set “url” under fields"]);
    let text = site.read("idle-atlas.toml");
    assert!(text.contains("connection = \"${DEPOT}\"") && !text.contains("lampoil"), "{text}");
    assert!(text.contains("select slug, name, updated_at from engine_sheds"), "{text}");
    run(&site, server, &["survey", "--list", "--under", "/engine-sheds/"]).says(0, &["upper-shed", "lower-shed"]);
    ask(server, "drop table engine_sheds");
}
