//! The command `serve`: what was published, and nothing else, whatever clients do.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::Value;

use crate::nginx::{MAIN_HOST, Nginx, free_port, others};
use crate::support::{NOON, TestSite, parse, source};

/// A server of its own process, which ends with the test.
struct Serving {
    child: Child,
    files: SocketAddr,
    health: SocketAddr,
    /// The paths to pass on.
    paths: Vec<String>,
}

impl Serving {
    fn start(site: &TestSite, command: &[&str]) -> Self {
        let addresses = ["--listen", "127.0.0.1:0", "--health", "127.0.0.1:0"];
        let mut child = site.command(&[command, &addresses].concat()).stdout(Stdio::piped()).spawn().unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let mut text = String::new();
        while !text.ends_with('}') {
            text += &lines.next().expect("it says where it listens").unwrap();
        }
        let told: Value = serde_json::from_str(&text).unwrap();
        let address = |name: &str| told[name].as_str().unwrap().parse().unwrap();
        let paths = told["paths"].as_array().unwrap().iter().map(|path| path.as_str().unwrap().to_owned()).collect();
        Self { files: address("files"), health: address("health"), paths, child }
    }

    fn connect(&self) -> TcpStream {
        let stream = TcpStream::connect(self.files).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        stream
    }

    /// The whole answer to a request on a connection of its own.
    fn ask(&self, address: SocketAddr, request: &[u8]) -> Vec<u8> {
        let mut stream = TcpStream::connect(address).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        stream.write_all(request).unwrap();
        let mut answer = Vec::new();
        // A server may close a connection that it does not like without reading to its end.
        let _ = stream.read_to_end(&mut answer);
        answer
    }

    fn get(&self, path: &str, more: &str) -> Vec<u8> {
        self.ask(
            self.files,
            format!("GET {path} HTTP/1.1\r\nhost: www.marrowvale.example\r\nconnection: close\r\n{more}\r\n")
                .as_bytes(),
        )
    }

    /// The memory that it holds, in KiB.
    #[cfg(target_os = "linux")]
    fn memory(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find(|line| line.starts_with("VmRSS")).unwrap();
        line.split_whitespace().nth(1).unwrap().parse().unwrap()
    }
}

impl Drop for Serving {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn status(answer: &[u8]) -> &str {
    std::str::from_utf8(answer.get(9..12).unwrap_or_default()).unwrap()
}

fn body(answer: &[u8]) -> &[u8] {
    let at = answer.windows(4).position(|four| four == b"\r\n\r\n").unwrap();
    &answer[at + 4..]
}

fn head(answer: &[u8]) -> String {
    String::from_utf8_lossy(&answer[..answer.len() - body(answer).len()]).to_lowercase()
}

/// A site whose files are kept beside the ledger.
fn served(rows: usize, round: usize) -> TestSite {
    let site = TestSite::new("");
    site.write(
        "idle-atlas.toml",
        format!(
            "[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"ledger:\"\n[robots]\nfile = \"ledger:robots.txt\"\ncreate = true\n{}[files]\nurls_per_file = 50\ncache_control = \"max-age=60\"\n[visitor_page]\n[newest]\n[[ownership]]\nfile = {{ name = \"lamp.txt\", content = \"3f9c\" }}\n",
            source("table", "file = \"t.csv\"")
        ),
    );
    table(&site, rows, round);
    site
}

fn table(site: &TestSite, rows: usize, round: usize) {
    let row = |row: usize| format!("/halts/{row}/,2026-11-{:02},Halt {row}\n", 1 + round % 20);
    site.write("t.csv", format!("url,modified,title\n{}", (0..rows).map(row).collect::<String>()));
}

#[test]
fn everything_that_was_published_is_served() {
    let site = served(120, 0);
    site.run(&["build"]).says(0, &["120 entries in 3 sitemap files"]);
    assert_eq!(std::fs::read_dir(site.path("public")).unwrap().count(), 0, "nothing is in a web root");
    let serving = Serving::start(&site, &["serve", "--json"]);
    let paths = ["/atlas-*", "/atlas.*", "/lamp.txt", "/robots.txt", "/sitemap.xml", "/sitemap.xml.gz"];
    assert_eq!(serving.paths, paths);
    let index = serving.get("/sitemap.xml", "");
    assert_eq!((status(&index), head(&index).contains("cache-control: max-age=60")), ("200", true));
    let mut listed = 0;
    for child in parse(body(&index)).2 {
        let path = child.strip_prefix("https://www.marrowvale.example").unwrap();
        let packed = serving.get(path, "accept-encoding: gzip\r\n");
        assert!(head(&packed).contains("content-encoding: gzip") && head(&packed).contains("vary: accept-encoding"));
        let plain = serving.get(path, "");
        assert_eq!(atlas_store::disk::segmented_gzip::unpack(body(&packed), 1 << 20).unwrap(), body(&plain));
        listed += parse(body(&plain)).1.len();
    }
    assert_eq!(listed, 120);
    for (path, kind) in [
        ("/robots.txt", "text/plain"),
        ("/atlas.html", "text/html"),
        ("/atlas.css", "text/css"),
        ("/atlas-newest.xml", "application/atom+xml"),
        ("/lamp.txt", "text/plain"),
        ("/sitemap.xml.gz", "application/gzip"),
    ] {
        let got = serving.get(path, "");
        assert_eq!(status(&got), "200", "{path}");
        assert!(head(&got).contains(&format!("content-type: {kind}")), "{path}: {}", head(&got));
    }
    let tag = head(&index).lines().find_map(|line| line.strip_prefix("etag: ").map(str::to_owned)).unwrap();
    let again = serving.get("/sitemap.xml", &format!("if-none-match: {tag}\r\n"));
    assert_eq!((status(&again), body(&again).len()), ("304", 0));
    let part = serving.get("/sitemap.xml", "range: bytes=0-4\r\n");
    assert_eq!((status(&part), body(&part)), ("206", &body(&index)[..5]));
    let asked = serving.ask(serving.health, b"GET /metrics HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n");
    assert!(String::from_utf8_lossy(&asked).contains("idle_atlas_entries 120"), "{}", String::from_utf8_lossy(&asked));
    let healthy = serving.ask(serving.health, b"GET /healthz HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n");
    assert_eq!((status(&healthy), status(&serving.get("/metrics", ""))), ("200", "404"));
}

#[rstest]
#[case::up(b"GET /../idle-atlas.toml HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n")]
#[case::up_encoded(b"GET /%2e%2e/idle-atlas.toml HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n")]
#[case::absolute(b"GET /etc/passwd HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n")]
#[case::the_ledger(b"GET /.idle-atlas/ledger.db HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n")]
#[case::zero(b"GET /sitemap.xml\0 HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n")]
#[case::zero_encoded(b"GET /sitemap.xml%00 HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n")]
#[case::not_http(b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03\r\n\r\n")]
#[case::another_method(b"DELETE /sitemap.xml HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n")]
#[case::a_body(b"POST /sitemap.xml HTTP/1.1\r\nhost: x\r\ncontent-length: 9\r\nconnection: close\r\n\r\n123456789")]
fn nothing_else_is_served(#[case] request: &[u8]) {
    let site = served(3, 0);
    site.run(&["build"]).says(0, &[]);
    let serving = Serving::start(&site, &["serve", "--json"]);
    let answer = serving.ask(serving.files, request);
    assert!(answer.is_empty() || status(&answer).starts_with('4'), "{}", String::from_utf8_lossy(&answer));
    assert_eq!(status(&serving.get("/sitemap.xml", "")), "200", "it goes on");
}

#[test]
fn a_large_head_and_half_a_request_cost_only_their_connection() {
    let site = served(3, 0);
    site.run(&["build"]).says(0, &[]);
    let serving = Serving::start(&site, &["serve", "--json"]);
    let large = serving.get("/sitemap.xml", &format!("x: {}\r\n", "y".repeat(1 << 20)));
    assert!(large.is_empty() || status(&large) == "431", "{}", status(&large));
    let mut half = serving.connect();
    half.write_all(b"GET /sitemap.xml HTTP/1.1\r\nho").unwrap();
    assert_eq!(status(&serving.get("/sitemap.xml", "")), "200");
    let begun = Instant::now();
    assert_eq!(half.read(&mut [0; 64]).unwrap_or(0), 0, "it is closed");
    assert!(begun.elapsed() < Duration::from_secs(19));
}

#[test]
fn a_thousand_connections() {
    let site = served(200, 0);
    site.run(&["build"]).says(0, &[]);
    let serving = Serving::start(&site, &["serve", "--json"]);
    let mut all: Vec<TcpStream> = (0..900).map(|_| serving.connect()).collect();
    for stream in &mut all {
        stream.write_all(b"GET /atlas-pages-1.xml HTTP/1.1\r\nhost: x\r\n\r\n").unwrap();
    }
    for stream in &mut all {
        let mut start = [0; 12];
        stream.read_exact(&mut start).unwrap();
        assert_eq!(&start, b"HTTP/1.1 200");
    }
    #[cfg(target_os = "linux")]
    assert!(serving.memory() < 80 << 10, "{} KiB", serving.memory());
}

/// A new build is seen at once and whole, and a killed one not at all.
#[test]
fn builds_that_are_killed_are_not_seen() {
    let mut site = served(600, 0);
    site.run(&["build"]).says(0, &[]);
    let begun = Instant::now();
    table(&site, 600, 1);
    site.run(&["build"]).says(0, &[]);
    let whole = begun.elapsed();
    let serving = Serving::start(&site, &["serve", "--json"]);
    let mut seen = 0;
    for round in 2..14 {
        site.at(NOON + round as i64 * 60);
        table(&site, 600, round);
        let mut build = site.command(&["build"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        thread::sleep(whole.mul_f64(fastrand::f64() * 1.2));
        build.kill().unwrap();
        build.wait().unwrap();
        thread::sleep(Duration::from_millis(250));
        let index = serving.get("/sitemap.xml", "");
        let mut days = std::collections::BTreeSet::new();
        let mut listed = 0;
        for child in parse(body(&index)).2 {
            let got = serving.get(child.strip_prefix("https://www.marrowvale.example").unwrap(), "");
            let urls = parse(body(&got)).1;
            listed += urls.len();
            days.extend(urls.into_iter().filter_map(|url| url.lastmod));
        }
        assert_eq!((listed, days.len()), (600, 1), "all files are of one build: {days:?}");
        seen += 1;
    }
    assert_eq!(seen, 12);
}

#[cfg(unix)]
#[test]
fn it_ends_cleanly() {
    let site = served(3, 0);
    site.run(&["build"]).says(0, &[]);
    let mut serving = Serving::start(&site, &["serve", "--json"]);
    let _idle = serving.connect();
    let begun = Instant::now();
    assert!(Command::new("kill").arg(serving.child.id().to_string()).status().unwrap().success());
    let ended = serving.child.wait().unwrap();
    assert_eq!(ended.code(), Some(0));
    assert!(begun.elapsed() < Duration::from_secs(8));
}

/// Behind nginx, with the lines of the guide.
#[test]
#[ignore = "needs nginx"]
fn nginx_passes_its_paths_on() {
    let guide = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/guide/serving.md");
    let guide = std::fs::read_to_string(guide).unwrap();
    let (_, lines) = guide.split_once("```nginx\n").unwrap();
    let lines = lines.split_once("```").unwrap().0;
    let mut site = served(120, 0);
    site.page("halts/index.html", "Halts", "Where trains stop");
    site.run(&["build"]).says(0, &["120 entries"]);
    let serving = Serving::start(&site, &["serve", "--json"]);
    let port = free_port();
    let directives = lines.replace("127.0.0.1:8480", &serving.files.to_string());
    // The site has a file of its own for a console, which is among the paths that are listed.
    assert!(serving.paths.contains(&"/lamp.txt".to_owned()), "{:?}", serving.paths);
    let directives = directives.replace("robots\\.txt", "robots\\.txt|lamp\\.txt");
    assert!(directives.contains("lamp") && !directives.contains("8480"));
    let _nginx = Nginx::start(&site.path("public"), port, &format!("{MAIN_HOST}\n{directives}"), &others(port));
    let front = SocketAddr::from(([127, 0, 0, 1], port));
    let get = |path: &str, more: &str| {
        let request = format!("GET {path} HTTP/1.1\r\nhost: www.marrowvale.example\r\nconnection: close\r\n{more}\r\n");
        serving.ask(front, request.as_bytes())
    };
    let index = get("/sitemap.xml", "");
    assert_eq!((status(&index), parse(body(&index)).2.len()), ("200", 3));
    let packed = get("/atlas-pages-1.xml", "accept-encoding: gzip\r\n");
    assert!(head(&packed).contains("content-encoding: gzip"), "{}", head(&packed));
    let tag = head(&index).lines().find_map(|line| line.strip_prefix("etag: ").map(str::to_owned)).unwrap();
    assert_eq!(status(&get("/sitemap.xml", &format!("if-none-match: {tag}\r\n"))), "304");
    assert_eq!((status(&get("/robots.txt", "")), status(&get("/atlas.css", ""))), ("200", "200"));
    // The site's own pages are still nginx's.
    assert!(String::from_utf8_lossy(body(&get("/halts/", ""))).contains("Where trains stop"));
    assert_eq!(status(&get("/ledger.db", "")), "404");
    // A new build is there at once, through nginx as well.
    site.at(NOON + 60);
    table(&site, 60, 1);
    site.run(&["build", "--allow", "shrink"]).says(0, &["60 entries"]);
    thread::sleep(Duration::from_millis(300));
    assert_eq!(parse(body(&get("/sitemap.xml", ""))).2.len(), 2);
    site.reconfigure("[site]", &format!("[site]\nreached_at = \"http://127.0.0.1:{port}\""));
    site.run(&["check"]).says(0, &["0 errors, 1 warning", "all 60 dates are"]);
}

#[test]
fn what_cannot_be_served_is_said() {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    site.run(&["serve"]).says(2, &["the web root is", "served by your web server", "web_root = \"ledger:\""]);
    let site = served(3, 0);
    site.run(&["serve", "--listen", "192.0.2.1:80"]).says(2, &["cannot listen on 192.0.2.1:80", "--listen"]);
    let busy = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = busy.local_addr().unwrap().to_string();
    site.run(&["serve", "--listen", &address]).says(2, &["cannot listen on", "choose another with --listen"]);
}
