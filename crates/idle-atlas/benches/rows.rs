//! Rows of databases, compared with the servers' own clients for the same query: `psql` with `copy (…) to stdout`, and
//! `mariadb --quick -N -e`. Prints medians and ratios:
//!
//! ```text
//! cargo bench --bench rows -- [ROWS] [RUNS]
//! ```
//!
//! The servers are those that IDLE_ATLAS_POSTGRES and IDLE_ATLAS_MARIADB name; a server that is not named is passed
//! over. A table named `bench_pages` is made in each, and dropped at the end.

#[path = "site/relay.rs"]
mod relay;
mod site;

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use relay::Relay;
use site::BenchSite;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).filter(|argument| argument != "--bench").collect();
    let number = |at: usize, usual: usize| arguments.get(at).and_then(|text| text.parse().ok()).unwrap_or(usual);
    let (rows, runs) = (number(0, 1_000_000), number(1, 5));
    for server in [POSTGRES, MARIADB] {
        match std::env::var(server.variable) {
            Ok(url) => compare(&server, &url, rows, runs),
            Err(_) => println!("{} names no server: no figures for {}", server.variable, server.name),
        }
    }
}

/// A kind of server, and the words in which it differs from the others.
struct BenchServer {
    name: &'static str,
    variable: &'static str,
    baseline: &'static str,
    series: &'static str,
    date: &'static str,
    pictures: &'static str,
}

const POSTGRES: BenchServer = BenchServer {
    name: "PostgreSQL",
    variable: "IDLE_ATLAS_POSTGRES",
    baseline: "psql, copy (…) to stdout",
    series: "generate_series(1, ROWS) as numbers (n)",
    date: "date '2015-01-01' + mod(n, 3000)",
    pictures: "array[concat('/p/', n, '-a.jpg'), concat('/p/', n, '-b.jpg')]",
};

const MARIADB: BenchServer = BenchServer {
    name: "MariaDB",
    variable: "IDLE_ATLAS_MARIADB",
    baseline: "mariadb --quick -N -e",
    series: "(select seq as n from seq_1_to_ROWS) as numbers",
    date: "date_add(date '2015-01-01', interval mod(n, 3000) day)",
    pictures: "concat('/p/', n, '-a.jpg|/p/', n, '-b.jpg')",
};

/// The queries: only what every page has, and with pictures, a category and a group of two languages for each page.
const QUERIES: [(&str, &str); 2] = [
    ("plain", "select url, kind, modified, title from bench_pages"),
    (
        "with pictures, archives by category and groups of languages",
        "select url, kind, modified, title, category, images, language, language_group from bench_pages",
    ),
];

impl BenchServer {
    /// The server's own client, for one statement.
    fn client(&self, url: &str, statement: &str) -> Command {
        if self.name == POSTGRES.name {
            let mut command = Command::new("psql");
            command.args([url, "-q", "-v", "ON_ERROR_STOP=1", "-c", statement]);
            return command;
        }
        let url = url::Url::parse(url).expect("a URL");
        let mut command = Command::new("mariadb");
        let port = url.port().unwrap_or(3306).to_string();
        command.args(["--no-defaults", "--quick", "-N", "-h", url.host_str().unwrap_or("127.0.0.1"), "-P", &port]);
        let password = format!("-p{}", url.password().unwrap_or_default());
        command.args(["-u", url.username(), &password, &url.path()[1..], "-e", statement]);
        command
    }

    fn run(&self, url: &str, statement: &str) {
        let status = self.client(url, statement).stdout(Stdio::null()).status().expect("the client is installed");
        assert!(status.success(), "{statement}");
    }

    fn fill(&self, url: &str, rows: usize) {
        let series = self.series.replace("ROWS", &rows.to_string());
        self.run(url, "drop table if exists bench_pages");
        self.run(
            url,
            &format!(
                "create table bench_pages as select n as id, concat('/locomotives/guard-lever-brass-platform-', n, '/') as url, \
                 'locomotive' as kind, {} as modified, concat('Guard lever brass platform ', n) as title, \
                 concat('Kind ', mod(n, 200)) as category, {} as images, case mod(n, 2) when 0 then 'en' else 'cy' end as language, \
                 concat('g', floor(n / 2)) as language_group from {series}",
                self.date, self.pictures
            ),
        );
        if self.name == POSTGRES.name {
            self.run(url, "vacuum analyze bench_pages");
        }
    }

    fn baseline(&self, url: &str, query: &str) -> Duration {
        let statement = if self.name == POSTGRES.name { format!("copy ({query}) to stdout") } else { query.to_owned() };
        let begun = Instant::now();
        self.run(url, &statement);
        begun.elapsed()
    }
}

/// A site whose only source is a query.
fn query_site(server: &BenchServer, url: &str, query: &str) -> BenchSite {
    let archive =
        if query.contains("category") { "[[archive]]\nby = \"category\"\nurl = \"/about/{slug}/\"" } else { "" };
    let source = format!("from = \"sql\"\nconnection = \"${{{}}}\"\nquery = \"{query}\"", server.variable);
    let mut site = BenchSite::new("https://www.marrowvale.example/", &source, archive);
    site.1.push((server.variable, url.to_owned()));
    site
}

/// The time until the last rows of a first build came from the server.
fn gathering(server: &BenchServer, url: &str, query: &str) -> (Duration, u64) {
    let mut relayed = url::Url::parse(url).expect("a URL");
    let host = relayed.host_str().unwrap_or("127.0.0.1").to_owned();
    let relay = Relay::before(host, relayed.port().expect("a port"));
    relayed.set_port(Some(relay.port)).expect("a host");
    let site = query_site(server, relayed.as_str(), query);
    let begun = Instant::now();
    let (_, peak) = site.run(&["build"]);
    (relay.last_since(begun), peak)
}

/// The times of one step, and the most memory.
#[derive(Default)]
struct StepTimes {
    times: Vec<Duration>,
    peak: u64,
}

impl StepTimes {
    fn add(&mut self, (time, peak): (Duration, u64)) {
        self.times.push(time);
        self.peak = self.peak.max(peak);
    }

    fn median(&mut self) -> f64 {
        self.times.sort();
        self.times.get(self.times.len() / 2).map_or(0.0, Duration::as_secs_f64)
    }
}

fn compare(server: &BenchServer, url: &str, rows: usize, runs: usize) {
    server.fill(url, rows);
    for (what, query) in QUERIES {
        let steps = [
            "first build, until its last row",
            "survey",
            "first build",
            "build, nothing changed",
            "build, 0.1 % changed",
            "why URL",
        ];
        let mut baseline = StepTimes::default();
        let mut measured: [StepTimes; 6] = Default::default();
        for run in 0..runs {
            let site = query_site(server, url, query);
            baseline.add((server.baseline(url, query), 0));
            measured[0].add(gathering(server, url, query));
            measured[1].add(site.run(&["survey"]));
            measured[2].add(site.run(&["build"]));
            baseline.add((server.baseline(url, query), 0));
            measured[3].add(site.run(&["build"]));
            server.run(url, &format!("update bench_pages set title = concat(title, '!') where mod(id, 1000) = {run}"));
            measured[4].add(site.run(&["build"]));
            measured[5].add(site.run(&["why", &format!("/locomotives/guard-lever-brass-platform-{}/", rows / 2)]));
        }
        let base = baseline.median();
        println!("{}, {rows} rows, {what}: medians of {runs} runs", server.name);
        println!("  {:34} {base:7.2} s", server.baseline);
        for (step, mut measured) in steps.into_iter().zip(measured) {
            let time = measured.median();
            println!("  {step:34} {time:7.2} s, {:5.2} of it, {:4} MiB", time / base, measured.peak / 1024);
        }
    }
    server.run(url, "drop table bench_pages");
}
