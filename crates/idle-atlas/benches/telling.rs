//! Telling engines, compared with a bare HTTP client. Prints medians and ratios:
//!
//! ```text
//! cargo bench --bench telling -- hosts [URLS] [RUNS]     changed URLs of two configurations on two hosts, beside curl (Debian: curl)
//! cargo bench --bench telling -- watch [FILES]           `watch` on a folder of pages: idle, and after an edit (Linux)
//! ```

#[path = "site/median.rs"]
mod median;

use std::collections::HashMap;
use std::fs;
use std::io::{BufRead, BufReader, Write as _};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use atlas_io::test_engine::serve::{self, Served};
use atlas_io::test_engine::{TestEngine, TestEngineSettings};
use median::median;
use tempfile::TempDir;

const KEY: &str = "0123456789abcdef0123456789abcdef";
/// The most URLs in a message (IndexNow).
const MOST_URLS: usize = 10_000;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).filter(|argument| argument != "--bench").collect();
    let number = |at: usize, usual: usize| arguments.get(at).and_then(|text| text.parse().ok()).unwrap_or(usual);
    match arguments.first().map(String::as_str) {
        Some("hosts") => hosts(number(1, 50_000), number(2, 5)),
        Some("watch") => watch(number(1, 100_000)),
        _ => println!("say what: hosts or watch"),
    }
}

fn idle_atlas(folder: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_idle-atlas"));
    command.args(arguments).current_dir(folder);
    command
}

/// A site of table rows on a host of its own, with its key file on loopback.
struct Host {
    folder: TempDir,
    name: String,
    urls: usize,
    served: Served,
}

impl Host {
    fn new(name: &str, urls: usize) -> Self {
        let folder = tempfile::tempdir().expect("a temporary folder");
        let public = folder.path().join("public");
        fs::create_dir(&public).expect("a web root");
        fs::write(public.join(format!("{KEY}.txt")), KEY).expect("a key file");
        let served = serve::folder(&public).expect("a port");
        Self { folder, name: name.to_owned(), urls, served }
    }

    fn configure(&self, endpoint: &str) {
        let text = format!(
            "[site]\nurl = \"https://{}/\"\nweb_root = \"public\"\n[[source]]\nfrom = \"table\"\nfile = \"rows.csv\"\n\
             [[engine]]\nname = \"bench\"\nvia = \"indexnow\"\nendpoint = \"{endpoint}\"\nkey = \"{KEY}\"\nwait_until_live = false\n",
            self.name
        );
        fs::write(self.folder.path().join("idle-atlas.toml"), text).expect("a configuration");
    }

    fn url(&self, number: usize) -> String {
        format!("https://{}/photographs/plate-{number}-of-the-collection/", self.name)
    }

    /// Writes all rows with this date, and builds.
    fn build(&self, date: &str) {
        let rows: String = (0..self.urls).map(|number| format!("{},{date}\n", self.url(number))).collect();
        fs::write(self.folder.path().join("rows.csv"), format!("url,modified\n{rows}")).expect("rows");
        let built = idle_atlas(self.folder.path(), &["build", "--quiet"]).status().expect("a build");
        assert!(built.success());
    }

    /// The bodies that tell of all its URLs.
    fn bodies(&self) -> Vec<String> {
        let urls: Vec<String> = (0..self.urls).map(|number| self.url(number)).collect();
        let body = |some: &[String]| {
            let location = format!("https://{}/{KEY}.txt", self.name);
            serde_json::json!({ "host": self.name, "key": KEY, "keyLocation": location, "urlList": some }).to_string()
        };
        urls.chunks(MOST_URLS).map(body).collect()
    }
}

fn hosts(urls: usize, runs: usize) {
    let hosts = ["www.marrowvale.example", "shop.marrowvale.example"].map(|name| Host::new(name, urls / 2));
    let reach: HashMap<_, _> = hosts.iter().map(|host| (host.name.clone(), host.served.address())).collect();
    let engine = TestEngine::start(TestEngineSettings { reach, ..TestEngineSettings::fair() }).expect("a test engine");
    let (mut bare, mut ours, mut messages) = (Vec::new(), Vec::new(), 0);
    for host in &hosts {
        host.configure(&engine.endpoint());
        host.build("2026-01-01");
        // The first build is the baseline.
        assert!(idle_atlas(host.folder.path(), &["announce", "--quiet"]).status().expect("it runs").success());
    }
    for run in 0..runs {
        hosts.iter().for_each(|host| host.build(&format!("2026-02-{:02}", run % 28 + 1)));
        let before = engine.received().len();
        let configs = hosts.each_ref().map(|host| host.folder.path().join("idle-atlas.toml"));
        let [one, other] = configs.each_ref().map(|config| config.to_str().expect("UTF-8"));
        let begun = Instant::now();
        let told =
            idle_atlas(hosts[0].folder.path(), &["--config", one, "--config", other, "announce", "--quiet"]).status();
        assert!(told.expect("it runs").success());
        ours.push(begun.elapsed());
        let received = &engine.received()[before..];
        assert_eq!(received.iter().map(|one| one.urls.len()).sum::<usize>(), urls, "each URL once");
        messages = received.len();
        bare.extend(curl(&hosts, &engine.endpoint()));
    }
    let sizes = hosts[0].bodies().len() + hosts[1].bodies().len();
    println!("{urls} changed URLs on two hosts, in {messages} messages ({sizes} are needed): medians of {runs} runs");
    let (ours, bare) = (median(ours), (!bare.is_empty()).then(|| median(bare)));
    println!("  idle-atlas announce, two configurations  {:.3} s", ours.as_secs_f64());
    match bare {
        Some(bare) => println!(
            "  curl with the same bodies                {:.3} s: {:.2} times as long",
            bare.as_secs_f64(),
            ours.as_secs_f64() / bare.as_secs_f64()
        ),
        None => println!("  curl is not installed here: no ratio"),
    }
}

/// Posts the same bodies by curl, on one connection.
fn curl(hosts: &[Host], endpoint: &str) -> Option<Duration> {
    let folder = tempfile::tempdir().ok()?;
    let mut command = Command::new("curl");
    command.arg("--silent");
    for (nth, body) in hosts.iter().flat_map(Host::bodies).enumerate() {
        let path = folder.path().join(format!("{nth}.json"));
        fs::write(&path, body).ok()?;
        if nth > 0 {
            command.arg("--next").arg("--silent");
        }
        command.args(["--header", "Content-Type: application/json; charset=utf-8", "--output", "/dev/null"]);
        command.arg("--data-binary").arg(format!("@{}", path.display())).arg(endpoint);
    }
    let begun = Instant::now();
    let status = command.stdout(Stdio::null()).stderr(Stdio::null()).status().ok()?;
    status.success().then(|| begun.elapsed())
}

fn watch(files: usize) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let page = |number: usize| folder.path().join(format!("public/h{}/p{number}x.html", number / 100));
    let write = |number: usize, text: &str| {
        let path = page(number);
        fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        fs::write(path, format!("<title>Page {number}</title><main><p>{text} {number}, with lamps and oil.</main>"))
            .expect("a page");
    };
    (0..files).for_each(|number| write(number, "Text"));
    let engine = TestEngine::start(TestEngineSettings::fair()).expect("a test engine");
    let config = format!(
        "[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"public\"\n[[source]]\nfrom = \"html\"\nfolder = \"public\"\n\
         [[engine]]\nname = \"bench\"\nvia = \"http-call\"\nendpoint = \"{}\"\nbody = \"{{url}}\"\nwait_until_live = false\n\
         [watch]\nquiet_seconds = 1\n",
        engine.call()
    );
    fs::write(folder.path().join("idle-atlas.toml"), config).expect("a configuration");
    let mut child =
        idle_atlas(folder.path(), &["watch", "--log", "json"]).stdout(Stdio::piped()).spawn().expect("it runs");
    let mut lines = BufReader::new(child.stdout.take().expect("a log")).lines().map_while(Result::ok);
    let mut until = |event: &str| {
        let word = format!("\"event\":\"{event}\"");
        lines.by_ref().find(|line| line.contains(&word)).expect("it goes on")
    };
    until("built");
    thread::sleep(Duration::from_secs(2));
    let (before, begun) = (processor_ticks(&child), Instant::now());
    thread::sleep(Duration::from_secs(30));
    let ticks = processor_ticks(&child) - before;
    // A tick is a hundredth of a second on Linux.
    let share = ticks as f64 / begun.elapsed().as_secs_f64();
    println!("watch on {files} files");
    println!("  idle for 30 s: {share:.3} % of a core, {} KiB", resident(&child));
    let mut times = Vec::new();
    for round in 0..7 {
        write(files / 2, &format!("Text of round {round}"));
        let before = engine.received().len();
        until("begins");
        let begun = Instant::now();
        while engine.received().len() == before {
            thread::sleep(Duration::from_millis(1));
        }
        times.push(begun.elapsed());
        until("told");
        thread::sleep(Duration::from_millis(200));
    }
    println!("  from the end of the quiet time to the announcement: {:.3} s, median of 7", median(times).as_secs_f64());
    println!("  after that: {} KiB", resident(&child));
    let _ = child.kill();
    let _ = child.wait();
    let _ = std::io::stdout().flush();
}

/// The processor time of a process so far, in hundredths of a second.
fn processor_ticks(child: &Child) -> u64 {
    let stat = fs::read_to_string(format!("/proc/{}/stat", child.id())).unwrap_or_default();
    let fields: Vec<&str> = stat.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
    [11, 12].iter().filter_map(|at| fields.get(*at)?.parse::<u64>().ok()).sum()
}

/// The memory of a process, in KiB.
fn resident(child: &Child) -> u64 {
    let status = fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
    line.and_then(|line| line.split_whitespace().next()?.parse().ok()).unwrap_or_default()
}
