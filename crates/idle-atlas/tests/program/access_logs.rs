//! The command `uptake` over access logs: a generator writes logs and knows who fetched what and when.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::io::Write as _;
use std::process::Stdio;

use fastrand::Rng;
use flate2::Compression;
use flate2::write::GzEncoder;
use jiff::Timestamp;
use rstest::rstest;
use serde_json::{Value, json};

use crate::support::{DAY, NOON, Ran, TestSite};

const CRAWLERS: [(&str, &str); 3] = [
    ("lampbot", "Mozilla/5.0 (compatible; lampbot/2.1; +https://lampbot.example/bot.html)"),
    ("wickbot", "wickbot/1.0"),
    ("oil", "Oil/3 (+https://oil.example/)"),
];
const BROWSER: &str = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0";
const PAGES: usize = 40;

/// A site with some pages, built a week ago.
pub fn site(more: &str) -> TestSite {
    let mut site = TestSite::new(&format!("[[source]]\nfrom = \"table\"\nfile = \"pages.csv\"\n{more}"));
    let rows: String = (0..PAGES).map(|nth| format!("{},section-{}\n", path(nth), nth % 3)).collect();
    site.write("pages.csv", format!("url,section\n{rows}"));
    site.at(NOON - 7 * DAY);
    site.build();
    site.at(NOON);
    site
}

/// The path of a page: some have letters that are written in several ways.
fn path(nth: usize) -> String {
    if nth.is_multiple_of(7) { format!("/brân-{nth}/") } else { format!("/halts/{nth}/") }
}

/// A request, as the server knows it.
struct LogRequest {
    at: i64,
    address: String,
    path: String,
    status: u16,
    agent: &'static str,
}

/// What the generator knows.
#[derive(Debug, Default, PartialEq, Eq)]
struct Truth {
    requests: BTreeMap<String, u64>,
    pages: BTreeMap<String, BTreeSet<usize>>,
    fetched: BTreeSet<usize>,
    /// The last visit to a page, and the status of its answer.
    last: BTreeMap<usize, (i64, u16)>,
    unlisted: BTreeSet<String>,
    lines: u64,
}

impl Truth {
    fn counts(&self) -> Value {
        let errors = self.last.values().filter(|(_, status)| *status >= 400).count();
        json!({
            "fetched": self.fetched.len(),
            "never_fetched": PAGES - self.fetched.len(),
            "answered_with_error": errors,
            "fetched_not_listed": self.unlisted.len(),
        })
    }
}

/// Requests of some days, and what they amount to.
fn requests(seed: u64, number: usize) -> (Vec<LogRequest>, Truth) {
    let mut random = Rng::with_seed(seed);
    let (mut requests, mut truth) = (Vec::new(), Truth::default());
    for nth in 0..number {
        // No two at once, so that the last is one.
        let at = NOON - 6 * DAY + nth as i64;
        let (token, agent) = match random.usize(0..6) {
            crawler @ 0..3 => (Some(CRAWLERS[crawler].0), CRAWLERS[crawler].1),
            _ => (None, BROWSER),
        };
        let status = *random.choice([200, 200, 200, 304, 404, 503].iter()).unwrap();
        let (page, path) = match random.usize(0..10) {
            0 => (None, format!("/gone/{}/", random.usize(0..9))),
            1 => (None, format!("/halts/1/?sort={}", random.usize(0..4))),
            2 => (None, "/lamp.css".to_owned()),
            _ => {
                let page = random.usize(0..PAGES - 5);
                (Some(page), path(page))
            }
        };
        if let Some(token) = token {
            *truth.requests.entry(token.to_owned()).or_default() += 1;
            match page {
                Some(page) => {
                    truth.pages.entry(token.to_owned()).or_default().insert(page);
                    truth.fetched.insert(page);
                    truth.last.insert(page, (at, status));
                }
                None if status < 400 && path != "/lamp.css" => drop(truth.unlisted.insert(path.clone())),
                None => {}
            }
        }
        requests.push(LogRequest { at, address: format!("192.0.2.{}", random.u8(..)), path, status, agent });
    }
    truth.lines = number as u64;
    (requests, truth)
}

/// How a server writes its log.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Logged {
    Combined,
    ByHost,
    Json,
    NestedJson,
    Own,
}

const OWN: &str = r#"[$time_iso8601] $status "$request_uri" ($http_user_agent) $request_time $remote_addr"#;

impl LogRequest {
    fn line(&self, written: Logged) -> String {
        let Self { at, address, path, status, agent } = self;
        let at = Timestamp::from_second(*at).unwrap();
        let local = at.strftime("%d/%b/%Y:%H:%M:%S +0000");
        // Servers log what was sent: escapes, or bytes that they write as \xHH.
        let sent = path.replace('â', if status % 2 == 0 { "%C3%A2" } else { "\\xC3\\xA2" });
        let combined = format!("{address} - - [{local}] \"GET {sent} HTTP/1.1\" {status} 512 \"-\" \"{agent}\"");
        match written {
            Logged::Combined => combined,
            Logged::ByHost => format!("www.marrowvale.example:443 {combined}"),
            Logged::Json => json!({ "time": at.to_string(), "request": format!("GET {} HTTP/2.0", path.replace('â', "%c3%a2")), "status": status.to_string(), "http_user_agent": agent, "remote_addr": address }).to_string(),
            Logged::NestedJson => json!({ "ts": at.as_second(), "status": status, "request": { "uri": path.replace('â', "%C3%A2"), "host": "www.marrowvale.example", "remote_ip": address, "headers": { "User-Agent": [agent] } } }).to_string(),
            Logged::Own => format!("[{at}] {status} \"{sent}\" ({agent}) 0.010 {address}"),
        }
    }
}

/// The lines of a log, one in twenty of them broken.
fn lines(requests: &[LogRequest], written: Logged) -> (Vec<String>, u64) {
    let (mut lines, mut broken) = (Vec::new(), 0);
    for (nth, request) in requests.iter().enumerate() {
        lines.push(request.line(written));
        if nth % 20 == 7 {
            lines.push(
                ["\u{16}\u{3}\u{1}", "- - -", "{\"half\": ", "192.0.2.1 - - [10/Oct/2026"][broken % 4].to_owned(),
            );
            broken += 1;
        }
    }
    (lines, broken as u64)
}

fn gz(text: &str) -> Vec<u8> {
    let mut packed = GzEncoder::new(Vec::new(), Compression::fast());
    packed.write_all(text.as_bytes()).unwrap();
    packed.finish().unwrap()
}

fn zst(text: &str) -> Vec<u8> {
    ruzstd::encoding::compress_to_vec(text.as_bytes(), ruzstd::encoding::CompressionLevel::Fastest)
}

#[track_caller]
fn agrees(uptake: &Value, truth: &Truth, broken: u64) {
    for (name, wanted) in truth.counts().as_object().unwrap() {
        assert_eq!(uptake["totals"][name], *wanted, "{name}: {}", uptake["totals"]);
    }
    let crawlers = uptake["crawlers"].as_array().unwrap();
    assert_eq!(crawlers.len(), truth.requests.len(), "{crawlers:#?}");
    for crawler in crawlers {
        let token = crawler["token"].as_str().unwrap();
        assert_eq!(crawler["requests"], truth.requests[token], "{token}");
        assert_eq!(crawler["pages"], truth.pages[token].len() as u64, "{token}");
    }
    assert_eq!(uptake["logs"]["lines"], truth.lines + broken);
    assert_eq!(uptake["logs"]["broken"], broken);
}

#[rstest]
#[case::combined(Logged::Combined, 1)]
#[case::by_host(Logged::ByHost, 2)]
#[case::json(Logged::Json, 3)]
#[case::nested_json(Logged::NestedJson, 4)]
#[case::own(Logged::Own, 5)]
fn counts_are_exact_in_any_format_and_order(#[case] written: Logged, #[case] seed: u64) {
    let (requests, truth) = requests(seed, 3_000);
    let (lines, broken) = lines(&requests, written);
    let mut random = Rng::with_seed(seed);
    for round in 0..3 {
        let site = site("");
        // Cut anywhere, packed in any way, given in any order.
        let mut cuts: Vec<usize> = (0..5).map(|_| random.usize(0..lines.len())).collect();
        cuts.extend([0, lines.len()]);
        cuts.sort_unstable();
        let mut names = Vec::new();
        for (nth, cut) in cuts.windows(2).enumerate().filter(|(_, cut)| cut[0] < cut[1]) {
            let text = lines[cut[0]..cut[1]].join("\n") + "\n";
            let name = format!("access.log.{nth}");
            match (nth + round) % 3 {
                0 => site.write(&name, gz(&text)),
                1 => site.write(&name, zst(&text)),
                _ => site.write(&name, text),
            }
            names.push(name);
        }
        random.shuffle(&mut names);
        let own = if written == Logged::Own { vec!["--log-format", OWN] } else { Vec::new() };
        let files: Vec<&str> = names.iter().map(String::as_str).collect();
        // A piece that begins with broken lines is recognised all the same.
        agrees(&site.json(&[vec!["uptake"], files, own].concat()), &truth, broken);
    }
}

#[test]
fn nothing_is_counted_twice() {
    let (requests, truth) = requests(9, 2_000);
    let (lines, broken) = lines(&requests, Logged::Combined);
    let site = site("");
    let half = lines.len() / 2;
    let text = |lines: &[String]| lines.join("\n") + "\n";
    site.write("access.log", text(&lines[..half]));
    site.json(&["uptake", "access.log"]);
    site.json(&["uptake", "access.log"]);
    // The log grows, is cut off within a line, grows again, is rotated and packed, and is given once more.
    let whole = text(&lines);
    let cut = text(&lines[..half + 10]).len() - 12;
    site.write("access.log", &whole[..cut]);
    site.json(&["uptake", "access.log"]);
    site.write("access.log", &whole);
    agrees(&site.json(&["uptake", "access.log"]), &truth, broken);
    site.write("access.log.1.gz", gz(&whole));
    let ran = site.run(&["uptake", "access.log.1.gz", "access.log"]);
    ran.says(0, &["its first lines were counted before"]);
    agrees(&site.json(&["uptake"]), &truth, broken);
    site.run(&["uptake", "--forget", "logs"]).says(0, &["Forgotten"]);
    assert_eq!(site.json(&["uptake"])["logs"], Value::Null);
    agrees(&site.json(&["uptake", "access.log.1.gz"]), &truth, broken);
}

/// Several threads read a large log block by block: every line is counted once, however long it is.
#[test]
fn lines_that_cross_blocks_are_counted_once() {
    let mut random = Rng::with_seed(4);
    let (mut log, mut lines, mut long) = (String::new(), 0, 0);
    while log.len() < 9 << 20 {
        let length = *random.choice([10, 300, 60_000, 70_000, 200_000].iter()).unwrap();
        let path = format!("/halts/{}/?{}", random.usize(0..9), "x".repeat(random.usize(1..length)));
        let request = LogRequest { at: NOON, address: "192.0.2.5".to_owned(), path, status: 200, agent: CRAWLERS[1].1 };
        let line = request.line(Logged::Combined);
        (lines, long) = (lines + 1, long + u64::from(line.len() > 1 << 16));
        log += &(line + "\n");
    }
    for packed in [false, true] {
        let site = site("");
        site.write("access.log", if packed { gz(&log) } else { log.clone().into_bytes() });
        let uptake = site.json(&["uptake", "access.log"]);
        assert_eq!((&uptake["logs"]["lines"], &uptake["logs"]["broken"]), (&json!(lines), &json!(long)));
        assert_eq!(uptake["crawlers"][0]["requests"], lines - long);
    }
}

#[test]
fn a_log_given_twice_or_cut_short_counts_once() {
    let (requests, truth) = requests(11, 800);
    let (lines, broken) = lines(&requests, Logged::Combined);
    let whole = lines.join("\n") + "\n";
    let half = lines[..300].join("\n") + "\n";
    let site = site("");
    site.write("access.log", &whole);
    site.write("copy.log", &half);
    agrees(&site.json(&["uptake", "copy.log", "access.log", "access.log"]), &truth, broken);
    // What came before the end of a cut file is not counted again.
    site.run(&["uptake", "--forget", "logs"]).says(0, &["Forgotten"]);
    let mut cut = gz(&whole);
    cut.truncate(cut.len() / 2);
    site.write("access.log.gz", cut);
    let first = site.json(&["uptake", "access.log.gz"])["logs"]["lines"].clone();
    assert!(first.as_u64().unwrap() > 0);
    assert_eq!(site.json(&["uptake", "access.log.gz"])["logs"]["lines"], first);
    site.write("access.log.gz", gz(&whole));
    agrees(&site.json(&["uptake", "access.log.gz"]), &truth, broken);
}

#[test]
fn standard_input_is_read() {
    let (requests, truth) = requests(10, 500);
    let (lines, broken) = lines(&requests, Logged::Combined);
    let site = site("");
    let mut child =
        site.command(&["uptake", "-", "--json"]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all((lines.join("\n") + "\n").as_bytes()).unwrap();
    let ran = Ran::of(child.wait_with_output().unwrap());
    agrees(&serde_json::from_str(&ran.out).unwrap(), &truth, broken);
}

#[test]
fn named_crawlers_count_and_impostors_do_not() {
    let site = site("[[crawler]]\ntoken = \"lampbot\"\naddresses = \"lampbot.json\"\n");
    site.write("lampbot.json", r#"{"prefixes": [{"ipv4Prefix": "192.0.2.0/28"}, {"ipv6Prefix": "2001:db8::/32"}]}"#);
    let line = |address: &str, path: &str, agent: &str| {
        format!("{address} - - [20/Nov/2026:10:00:00 +0000] \"GET {path} HTTP/1.1\" 200 5 \"-\" \"{agent}\"\n")
    };
    let log = [
        line("192.0.2.5", "/halts/1/", CRAWLERS[0].1),
        line("2001:db8::7", "/halts/2/", CRAWLERS[0].1),
        line("198.51.100.9", "/halts/3/", CRAWLERS[0].1),
        line("192.0.2.5", "/halts/4/", CRAWLERS[1].1),
    ];
    site.write("access.log", log.concat());
    let uptake = site.json(&["uptake", "access.log"]);
    assert_eq!(uptake["totals"]["fetched"], 2);
    let told: BTreeSet<(&str, bool, bool, u64)> = uptake["crawlers"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            let is = |name: &str| one[name].as_bool().unwrap();
            (one["token"].as_str().unwrap(), is("verified"), is("counts"), one["requests"].as_u64().unwrap())
        })
        .collect();
    let wanted = [("lampbot", true, true, 2), ("lampbot", false, false, 1), ("wickbot", false, false, 1)];
    assert_eq!(told, wanted.into());
    site.run(&["uptake"]).says(0, &["verified", "not from its engine", "not counted"]);
}

#[test]
fn hostile_logs_do_no_harm() {
    let site = site("");
    let line = |path: &str, agent: &str| {
        format!("192.0.2.5 - - [20/Nov/2026:10:00:00 +0000] \"GET {path} HTTP/1.1\" 200 5 \"-\" \"{agent}\"\n")
            .into_bytes()
    };
    let mut log = Vec::new();
    log.extend(line("/halts/1/", "\u{1b}[31m<script>alert(1)</script>bot/1.0 (+http://x.example)"));
    log.extend(line("/halts/2/<script>alert(2)</script>?\u{1b}[2J", CRAWLERS[0].1));
    log.extend(line(&"/x".repeat(5_000_000), CRAWLERS[0].1));
    log.extend(line("/halts/3/\0\0", CRAWLERS[0].1));
    log.extend([0; 5_000]);
    log.push(b'\n');
    log.extend(line("/halts/4/", CRAWLERS[0].1));
    site.write("access.log", &log);
    let mut packed = gz(&String::from_utf8_lossy(&line("/halts/5/", CRAWLERS[0].1)).repeat(5_000));
    packed.truncate(packed.len() - 40);
    site.write("cut.log.gz", packed);
    let ran = site.run(&["uptake", "access.log", "cut.log.gz"]);
    ran.says(1, &["cut.log.gz", "the lines before that count", "2 lines of the access logs cannot be read"]);
    assert!(!ran.out.contains('\u{1b}') && !ran.out.contains('\0'), "{}", ran.out);
    let uptake = site.json(&["uptake"]);
    assert!(uptake["totals"]["fetched"].as_u64().unwrap() >= 3, "{}", uptake["totals"]);
    site.run(&["report", "report.html"]).says(0, &["written"]);
    let page = site.read("report.html");
    assert!(!page.contains("<script") && !page.contains('\u{1b}') && !page.contains('\0'));
}

#[test]
fn a_log_without_user_agents_says_so() {
    let site = site("");
    let mut log = String::new();
    for nth in 0..9 {
        let _ = writeln!(log, "192.0.2.5 - - [20/Nov/2026:10:00:0{nth} +0000] \"GET /halts/{nth}/ HTTP/1.1\" 200 5");
    }
    site.write("access.log", log);
    site.run(&["uptake", "access.log"]).says(0, &["no crawlers: access.log", "Combined Log Format"]);
}

#[rstest]
#[case::pattern("$remote_addr$request", "nothing stands between $remote_addr")]
#[case::lacks("$time_local \"$request\"", "it does not tell the answer: $status")]
fn bad_patterns_are_errors(#[case] pattern: &str, #[case] wanted: &str) {
    let site = site("");
    site.write("access.log", "x\n");
    site.run(&["uptake", "access.log", "--log-format", pattern]).says(2, &["--log-format", wanted]);
    site.write("idle-atlas.toml", site.read("idle-atlas.toml") + &format!("[access_log]\nformat = '{pattern}'\n"));
    site.run(&["uptake", "access.log"]).says(2, &["idle-atlas.toml line", "“format”", wanted]);
}

#[test]
fn visits_show_where_crawlers_spend_their_time() {
    let site = site("");
    let line = |second: u32, path: &str, status: u16| {
        let agent = CRAWLERS[0].1;
        format!(
            "192.0.2.5 - - [20/Nov/2026:10:00:{second:02} +0000] \"GET {path} HTTP/1.1\" {status} 5 \"-\" \"{agent}\"\n"
        )
    };
    let log = [
        line(1, "/robots.txt", 200),
        line(2, "/sitemap.xml", 200),
        line(3, "/sitemap.xml.gz", 200),
        line(4, "/halts/1/", 200),
        line(5, "/halts/1/", 301),
        line(6, "/halts/1/?sort=age", 200),
        line(7, "/old/", 301),
        line(8, "/lost/", 404),
        line(9, "https://far.example/", 200),
    ];
    site.write("access.log", log.concat());
    let uptake = site.json(&["uptake", "access.log"]);
    let crawl: BTreeMap<&str, u64> = uptake["crawl"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["kind"].as_str().unwrap(), one["requests"].as_u64().unwrap()))
        .collect();
    let wanted = [("page", 2), ("sitemap-file", 2), ("robots", 1), ("parameters", 1), ("redirect", 1), ("error", 1)];
    assert_eq!(crawl, wanted.into());
    assert_eq!(uptake["logs"]["other_hosts"], 1);
    let main = uptake["sitemap_files"]
        .as_array()
        .unwrap()
        .iter()
        .find(|file| file["address"].as_str().unwrap().ends_with("sitemap.xml"));
    assert_eq!((&main.unwrap()["requests"], &main.unwrap()["status"]), (&json!(2), &json!(200)));
    // The page that redirects by now is the first to be looked at.
    assert_eq!(uptake["worth_looking_at"][0]["url"], "https://www.marrowvale.example/halts/1/");
    site.run(&["uptake"]).says(0, &["URLs with parameters", "redirected a crawler", "1 request"]);
    site.run(&["why", "/halts/1/"]).says(0, &["fetched     2 times by lampbot", "answered 301"]);
}
