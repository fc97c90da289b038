//! Checking, compared with what else reads the same files. Prints medians and ratios:
//!
//! ```text
//! cargo bench --bench checking -- files [ENTRIES] [RUNS]     sitemap files on disk, beside xmllint (Debian: libxml2-utils)
//! cargo bench --bench checking -- pages [PAGES] [RUNS]       pages of nginx on loopback, beside wget (Debian: nginx, wget)
//! ```

#[path = "site/median.rs"]
mod median;

use std::fmt::Write as _;
use std::fs;
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use median::median;
use tempfile::TempDir;

const ROOT: &str = "https://www.marrowvale.example/";

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).filter(|argument| argument != "--bench").collect();
    let number = |at: usize, usual: usize| arguments.get(at).and_then(|text| text.parse().ok()).unwrap_or(usual);
    match arguments.first().map(String::as_str) {
        Some("files") => files(number(1, 1_000_000), number(2, 5)),
        Some("pages") => pages(number(1, 10_000), number(2, 5)),
        _ => println!("say what: files or pages"),
    }
}

fn idle_atlas(folder: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_idle-atlas"));
    command.args(arguments).current_dir(folder).stdout(Stdio::null()).stderr(Stdio::null());
    command
}

/// The time of a command, and its peak of memory in MiB.
fn timed(mut command: Command) -> (Duration, u64) {
    let begun = Instant::now();
    let mut child = command.spawn().expect("it runs");
    let mut peak = 0;
    loop {
        peak = peak.max(peak_of(child.id()));
        if child.try_wait().expect("it runs").is_some() {
            return (begun.elapsed(), peak >> 10);
        }
        thread::sleep(Duration::from_millis(2));
    }
}

/// The peak of a process's memory, in KiB (Linux).
fn peak_of(process: u32) -> u64 {
    let status = fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    line.and_then(|line| line.trim().trim_end_matches(" kB").parse().ok()).unwrap_or(0)
}

fn files(entries: usize, runs: usize) {
    for gzip in ["off", "beside"] {
        let folder = tempfile::tempdir().expect("a temporary folder");
        fs::create_dir(folder.path().join("public")).expect("a web root");
        let config = format!(
            "[site]\nurl = \"{ROOT}\"\nweb_root = \"public\"\n[robots]\nfile = \"public/robots.txt\"\ncreate = true\n[[source]]\nfrom = \"table\"\nfile = \"rows.csv\"\n[files]\nurls_per_file = 50000\nbytes_per_file = 52428800\ngzip = \"{gzip}\"\n"
        );
        fs::write(folder.path().join("idle-atlas.toml"), config).expect("a configuration");
        let mut rows = String::from("url,modified\n");
        for number in 0..entries {
            let (day, minute) = (number % 28 + 1, number % 60);
            let _ = writeln!(
                rows,
                "/photographs/plate-{number}-of-the-whole-collection/,2026-01-{day:02}T07:{minute:02}:00Z"
            );
        }
        fs::write(folder.path().join("rows.csv"), rows).expect("rows");
        assert!(idle_atlas(folder.path(), &["build"]).status().expect("a build").success());
        let xml = |entry: &fs::DirEntry| entry.path().extension().is_some_and(|extension| extension == "xml");
        let files: Vec<_> = fs::read_dir(folder.path().join("public")).expect("files").flatten().filter(xml).collect();
        let bytes: u64 = files.iter().filter_map(|file| file.metadata().ok()).map(|file| file.len()).sum();
        let (mut ours, mut theirs, mut peak) = (Vec::new(), Vec::new(), 0);
        for _ in 0..runs {
            let (time, memory) = timed(idle_atlas(folder.path(), &["check"]));
            ours.push(time);
            peak = peak.max(memory);
            let mut xmllint = Command::new("xmllint");
            xmllint.args(["--stream", "--noout"]).args(files.iter().map(fs::DirEntry::path));
            theirs.push(timed(xmllint).0);
        }
        let (ours, theirs) = (median(ours), median(theirs));
        println!(
            "{entries} entries in {} files, {} MB, gzip {gzip}: check {ours:.2?}, {peak} MiB; xmllint {theirs:.2?}; ratio {:.2}",
            files.len(),
            bytes / 1_000_000,
            ours.as_secs_f64() / theirs.as_secs_f64()
        );
    }
}

/// nginx in front of a folder.
struct NginxServer {
    child: Child,
    _folder: TempDir,
}

impl NginxServer {
    fn start(root: &Path, port: u16) -> Self {
        let folder = tempfile::tempdir().expect("a temporary folder");
        let at = folder.path().display();
        let config = format!(
            "master_process off; daemon off; pid {at}/pid; error_log {at}/log;\nevents {{ worker_connections 256; }}\nhttp {{ include /etc/nginx/mime.types; access_log off; keepalive_requests 1000000;\nclient_body_temp_path {at}/b; proxy_temp_path {at}/p; fastcgi_temp_path {at}/f; uwsgi_temp_path {at}/u; scgi_temp_path {at}/s;\nserver {{ listen 127.0.0.1:{port}; root {}; index index.html; }} }}",
            root.display()
        );
        fs::write(folder.path().join("nginx.conf"), config).expect("a configuration");
        let configuration = folder.path().join("nginx.conf");
        let child = Command::new("nginx").arg("-c").arg(configuration).arg("-e").arg(folder.path().join("log")).spawn();
        let nginx = Self { child: child.expect("nginx runs"), _folder: folder };
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            thread::sleep(Duration::from_millis(20));
        }
        nginx
    }
}

impl Drop for NginxServer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn pages(pages: usize, runs: usize) {
    let port = TcpListener::bind("127.0.0.1:0").and_then(|one| one.local_addr()).expect("a port").port();
    let folder = tempfile::tempdir().expect("a temporary folder");
    let at = format!("http://127.0.0.1:{port}");
    let (mut urls, mut list) = (String::new(), String::new());
    let text =
        "<p>The line leaves the quay, crosses the weir and climbs through the cutting to the summit.</p>\n".repeat(30);
    for number in 0..pages {
        let page = format!(
            "<!doctype html><html lang=\"en\"><head><title>Plate {number}</title><meta name=\"description\" content=\"Plate {number}\"></head><body><nav><a href=\"/\">Home</a></nav><main><h1>Plate {number}</h1>{text}</main></body></html>"
        );
        fs::write(folder.path().join(format!("{number}.html")), page).expect("a page");
        let _ = writeln!(urls, "<url><loc>{at}/{number}.html</loc></url>");
        let _ = writeln!(list, "{at}/{number}.html");
    }
    let file = format!("<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">\n{urls}</urlset>\n");
    fs::write(folder.path().join("sitemap.xml"), file).expect("a sitemap");
    fs::write(folder.path().join("robots.txt"), format!("Sitemap: {at}/sitemap.xml\n")).expect("robots.txt");
    let lists = tempfile::tempdir().expect("a temporary folder");
    fs::write(lists.path().join("list"), list).expect("a list");
    let _nginx = NginxServer::start(folder.path(), port);
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for _ in 0..runs {
        let check = ["check", &format!("{at}/"), "--pages", "all", "--rate", "0", "--connections", "32"];
        ours.push(timed(idle_atlas(lists.path(), &check)).0);
        let mut wget = Command::new("wget");
        wget.args(["-q", "--spider", "-i"]).arg(lists.path().join("list"));
        theirs.push(timed(wget).0);
    }
    let (ours, theirs) = (median(ours), median(theirs));
    let times = theirs.as_secs_f64() / ours.as_secs_f64();
    println!("{pages} pages: check {ours:.2?}; wget {theirs:.2?}; {times:.1} times as fast");
}
