//! A ledger that travels: each run may be on another machine, which is thrown away afterwards.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;
use std::process::Stdio;
use std::thread;
use std::time::{Duration, Instant};

use atlas_store::stop::Stop;
use rstest::rstest;

use crate::server::{CannedAnswer, Server};
use crate::stores::{Depot, TestStore};
use crate::support::{NOON, TestSite, source};

/// A site whose ledger is kept in a bucket, and which is published there.
fn travelling(depot: &Depot, more: &str) -> String {
    let home = depot.address("home/ledger.gz");
    // The ledger must not be where everyone could read it.
    let root = depot.address("public/");
    format!(
        "[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"{root}\"\n{}[ledger]\nkeep_at = \"{home}\"\n{}[files]\nurls_per_file = 50\n{more}",
        depot.store(),
        source("table", "file = \"t.csv\"")
    )
}

fn table(rows: usize, changed: usize) -> String {
    let mut table = "url,modified\n".to_owned();
    for row in 0..rows {
        let day = if row < changed { 20 } else { 1 };
        writeln!(table, "/halts/{row}/,2026-11-{day:02}").unwrap();
    }
    table
}

/// Throws the machine away.
fn throw_away(site: &TestSite) {
    let _ = fs::remove_dir_all(site.path(".idle-atlas"));
}

fn objects(depot: &Depot) -> Vec<String> {
    let listed = depot.bucket.list(&format!("{}home", depot.folder), &Stop::default()).unwrap();
    listed.into_iter().map(|object| object.key.rsplit('/').next().unwrap().to_owned()).collect()
}

#[test]
#[ignore = "needs the store that IDLE_ATLAS_CONDITIONAL_STORE names"]
fn any_machine_can_do_the_next_run() {
    let depot = TestStore::Conditional.depot();
    let (one, other) = (TestSite::new(""), TestSite::new(""));
    for site in [&one, &other] {
        site.write("idle-atlas.toml", travelling(&depot, ""));
        site.write("t.csv", table(200, 0));
    }
    one.run(&["build"]).says(0, &["There was no build before", "200 entries"]);
    assert_eq!(objects(&depot), ["ledger.gz"], "the lease was given up");
    let before = depot.bucket.list(&format!("{}home", depot.folder), &Stop::default()).unwrap();
    other.run(&["history"]).says(0, &["200"]);
    assert_eq!(depot.bucket.list(&format!("{}home", depot.folder), &Stop::default()).unwrap(), before);
    other.write("t.csv", table(200, 3));
    other.run(&["build"]).says(0, &["Run 2", "3 changed"]);
    one.write("t.csv", table(200, 3));
    one.run(&["build"]).says(0, &["Run 3", "no entry changed"]);
    throw_away(&one);
    one.run(&["build"]).says(0, &["Run 4", "no entry changed"]);
}

/// Two machines at once: one waits, or ends with a clear word. A lease that nobody renews ends by itself.
#[test]
#[ignore = "needs the store that IDLE_ATLAS_CONDITIONAL_STORE names"]
fn one_run_at_a_time() {
    let depot = TestStore::Conditional.depot();
    let (one, other) = (TestSite::new(""), TestSite::new(""));
    let slow = "[[before_build]]\nrun = [\"sleep\", \"2\"]\n";
    for (site, more) in [(&one, slow), (&other, "")] {
        site.write("idle-atlas.toml", travelling(&depot, more));
        site.write("t.csv", table(60, 0));
    }
    let mut first = one.command(&["build"]).stdout(Stdio::null()).spawn().unwrap();
    thread::sleep(Duration::from_millis(900));
    let begun = Instant::now();
    other.run(&["build"]).says(0, &["another idle-atlas works with this ledger", "no entry changed"]);
    assert!(begun.elapsed() > Duration::from_millis(500));
    assert!(first.wait().unwrap().success());
    // A lease of the future that someone forgot.
    let until = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs() + 3;
    let lease = format!("{{\"holder\": \"gone\", \"host\": \"depot\", \"until\": {until}}}");
    let key = format!("{}home/ledger.gz.lease", depot.folder);
    depot.bucket.put(&key, lease.into_bytes().into(), &Default::default(), &Stop::default()).unwrap();
    other.run(&["build"]).says(0, &["on depot", "no entry changed"]);
}

#[test]
#[ignore = "needs the store that IDLE_ATLAS_STORE names"]
fn a_store_that_heeds_no_conditions_is_told_so() {
    let depot = TestStore::Cluster.depot();
    let site = TestSite::new("");
    site.write("idle-atlas.toml", travelling(&depot, ""));
    site.write("t.csv", table(60, 0));
    site.run(&["build"]).says(
        2,
        &["takes the condition that there is no object yet, and does not heed it", "[ledger] lease = \"postgres://…\""],
    );
    assert_eq!(objects(&depot), [""; 0], "nothing is left of the probe");
}

#[test]
#[cfg(feature = "sql-servers")]
#[ignore = "needs the servers that IDLE_ATLAS_STORE and IDLE_ATLAS_POSTGRES name"]
fn an_advisory_lock_serves_instead() {
    let depot = TestStore::Cluster.depot();
    let (one, other) = (TestSite::new(""), TestSite::new(""));
    for (site, more) in [(&one, "[[before_build]]\nrun = [\"sleep\", \"2\"]\n"), (&other, "")] {
        let config = travelling(&depot, more).replace("[ledger]\n", "[ledger]\nlease = \"${IDLE_ATLAS_POSTGRES}\"\n");
        site.write("idle-atlas.toml", config);
        site.write("t.csv", table(60, 0));
    }
    let mut first = one.command(&["build"]).stdout(Stdio::null()).spawn().unwrap();
    thread::sleep(Duration::from_millis(900));
    other.run(&["build"]).says(0, &["another idle-atlas works with this ledger", "no entry changed"]);
    assert!(first.wait().unwrap().success());
    assert_eq!(objects(&depot), ["ledger.gz"]);
}

#[rstest]
#[case::in_the_web_root("home/ledger.gz", "public/home/ledger.gz", "where everyone could read it")]
#[case::a_folder("home/ledger.gz", "home/", "expected the address of an object")]
fn a_home_that_cannot_be(#[case] from: &str, #[case] to: &str, #[case] wanted: &str) {
    let config = "[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"s3://depot/public/\"\n[ledger]\nkeep_at = \"s3://depot/home/ledger.gz\"\n[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n";
    let site = TestSite::new("");
    site.write("idle-atlas.toml", config.replace(from, to));
    site.run(&["build"]).says(2, &["idle-atlas.toml line 5", wanted]);
}

/// Runs on machines that are killed and thrown away: no change is lost, and nothing is told again whose answer is known.
#[test]
#[ignore = "needs the store that IDLE_ATLAS_CONDITIONAL_STORE names"]
fn killed_runs_tell_nothing_twice() {
    const EACH: usize = 40;
    let kills: usize = std::env::var("KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(60);
    let depot = TestStore::Conditional.depot();
    let server = Server::start(|_| CannedAnswer::Full(200, Vec::new(), Vec::new()));
    let engine = format!(
        "[[engine]]\nname = \"lamp\"\nvia = \"http-call\"\neach = \"batch\"\nmost_urls = 10\nendpoint = \"{}?u={{lines}}\"\nwait_until_live = false\n",
        server.url()
    );
    let mut site = TestSite::new("");
    site.write("idle-atlas.toml", travelling(&depot, &engine));
    site.write("t.csv", table(EACH * (kills + 1), 0));
    site.run(&["build"]).says(0, &[]);
    let mut told: BTreeMap<usize, usize> = BTreeMap::new();
    let urls = |path: &str| -> Vec<usize> {
        let text = path.split_once("?u=").map_or("", |(_, urls)| urls);
        let text = percent_encoding::percent_decode_str(text).decode_utf8_lossy().into_owned();
        text.lines().filter_map(|line| line.rsplit('/').nth(1)?.parse().ok()).collect()
    };
    let (mut excused, mut before, mut whole, mut longest) = (0, 0, Duration::from_millis(900), 0);
    for round in 1..=kills {
        site.at(NOON + round as i64 * 60);
        site.write("t.csv", table(EACH * (kills + 1), round * EACH));
        let begun = Instant::now();
        let mut run =
            site.command(&["build", "--announce"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        thread::sleep(whole.mul_f64(fastrand::f64() * 1.1));
        let was_killed = run.try_wait().unwrap().is_none();
        run.kill().unwrap();
        run.wait().unwrap();
        if !was_killed {
            whole = begun.elapsed().min(Duration::from_secs(3));
        }
        // What is known of answers when the machine is gone.
        throw_away(&site);
        site.run(&["history"]);
        let ledger = atlas_store::ledger::open(&site.path(".idle-atlas")).unwrap();
        let known: u64 = ledger.announcements(usize::MAX).unwrap().iter().map(|one| one.urls).sum();
        drop(ledger);
        let received: Vec<usize> = server.requests().iter().flat_map(|request| urls(&request.path)).collect();
        // One message may be on its way when a run is killed.
        let unknown = received.len() as u64 - known;
        assert!(unknown <= before + 10, "round {round}: {} told, {known} known", received.len());
        excused += u64::from(unknown > before);
        before = unknown;
        throw_away(&site);
        // The lease of the run that was killed ends by itself, which a test need not wait for.
        let key = format!("{}home/ledger.gz.lease", depot.folder);
        if let Some((bytes, _)) = depot.bucket.whole(&key, &Stop::default()).unwrap() {
            let lease: serde_json::Value = serde_json::from_slice(&bytes).unwrap();
            let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
            longest = longest.max(lease["until"].as_u64().unwrap().saturating_sub(now));
            depot.bucket.remove(&key, &Stop::default()).unwrap();
        }
    }
    site.at(NOON + 86_400);
    site.run(&["build", "--announce"]).says(0, &[]);
    for request in server.requests() {
        for url in urls(&request.path) {
            *told.entry(url).or_default() += 1;
        }
    }
    let lost = (0..kills * EACH).filter(|url| !told.contains_key(url)).count();
    let repeats = told.values().filter(|times| **times > 1).count();
    println!(
        "{kills} kills: {lost} changes lost; {repeats} of {} URLs told twice, all in the {excused} messages whose answer nobody knew; no lease was to last longer than {longest} s",
        told.len()
    );
    assert_eq!(lost, 0);
    assert!(repeats as u64 <= 10 * excused, "{repeats} repeats, {excused} unknown answers");
    assert!(longest <= 60);
}
