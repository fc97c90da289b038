//! Large sites, compared with what serves, stores and reads the same bytes without this program. Prints medians and
//! ratios:
//!
//! ```text
//! cargo bench --bench reach --features reach -- parquet [ROWS] [RUNS]    a table in Parquet files, beside the same as CSV
//! cargo bench --bench reach --features reach -- publish [ENTRIES] [RUNS] into the store of IDLE_ATLAS_STORE, beside a bare loop
//! cargo bench --bench reach --features reach -- serve [ENTRIES] [RUNS]   beside nginx, by wrk (Debian: nginx-light, wrk)
//! cargo bench --bench reach --features reach -- sites [SITES] [RUNS]     many sites with nothing changed, beside one after the other
//! cargo bench --bench reach --features reach -- steps [ROWS] [RUNS]      a query for changes alone, beside one for everything
//! ```
//!
//! `scripts/store-cluster start FOLDER` starts a store on loopback and prints the variables that reach it.

#[path = "../site/median.rs"]
mod median;
#[path = "../site/mod.rs"]
mod site;

mod parquet;
mod publish;
mod serve;
mod sites;
mod steps;

use std::fmt::Write as _;
use std::time::Duration;

use median::median;

const ROOT: &str = "https://www.marrowvale.example/";

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).filter(|argument| argument != "--bench").collect();
    let number = |at: usize, usual: usize| arguments.get(at).and_then(|text| text.parse().ok()).unwrap_or(usual);
    match arguments.first().map(String::as_str) {
        Some("parquet") => parquet::run(number(1, 10_000_000), number(2, 3)),
        Some("publish") => publish::run(number(1, 1_000_000), number(2, 3)),
        Some("serve") => serve::run(number(1, 1_000_000), number(2, 3)),
        Some("sites") => sites::run(number(1, 30), number(2, 7)),
        Some("steps") => steps::run(number(1, 5_000_000), number(2, 5)),
        _ => println!("say what: parquet, publish, serve, sites or steps"),
    }
}

/// A made-up page: its path, its title, and the seconds since 1970 at which it changed.
fn page(number: usize) -> (String, String, i64) {
    let path = format!("/photographs/plate-{number}-of-the-collection/");
    (path, format!("Plate {number} of the collection"), 1_500_000_000 + (number * 7_919 % 200_000_000) as i64)
}

/// The made-up pages as CSV.
fn table(rows: usize) -> String {
    let mut text = "url,title,modified\n".to_owned();
    for number in 0..rows {
        let (path, title, modified) = page(number);
        let _ = writeln!(text, "{path},{title},{modified}");
    }
    text
}

/// Prints a line: what, its time, and its ratio to a baseline.
fn tell(what: &str, time: Duration, baseline: Option<Duration>, more: &str) {
    let ratio = baseline.map_or(String::new(), |baseline| {
        format!("{:>6.2} times as long", time.as_secs_f64() / baseline.as_secs_f64())
    });
    println!("  {what:<42} {:>8.3} s {ratio:<22} {more}", time.as_secs_f64());
}

/// A peak in KiB, in words.
fn peak(kib: u64) -> String {
    format!("{} MiB", kib / 1024)
}
