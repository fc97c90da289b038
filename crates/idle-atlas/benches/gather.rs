//! Gathering, compared with common tools for the same job. Prints medians and ratios:
//!
//! ```text
//! cargo bench --bench gather -- folder DOCS [RUNS]    a folder of pages, beside a naive reader in Python (python3-lxml)
//! cargo bench --bench gather -- crawl DOCS [RUNS]     the same from nginx on loopback, beside wget --spider
//! cargo bench --bench gather -- rows [ROWS]           rows of CSV; those of databases have a benchmark of their own
//! ```
//!
//! DOCS is any folder of HTML; the figures in docs/benchmarks.md are for Debian's openjdk-17-doc.

mod site;

use std::fs;
use std::io::Write as _;
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use site::BenchSite;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).filter(|argument| argument != "--bench").collect();
    let number = |at: usize, usual: usize| arguments.get(at).and_then(|text| text.parse().ok()).unwrap_or(usual);
    match (arguments.first().map(String::as_str), arguments.get(1)) {
        (Some("folder"), Some(docs)) => folder(Path::new(docs), number(2, 3)),
        (Some("crawl"), Some(docs)) => crawl(Path::new(docs), number(2, 3)),
        (Some("rows"), _) => rows(number(1, 1_000_000)),
        _ => println!("say what: folder DOCS, crawl DOCS or rows"),
    }
}

fn folder(docs: &Path, runs: usize) {
    let source = format!("from = \"html\"\nfolder = {docs:?}\ncanonical = \"ignore\"");
    let (mut baselines, mut firsts, mut seconds, mut peak) = (Vec::new(), Vec::new(), Vec::new(), 0);
    for _ in 0..runs {
        baselines.extend(python(docs));
        let site = BenchSite::new("https://www.marrowvale.example/", &source, "");
        let (first, memory) = site.run(&["survey"]);
        let (second, memory_again) = site.run(&["survey"]);
        firsts.push(first);
        seconds.push(second);
        peak = peak.max(memory).max(memory_again);
    }
    println!("{}: medians of {runs} runs", docs.display());
    let baseline = median(baselines);
    tell("a naive reader in Python, one core", baseline, None);
    tell("first survey", median(firsts), baseline);
    tell("second survey, nothing touched", median(seconds), baseline);
    println!("  {:34} {:7} MiB", "peak memory", peak / 1024);
}

/// Debian's python3 finds Debian's lxml, whichever other python3 comes first.
fn python(docs: &Path) -> Option<Duration> {
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("benches/scan_html.py");
    let begun = Instant::now();
    let status = Command::new("/usr/bin/python3").arg(script).arg(docs).stdout(Stdio::null()).status().ok()?;
    status.success().then(|| begun.elapsed())
}

fn crawl(docs: &Path, runs: usize) {
    let port =
        std::net::TcpListener::bind("127.0.0.1:0").and_then(|free| free.local_addr()).expect("a free port").port();
    let _nginx = BenchNginx::start(docs, port);
    let url = format!("http://127.0.0.1:{port}/");
    let source = "from = \"crawl\"\nrequests_per_second = 0\nconnections = 8\nmost_depth = 1000";
    let (mut baselines, mut firsts, mut seconds, mut peak) = (Vec::new(), Vec::new(), Vec::new(), 0);
    for _ in 0..runs {
        let folder = tempfile::tempdir().expect("a temporary folder");
        let begun = Instant::now();
        let wget =
            Command::new("wget").args(["-q", "-r", "-l", "inf", "--spider", &url]).current_dir(folder.path()).status();
        // It exits with 8 if some link is dead.
        baselines.extend(wget.ok().map(|_| begun.elapsed()));
        let site = BenchSite::new(&url, source, "");
        let (first, memory) = site.run(&["survey"]);
        let (second, memory_again) = site.run(&["survey"]);
        firsts.push(first);
        seconds.push(second);
        peak = peak.max(memory).max(memory_again);
    }
    println!("{} from nginx on loopback: medians of {runs} runs", docs.display());
    let baseline = median(baselines);
    tell("wget -q -r -l inf --spider", baseline, None);
    tell("first crawl", median(firsts), baseline);
    tell("second crawl, all 304", median(seconds), baseline);
    println!("  {:34} {:7} MiB", "peak memory", peak / 1024);
}

/// nginx serving a folder, until it is dropped.
struct BenchNginx {
    child: Child,
    _folder: tempfile::TempDir,
}

impl BenchNginx {
    fn start(root: &Path, port: u16) -> Self {
        let folder = tempfile::tempdir().expect("a temporary folder");
        let root: PathBuf = root.canonicalize().expect("the folder is there");
        let at = folder.path().display();
        let config = format!(
            "master_process off; daemon off; pid {at}/pid; error_log {at}/error.log;\nevents {{ worker_connections 512; }}\nhttp {{ include /etc/nginx/mime.types; access_log off; keepalive_requests 100000;\n client_body_temp_path {at}/b; proxy_temp_path {at}/p; fastcgi_temp_path {at}/f; uwsgi_temp_path {at}/u; scgi_temp_path {at}/s;\n server {{ listen 127.0.0.1:{port}; root {}; index index.html; }} }}",
            root.display()
        );
        let path = folder.path().join("nginx.conf");
        fs::write(&path, config).expect("a configuration");
        let child = Command::new("nginx").arg("-c").arg(&path).spawn().expect("nginx is installed");
        let started = (0..100).any(|_| {
            std::thread::sleep(Duration::from_millis(50));
            TcpStream::connect(("127.0.0.1", port)).is_ok()
        });
        assert!(started, "nginx does not listen");
        Self { child, _folder: folder }
    }
}

impl Drop for BenchNginx {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The bytes of memory that one more entry takes, from two sizes.
fn rows(rows: usize) {
    let sizes = [rows / 4, rows];
    let per_entry = |peaks: [u64; 2]| (peaks[1].saturating_sub(peaks[0])) * 1024 / (sizes[1] - sizes[0]) as u64;
    let csv = sizes.map(|size| {
        let site = BenchSite::new("https://www.marrowvale.example/", "from = \"table\"\nfile = \"rows.csv\"", "");
        let mut file = std::io::BufWriter::new(fs::File::create(site.0.path().join("rows.csv")).expect("a file"));
        writeln!(file, "url,modified,title").expect("written");
        for row in 0..size {
            writeln!(file, "/lamps/brass-lamp-of-the-upper-halt-{row}/,2026-03-04T09:30:00Z,Brass lamp {row}")
                .expect("written");
        }
        drop(file);
        site.run(&["survey"])
    });
    println!(
        "CSV, {} rows: {:.2} s, {} MiB; {} bytes an entry",
        rows,
        csv[1].0.as_secs_f64(),
        csv[1].1 / 1024,
        per_entry(csv.map(|one| one.1))
    );
}

fn tell(what: &str, time: Option<Duration>, baseline: Option<Duration>) {
    match (time, baseline) {
        (Some(time), Some(baseline)) => {
            let ratio = baseline.as_secs_f64() / time.as_secs_f64();
            println!("  {what:34} {:7.2} s, 1/{ratio:.0} of it", time.as_secs_f64());
        }
        (Some(time), None) => println!("  {what:34} {:7.2} s", time.as_secs_f64()),
        (None, _) => println!("  {what:34}  not installed here: no ratio"),
    }
}

fn median(mut times: Vec<Duration>) -> Option<Duration> {
    times.sort();
    times.get(times.len() / 2).copied()
}
