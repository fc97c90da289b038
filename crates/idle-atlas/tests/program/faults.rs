//! Faults: what could not be read whole is never a smaller site.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::process::Command;
use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::{Value, json};

use crate::server::{CannedAnswer, Server, page, redirect, status};
use crate::support::{DAY, HTML, NOON, Ran, TestSite, source};

const TWO_TABLES: &str = "[visitor_page]\n[alternates]\nwrite = true\n[[archive]]\nby = \"category\"\nurl = \"/about/{slug}/\"\n[[source]]\nfrom = \"table\"\nfile = \"a.csv\"\n[[source]]\nfrom = \"table\"\nfile = \"b.csv\"\n";
const HEADER: &str = "url,modified,title,category,language,language_group,images\n";

fn rows(site: &TestSite, name: &str, rows: &[&str]) {
    site.write(name, format!("{HEADER}{}\n", rows.join("\n")));
}

const A: [&str; 4] = [
    "/a/1/,2026-03-01,Weir,Halts,en,g1,/w.svg",
    "/a/2/,2026-03-02,Ford,Halts,en,g2,",
    "/a/3/,2026-03-03,Shed,Depots,en,,",
    "/both/,2026-03-03,Both,Depots,en,,",
];
const B: [&str; 4] = [
    "/b/1/,2026-04-01,Cored,Halts,cy,g1,/c.svg",
    "/b/2/,2026-04-02,Rhyd,Fords,cy,g2,",
    "/b/3/,2026-04-03,Sied,Fords,cy,,",
    "/both/,,Both,,,,/d.svg",
];

type UrlFacts = (Option<String>, Vec<String>, Vec<String>);

/// What is listed of each URL: its date, pictures and translations.
fn listed(site: &TestSite) -> BTreeMap<String, UrlFacts> {
    let urls = site.listed().into_values().flatten();
    let facts = urls.map(|url| {
        let alternates = url.alternates.iter().map(|one| format!("{} {}", one.language, one.url)).collect();
        (url.loc.unwrap(), (url.lastmod, url.images, alternates))
    });
    facts.collect()
}

#[test]
fn what_a_failed_source_named_stands_as_written() {
    let mut site = TestSite::new(TWO_TABLES);
    rows(&site, "a.csv", &A);
    rows(&site, "b.csv", &B);
    site.build();
    let before = listed(&site);
    let visitors = site.read("public/atlas.html");
    fs::remove_file(site.path("b.csv")).unwrap();
    // Meanwhile one row changes, one leaves and one comes.
    let later = [
        "/a/1/,2026-05-01,The weir,Halts,en,g1,/w.svg",
        A[2],
        "/both/,2026-05-05,Changed,Depots,en,,",
        "/a/4/,2026-05-02,Halt,Halts,en,,",
    ];
    rows(&site, "a.csv", &later);
    let ran = site.run(&["build"]);
    ran.says(1, &["4 of its entries stay as written until it can be", "1 added, 1 changed, 1 removed"]);
    assert!(ran.out.starts_with("table b.csv: it could not be read\n  cannot read b.csv"), "{}", ran.out);
    let now = listed(&site);
    for url in ["/b/1/", "/b/2/", "/b/3/", "/both/", "/about/halts/", "/about/fords/"] {
        let url = format!("https://www.marrowvale.example{url}");
        let translated = url.ends_with("/b/2/");
        assert!(now[&url] == before[&url] || translated, "{url}: {:?}, not {:?}", now[&url], before[&url]);
    }
    let changed = &now["https://www.marrowvale.example/a/1/"];
    assert_eq!(changed.0.as_deref(), Some("2026-05-01"));
    assert_eq!(changed.2, before["https://www.marrowvale.example/a/1/"].2, "it is still a translation");
    assert_eq!(site.read("public/atlas.html"), visitors, "what is made from all entries waits");
    let again = site.json(&["build"]);
    let failure = &again["sources"][1]["failure"];
    assert_eq!((&failure["stand"], &failure["in_part"]), (&4.into(), &false.into()), "{again}");
    assert_eq!(again["written"], json!([]));
    // When it is back, everything is as if it had never failed.
    site.at(NOON + 3 * DAY);
    rows(&site, "b.csv", &B[..2]);
    let back = site.run(&["build"]);
    back.says(0, &["removed", "/b/3/"]);
    let fresh = TestSite::new(TWO_TABLES);
    rows(&fresh, "a.csv", &later);
    rows(&fresh, "b.csv", &B[..2]);
    fresh.build();
    assert_eq!(listed(&site).keys().collect::<Vec<_>>(), listed(&fresh).keys().collect::<Vec<_>>());
    assert_eq!(
        listed(&site)["https://www.marrowvale.example/about/halts/"],
        listed(&fresh)["https://www.marrowvale.example/about/halts/"]
    );
    assert_ne!(site.read("public/atlas.html"), visitors);
}

#[test]
fn pictures_and_news_of_a_failed_source_are_counted() {
    let site = TestSite::new(
        "[images]\nwrite = \"own-files\"\n[[section]]\nname = \"news\"\nmatching = [\"/news/**\"]\n[[news]]\nsections = [\"news\"]\npublication = \"Bulletin\"\nlanguage = \"en\"\n[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[[source]]\nfrom = \"table\"\nfile = \"own.csv\"\n",
    );
    let table = "url,title,published,images\n/news/a/,A,2026-11-23,/a.svg\n/news/b/,B,2026-11-20,/b.svg\n/c/,C,,/c.svg\n/d/,D,,\n";
    site.write("t.csv", table);
    site.write("own.csv", "url,title,images\n/e/,E,/e.svg\n");
    let before = site.json(&["build"])["sections"].clone();
    let counts = |of: &Value| -> Vec<_> {
        of.as_array()
            .unwrap()
            .iter()
            .map(|one| json!(["name", "entries", "images", "news"].map(|key| one[key].clone())))
            .collect()
    };
    assert_eq!(counts(&before)[0], json!(["news", 2, 2, 1]), "{before}");
    fs::remove_file(site.path("t.csv")).unwrap();
    let now = site.json(&["build"])["sections"].clone();
    assert_eq!(counts(&now), counts(&before));
    site.write("own.csv", "url,title,images\n/e/,Else,/else.svg\n");
    let now = site.json(&["build"])["sections"].clone();
    assert_eq!(counts(&now), counts(&before), "with a file that is written anew");
}

#[test]
fn a_source_may_fail_for_so_many_days() {
    let mut site = TestSite::new(&format!("{TWO_TABLES}[guards]\nstand_days = 3\n"));
    rows(&site, "a.csv", &A);
    site.run(&["build"])
        .says(3, &["held back: the first build with source table b.csv would lack what it has", "--allow part"]);
    rows(&site, "b.csv", &B);
    site.build();
    fs::remove_file(site.path("b.csv")).unwrap();
    site.run(&["build", "--strict"]).says(2, &["source table b.csv: cannot read b.csv"]);
    site.run(&["build", "--quiet"]).says(1, &["error: table b.csv: cannot read b.csv"]);
    site.at(NOON + 2 * DAY);
    site.run(&["build"]).says(1, &["it has failed since 2026-11-23"]);
    site.at(NOON + 3 * DAY);
    let before = site.outputs();
    site.run(&["build"]).says(3, &["table b.csv could not be read for 3 days", "3 days (stand_days)"]);
    assert_eq!(site.outputs(), before);
    site.run(&["build", "--allow", "part", "--allow", "shrink"]).says(1, &["removed", "/b/3/"]);
    assert!(!site.paths().contains("/b/1/") && site.paths().contains("/both/"));
}

/// A folder whose path is longer than the system allows.
#[test]
#[cfg(target_os = "linux")]
fn pages_in_a_folder_that_cannot_be_read_stand() {
    let site = TestSite::new(HTML);
    site.page("index.html", "Home", "x");
    site.page("deep/index.html", "Deep", "x");
    site.build();
    // Two halves, each of which the system allows.
    let half = vec!["d".repeat(200); 12].join("/");
    fs::create_dir_all(site.path("public").join(&half)).unwrap();
    fs::create_dir_all(site.path("other").join(&half)).unwrap();
    fs::rename(site.path("other"), site.path("public").join(&half).join("other")).unwrap();
    fs::remove_dir_all(site.path("public/deep")).unwrap();
    let ran = site.run(&["build"]);
    ran.says(
        1,
        &["html public: not all of it could be read", "its path is too long", "1 of its entries stays as written"],
    );
    assert!(site.paths().contains("/deep/"));
}

/// Runs the program as a user who may not read everything.
#[cfg(unix)]
fn as_nobody(site: &TestSite, arguments: &[&str]) -> Ran {
    use std::os::unix::process::CommandExt;
    let mut command = site.command(arguments);
    command.uid(65_534).gid(65_534);
    Ran::of(command.output().unwrap())
}

#[cfg(unix)]
fn mode(site: &TestSite, path: &str, mode: u32) {
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(site.path(path), fs::Permissions::from_mode(mode)).unwrap();
}

#[rstest]
#[case::folder("public/staff", &["html public: not all of it could be read", "public/staff cannot be read", "2 of its entries stay as written"], 1)]
#[case::file("public/staff/a.html", &["public/staff/a.html cannot be read", "1 of its entries stays as written"], 1)]
#[case::robots("public/robots.txt", &["cannot read", "robots.txt", "no permission"], 2)]
#[cfg(unix)]
#[ignore = "needs root, to run as another user"]
fn what_this_user_may_not_read_stands(#[case] path: &str, #[case] told: &[&str], #[case] code: i32) {
    let site = TestSite::new(HTML);
    site.page("index.html", "Home", "x");
    site.page("staff/a.html", "A", "x");
    site.page("staff/b.html", "B", "x");
    for path in ["", "public", "public/staff"] {
        mode(&site, path, 0o777);
    }
    assert_eq!(as_nobody(&site, &["build"]).code, 0);
    let before = site.outputs();
    mode(&site, path, 0);
    as_nobody(&site, &["build"]).says(code, told);
    mode(&site, path, 0o755);
    assert_eq!(site.outputs(), before);
}

/// Looking needs no folder that this user may write into, before the first build and after it.
#[test]
#[cfg(unix)]
#[ignore = "needs root, to run as another user"]
fn looking_writes_nothing() {
    let site = TestSite::new(HTML);
    site.page("index.html", "Home", "x");
    mode(&site, "", 0o755);
    as_nobody(&site, &["survey"]).says(0, &["1 entry would be listed"]);
    site.build();
    site.page("a.html", "A", "x");
    as_nobody(&site, &["survey"]).says(0, &["2 entries would be listed", "1 added"]);
    as_nobody(&site, &["build", "--dry-run"]).says(0, &["1 URL would be added"]);
    as_nobody(&site, &["why", "/", "--fresh"]).says(0, &["listed"]);
    as_nobody(&site, &["build"]).says(2, &["no permission"]);
}

#[rstest]
#[case::cut_off(|bytes: &[u8]| bytes[..bytes.len() - 9].to_vec())]
#[case::junk_behind(|bytes: &[u8]| [bytes, b"lamp oil"].concat())]
#[case::wrong_checksum(|bytes: &[u8]| bytes.iter().enumerate().map(|(at, byte)| byte ^ u8::from(at + 6 == bytes.len())).collect())]
fn a_packed_table_is_read_whole_or_stands(#[case] spoil: fn(&[u8]) -> Vec<u8>) {
    let site = TestSite::new(&source("table", "file = \"t.csv.gz\"\nlayout = \"csv\""));
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packed
        .write_all((0..2000).fold("url\n".to_owned(), |rows, row| format!("{rows}/halts/{row}/\n")).as_bytes())
        .unwrap();
    let packed = packed.finish().unwrap();
    site.write("t.csv.gz", &packed);
    site.build();
    site.write("t.csv.gz", spoil(&packed));
    site.run(&["build"]).says(1, &["2,000 entries", "could not be read"]);
    assert_eq!(site.paths().len(), 2000);
}

#[test]
fn a_program_and_what_it_left_running_are_stopped() {
    let site = TestSite::new(&source(
        "command",
        "run = [\"sh\", \"-c\", \"sleep 60 & echo '{\\\"url\\\": \\\"/a/\\\"}'\"]\nwait_seconds = 1",
    ));
    let begun = Instant::now();
    site.run(&["survey"]).says(1, &["left a program running that kept its output open"]);
    assert!(begun.elapsed() < Duration::from_secs(30));
}

/// Files that lie where ours would.
#[rstest]
#[case::stylesheet("atlas.css", "body { margin: 0 }", "")]
#[case::copy("sitemap.xml.gz", "lamp oil", "")]
#[case::visitor_page("atlas.html", "<title>Atlas of the vale</title>", "[visitor_page]\n")]
#[case::list("atlas.txt", "lamp oil", "[text]\n")]
#[case::sitemap(
    "atlas-pages-1.xml",
    "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"></urlset>",
    "[files]\nurls_per_file = 10\n"
)]
fn files_of_others_are_not_overwritten(#[case] name: &str, #[case] text: &str, #[case] more: &str) {
    let more = if name == "atlas.txt" { "[files]\ntext = true\n" } else { more };
    let config = format!("{more}[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    let site = TestSite::new(&config);
    site.write("t.csv", (0..20).fold("url\n".to_owned(), |rows, row| format!("{rows}/halts/{row}/\n")));
    site.spoil(name, text);
    site.run(&["build"]).says(3, &[name, "would be overwritten", "--allow overwrite"]);
    assert_eq!(site.read(&format!("public/{name}")), text);
    site.run(&["build", "--allow", "overwrite"]).says(0, &[&format!("kept      {name} of another tool")]);
    assert_eq!(site.read(&format!(".idle-atlas/overwritten/{name}")), text);
    // A machine that lost its ledger is not held up by its own files.
    fs::remove_dir_all(site.path(".idle-atlas")).unwrap();
    site.write("t.csv", (0..21).fold("url\n".to_owned(), |rows, row| format!("{rows}/halts/{row}/\n")));
    site.run(&["build"]).says(0, &["21 entries"]);
}

#[test]
#[cfg(unix)]
fn robots_txt_is_written_through_a_link_and_never_waited_for() {
    use std::os::unix::fs::{PermissionsExt, symlink};
    let site = TestSite::new(HTML);
    site.page("index.html", "Home", "x");
    site.write("shared/robots.txt", "User-agent: *\nDisallow: /staff/\n");
    mode(&site, "shared/robots.txt", 0o640);
    symlink("../shared/robots.txt", site.path("public/robots.txt")).unwrap();
    site.run(&["build"]).says(0, &["declared  in robots.txt"]);
    assert!(site.path("public/robots.txt").is_symlink());
    assert!(site.read("shared/robots.txt").contains("Sitemap: https://www.marrowvale.example/sitemap.xml"));
    assert_eq!(fs::metadata(site.path("shared/robots.txt")).unwrap().permissions().mode() & 0o777, 0o640);
    fs::remove_file(site.path("public/robots.txt")).unwrap();
    let pipe = Command::new("mkfifo").arg(site.path("public/robots.txt")).status();
    assert!(pipe.unwrap().success());
    site.run(&["build"]).says(2, &["robots.txt: it is not a file"]);
}

#[test]
#[cfg(target_os = "linux")]
fn file_names_that_are_no_text_keep_their_bytes() {
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt;
    let site = TestSite::new(HTML);
    for name in [&b"br\xe2n.html"[..], b"br\xe9n.html"] {
        fs::write(site.path("public").join(OsStr::from_bytes(name)), "<title>Bran</title>").unwrap();
    }
    site.build();
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), ["/br%E2n.html", "/br%E9n.html"]);
}

#[rstest]
#[case::blank("[files]\nmain = \"site map.xml\"\n", "“main”: expected a file name of letters")]
#[case::line_end("[files]\nmain = \"site\\nmap.xml\"\n", "“main”: expected a file name of letters")]
#[case::question("[files]\nmain = \"a?b#c%.xml\"\n", "“main”: expected a file name of letters")]
#[case::system_folder(
    "[files]\nfolder = \"/etc\"\naddress = \"https://sitemaps.marrowvale.example/\"\n",
    "be empty or already contain files of this tool"
)]
#[case::configuration("[robots]\nfile = \"idle-atlas.toml\"\n", "is not a robots.txt")]
#[case::ledger("[robots]\nfile = \".idle-atlas/robots.txt\"\n", "is not a robots.txt")]
#[case::sitemap("[robots]\nfile = \"public/sitemap.xml\"\n", "is not a robots.txt")]
fn settings_that_would_write_over_something_are_errors(#[case] more: &str, #[case] told: &str) {
    let site = TestSite::new(&format!("{more}{HTML}"));
    if more.contains("[robots]") {
        site.write(
            "idle-atlas.toml",
            format!("[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"public\"\n{more}{HTML}"),
        );
    }
    site.run(&["build"]).says(2, &["idle-atlas.toml line ", told]);
}

/// Redirects that lead from one host to another port of this machine are not followed.
#[test]
fn no_redirect_leads_to_another_port_of_this_machine() {
    let inner = Server::start(|_| CannedAnswer::Full(200, Vec::new(), b"url\n/secret/\n".to_vec()));
    let target = inner.url();
    let outer = Server::start(move |request| match request.path.as_str() {
        "/robots.txt" | "/t.csv" => redirect(&format!("{target}t.csv")),
        _ => page("Home", &[]),
    });
    let table = TestSite::new(&source("table", &format!("file = \"{}t.csv\"", outer.url())));
    table.run(&["survey"]).says(1, &["which is not a public address"]);
    let crawl = TestSite::at_url(&outer.url(), &source("crawl", "requests_per_second = 0"));
    crawl.run(&["survey"]).says(1, &["which is not a public address; nothing may be crawled"]);
    assert!(inner.requests().is_empty());
}

/// A page that says that nothing has changed although nobody asked for changes is a page that could not be read.
#[test]
fn an_answer_without_a_page_is_told() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => status(404),
        "/" => page("Home", &["/a/"]),
        _ => status(304),
    });
    let site = TestSite::at_url(&server.url(), &source("crawl", "requests_per_second = 0"));
    let why: Value = site.json(&["why", "/a/"]);
    assert!(why.to_string().contains("304 Not Modified, although it was asked for the whole page"), "{why}");
}

/// The clock of the machine, without an instant that somebody set.
fn by_the_clock(site: &TestSite, arguments: &[&str]) -> Ran {
    Ran::of(site.command(arguments).env_remove("SOURCE_DATE_EPOCH").output().unwrap())
}

#[test]
fn a_clock_that_was_ahead_is_noticed_and_its_dates_are_lowered() {
    let mut site = TestSite::new(HTML);
    site.page("a.html", "A", "x");
    site.page("b.html", "B", "x");
    site.build();
    // In the year 2100 a page is seen to change.
    site.at(4_102_444_800 + NOON % DAY);
    site.page("a.html", "A", "other text");
    site.build();
    assert!(site.lastmod("/a.html").unwrap().starts_with("2100-"));
    by_the_clock(&site, &["build"]).says(3, &["held back: the last run was at 2100-01-01T", "--allow clock"]);
    by_the_clock(&site, &["survey"]).says(0, &["A build would be held back (clock)"]);
    by_the_clock(&site, &["build", "--allow", "clock"]).says(0, &["2 entries"]);
    assert!(!site.lastmod("/a.html").unwrap().starts_with("2100-"));
    by_the_clock(&site, &["build"]).says(0, &["nothing to write"]);
}

#[test]
fn what_cannot_be_a_table_or_a_sitemap_is_told_in_few_words() {
    let site = TestSite::new(&source("table", "file = \"t.csv\""));
    site.write("t.csv", format!("{}\n1\n", "lamp oil ".repeat(1_000_000)));
    let ran = site.run(&["survey"]);
    ran.says(1, &["it has no column “url”"]);
    assert!(ran.out.len() + ran.errors.len() < 5_000, "{} bytes", ran.out.len() + ran.errors.len());
    site.configure(&source("sitemap", "file = \"old.xml\""));
    site.write("old.xml", b"\xff\xfe<\0u\0r\0l\0s\0e\0t\0/\0>\0");
    site.run(&["survey"]).says(1, &["old.xml is in UTF-16", "save it as UTF-8"]);
}

/// A robots.txt that is not read to its end may lack the very rule that counts.
#[test]
fn nothing_is_crawled_if_robots_txt_is_cut_off() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => CannedAnswer::CutOff("User-agent: *\nDisallow: /lamp-room/\n"),
        _ => page("Home", &["/a/"]),
    });
    let site = TestSite::at_url(&server.url(), &source("crawl", "requests_per_second = 0"));
    site.run(&["survey"]).says(1, &["robots.txt ends early", "nothing may be crawled"]);
    assert_eq!(server.requests().len(), 1);
}
