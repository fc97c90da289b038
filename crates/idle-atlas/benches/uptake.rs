//! Looking back, compared with what else reads the same files. Prints medians and ratios:
//!
//! ```text
//! cargo bench --bench uptake -- logs [LINES] [ENTRIES] [RUNS]   access logs, beside mawk, wc and zcat
//! cargo bench --bench uptake -- export [ROWS] [RUNS]            an export of a console over as many entries
//! cargo bench --bench uptake -- report [ENTRIES] [RUNS]         the report of a large site with many runs
//! ```

#[path = "site/median.rs"]
mod median;
mod site;

use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use median::median;
use site::BenchSite;

const ROOT: &str = "https://www.marrowvale.example/";
const CRAWLERS: [&str; 4] = [
    "Mozilla/5.0 (compatible; lampbot/2.1; +https://lampbot.example/bot.html)",
    "Mozilla/5.0 AppleWebKit/537.36 (KHTML, like Gecko; compatible; wickbot/2.0; +https://wick.example/bot) Chrome/156.0 Safari/537.36",
    "oilcrawler/1.0 (+https://oil.example/)",
    "lampbot-image/1.0",
];
const BROWSER: &str = "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/156.0.";

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).filter(|argument| argument != "--bench").collect();
    let number = |at: usize, usual: usize| arguments.get(at).and_then(|text| text.parse().ok()).unwrap_or(usual);
    match arguments.first().map(String::as_str) {
        Some("logs") => logs(number(1, 10_000_000), number(2, 1_000_000), number(3, 3)),
        Some("export") => export(number(1, 1_000_000), number(2, 5)),
        Some("report") => report(number(1, 1_000_000), number(2, 5)),
        _ => println!("say what: logs, export or report"),
    }
}

/// A site with so many entries in a table, built once.
fn built(entries: usize, more: &str) -> BenchSite {
    let site = BenchSite::new(ROOT, "from = \"table\"\nfile = \"rows.csv\"", more);
    let mut rows = BufWriter::new(File::create(site.0.path().join("rows.csv")).expect("a table"));
    writeln!(rows, "url,modified,section").expect("it is written");
    for nth in 0..entries {
        let section = ["halts", "journal", "locomotives", "news"][nth % 4];
        writeln!(rows, "/{section}/{nth}/,2026-{:02}-{:02},{section}", nth % 9 + 1, nth % 28 + 1)
            .expect("it is written");
    }
    drop(rows);
    site.run(&["build"]);
    site
}

/// Requests of browsers and crawlers, in the Combined Log Format.
fn write_log(path: &Path, lines: usize, entries: usize) {
    let mut log = BufWriter::with_capacity(1 << 20, File::create(path).expect("a log"));
    let mut state = 7u64;
    let mut random = |below: u64| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % below
    };
    for nth in 0..lines {
        let page = random(entries as u64) as usize;
        let section = ["halts", "journal", "locomotives", "news"][page % 4];
        let query = if random(20) == 0 { "?sort=age" } else { "" };
        let status = [200, 200, 200, 200, 304, 301, 404][random(7) as usize];
        let (hour, minute, second) = (nth / 3_600 % 24, nth / 60 % 60, nth % 60);
        let agent = match random(10) {
            0..4 => CRAWLERS[random(4) as usize].to_owned(),
            _ => format!("{BROWSER}{} Safari/537.36", random(200)),
        };
        writeln!(
            log,
            "192.0.2.{} - - [{:02}/Oct/2026:{hour:02}:{minute:02}:{second:02} +0000] \"GET /{section}/{page}/{query} HTTP/1.1\" {status} {} \"-\" \"{agent}\"",
            random(250),
            nth / 86_400 % 30 + 1,
            random(90_000)
        )
        .expect("it is written");
    }
}

fn shell(folder: &Path, line: &str) -> Duration {
    let begun = Instant::now();
    let status = Command::new("sh").args(["-c", line]).current_dir(folder).stdout(Stdio::null()).status();
    assert!(status.expect("a shell").success(), "{line}");
    begun.elapsed()
}

fn seconds(time: Duration) -> String {
    format!("{:.2} s", time.as_secs_f64())
}

fn logs(lines: usize, entries: usize, runs: usize) {
    let site = built(entries, "");
    let folder = site.0.path();
    write_log(&folder.join("access.log"), lines, entries);
    let size = fs::metadata(folder.join("access.log")).expect("a log").len();
    println!("{lines} lines, {:.2} GB, over {entries} entries", size as f64 / 1e9);
    let (mut ours, mut counting, mut awk, mut peak) = (Vec::new(), Vec::new(), Vec::new(), 0);
    for _ in 0..runs {
        site.run(&["uptake", "--forget", "logs"]);
        counting.push(shell(folder, "wc -l access.log"));
        let (time, memory) = site.run(&["uptake", "access.log"]);
        ours.push(time);
        peak = peak.max(memory);
    }
    awk.push(shell(folder, "mawk '{n[$7]++} END{for(u in n)print n[u],u}' access.log"));
    let (ours, counting, awk) = (median(ours), median(counting), median(awk));
    println!("uptake {}, peak {} MiB; wc -l {}; mawk {}", seconds(ours), peak / 1_024, seconds(counting), seconds(awk));
    let allowed = (awk / 10).max(counting * 4);
    println!("allowed: {}; ratio {:.2}", seconds(allowed), ours.as_secs_f64() / allowed.as_secs_f64());

    shell(folder, &format!("split -l {} access.log part- && gzip -1 part-*", lines.div_ceil(4)));
    let parts: Vec<String> = ["aa", "ab", "ac", "ad"].iter().map(|end| format!("part-{end}.gz")).collect();
    let (mut ours, mut unpacking) = (Vec::new(), Vec::new());
    for _ in 0..runs {
        site.run(&["uptake", "--forget", "logs"]);
        unpacking
            .push(shell(folder, "zcat part-aa.gz part-ab.gz >/dev/null & zcat part-ac.gz part-ad.gz >/dev/null; wait"));
        let all: Vec<&str> = ["uptake"].into_iter().chain(parts.iter().map(String::as_str)).collect();
        ours.push(site.run(&all).0);
    }
    let (ours, unpacking) = (median(ours), median(unpacking));
    let ratio = ours.as_secs_f64() / unpacking.as_secs_f64();
    println!("gz, four files: uptake {}; zcat, two at once {}; ratio {ratio:.2}", seconds(ours), seconds(unpacking));
}

fn export(rows: usize, runs: usize) {
    let site = built(rows, "");
    let mut export = BufWriter::new(File::create(site.0.path().join("pages.csv")).expect("an export"));
    writeln!(export, "URL,State,Last fetched").expect("it is written");
    for nth in 0..rows {
        let section = ["halts", "journal", "locomotives", "news"][nth % 4];
        let state = ["Indexed", "Indexed", "Fetched, not indexed"][nth % 3];
        writeln!(export, "{ROOT}{section}/{nth}/,\"{state}\",2026-11-{:02}", nth % 28 + 1).expect("it is written");
    }
    drop(export);
    let times = (0..runs).map(|_| site.run(&["uptake", "pages.csv", "--engine", "lamp"]));
    let (times, memory): (Vec<Duration>, Vec<u64>) = times.unzip();
    let peak = memory.into_iter().max().unwrap_or(0) / 1_024;
    println!("an export of {rows} rows: {}, peak {peak} MiB", seconds(median(times)));
}

fn report(entries: usize, runs: usize) {
    let site = built(entries, "");
    println!("making 365 runs");
    let table = site.0.path().join("rows.csv");
    let mut rows = fs::OpenOptions::new().append(true).open(&table).expect("a table");
    for day in 1..365 {
        writeln!(rows, "/news/extra-{day}/,2026-11-01,news").expect("it is written");
        site.run(&["build"]);
    }
    let times = (0..runs).map(|_| site.run(&["report", "report.html"]));
    let (times, memory): (Vec<Duration>, Vec<u64>) = times.unzip();
    let size = fs::metadata(site.0.path().join("report.html")).map_or(0, |file| file.len());
    let peak = memory.into_iter().max().unwrap_or(0) / 1_024;
    println!("a report of {entries} entries: {}, peak {peak} MiB, {} kB", seconds(median(times)), size / 1_000);
}
