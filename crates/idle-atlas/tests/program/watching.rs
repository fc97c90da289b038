//! `watch`: the running program, files that change under it, and its log.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::thread;
use std::time::{Duration, Instant};

use atlas_io::test_engine::{Mood, TestEngine, TestEngineSettings};
use rstest::rstest;
use serde_json::Value;

use crate::support::{DAY, HTML, NOON, Ran, TestSite};

/// How long something may take that has to happen.
const SOON: Duration = Duration::from_secs(20);
/// How long to wait for what must not happen.
const A_WHILE: Duration = Duration::from_millis(1_800);
const QUIET: &str = "[watch]\nquiet_seconds = 0\n";

/// A running `watch` and its log.
struct Watching {
    child: Child,
    lines: Receiver<Value>,
}

impl Watching {
    fn begin(site: &TestSite, arguments: &[&str]) -> Self {
        let mut command = site.command(&[arguments, &["watch", "--log", "json"]].concat());
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::inherit()).spawn().unwrap();
        let out = BufReader::new(child.stdout.take().unwrap());
        let (send, lines) = channel();
        thread::spawn(move || {
            for line in out.lines().map_while(Result::ok) {
                let line = serde_json::from_str(&line).unwrap_or_else(|error| panic!("{error}: {line}"));
                if send.send(line).is_err() {
                    return;
                }
            }
        });
        Self { child, lines }
    }

    /// The next line with this event; those before it are passed over.
    #[track_caller]
    fn next(&self, event: &str) -> Value {
        let end = Instant::now() + SOON;
        let mut passed = Vec::new();
        loop {
            match self.lines.recv_timeout(end.saturating_duration_since(Instant::now())) {
                Ok(line) if line["event"] == event => return line,
                Ok(line) => passed.push(line.to_string()),
                Err(_) => panic!("no “{event}” came after:\n{}", passed.join("\n")),
            }
        }
    }

    /// The lines that come within a while.
    fn more(&self) -> Vec<Value> {
        let end = Instant::now() + A_WHILE;
        let left = || end.saturating_duration_since(Instant::now());
        std::iter::from_fn(|| self.lines.recv_timeout(left()).ok()).collect()
    }

    /// Ends it as a service manager does; returns the exit code, and how long that took.
    fn end(mut self) -> (Option<i32>, Duration) {
        let begin = Instant::now();
        let killed = Command::new("kill").args(["-TERM", &self.child.id().to_string()]).status().unwrap();
        assert!(killed.success());
        let status = self.child.wait().unwrap();
        (status.code(), begin.elapsed())
    }
}

impl Drop for Watching {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn engine(mood: Mood) -> TestEngine {
    let settings = TestEngineSettings { mood, ..TestEngineSettings::fair() };
    TestEngine::start(settings).unwrap()
}

/// A site with two pages and an engine that is called for each URL.
fn watched(engine: &TestEngine, more: &str) -> TestSite {
    let site = TestSite::new("");
    ["a", "b"].iter().for_each(|name| site.page(&format!("{name}.html"), name, "Text"));
    site.configure(&format!(
        "{HTML}{QUIET}[[engine]]\nwait_until_live = false\nname = \"test\"\nvia = \"http-call\"\nendpoint = \"{}\"\nbody = \"{{url}}\"\n{more}\n",
        engine.call()
    ));
    site
}

/// The paths that the engine has been told of.
fn told(engine: &TestEngine) -> Vec<String> {
    engine.received().iter().filter(|one| one.status == 200).map(|one| one.urls[2][30..].to_owned()).collect()
}

/// An edit is built and announced once. What the program writes itself does not wake it.
#[test]
fn an_edit_is_told_once() {
    let engine = engine(Mood::Fair);
    let site = watched(&engine, "");
    let watching = Watching::begin(&site, &[]);
    assert_eq!(watching.next("watching")["paths"], 1);
    let built = watching.next("built");
    assert_eq!((&built["run"], &built["added"], &built["written"]), (&1.into(), &2.into(), &3.into()), "{built}");
    assert_eq!(watching.more(), [Value::Null; 0], "its own files do not wake it");
    site.page("a.html", "a", "Other text");
    let begins = watching.next("begins");
    assert_eq!((&begins["why"], &begins["paths"][0]), (&"changed".into(), &"public/a.html".into()), "{begins}");
    assert_eq!(watching.next("built")["changed"], 1);
    assert_eq!(watching.next("told")["taken"], 1);
    assert_eq!(told(&engine), ["/a.html"]);
    assert_eq!(watching.more(), [Value::Null; 0]);
    let (code, took) = watching.end();
    assert_eq!(code, Some(0));
    assert!(took < Duration::from_secs(3), "it ended after {took:?}");
    site.run(&["history"]).says(0, &["by watch", "knows about every change"]);
}

/// A clock that is set: an article is told in the round in which it falls due, and not before; one that expires is told
/// as removed.
#[test]
fn an_article_is_told_when_it_falls_due() {
    let engine = engine(Mood::Fair);
    let site = watched(&engine, "");
    let at = |seconds: i64| jiff::Timestamp::from_second(NOON + seconds).unwrap().to_string();
    let head = |name: &str, content: &str| format!("<title>T</title><meta {name} content=\"{content}\"><main>Text");
    site.write("public/due.html", head("property=\"article:published_time\"", &at(3)));
    site.write("public/over.html", head("name=robots", &format!("unavailable_after: {}", at(6))));
    let watching = Watching::begin(&site, &[]);
    assert_eq!(watching.next("built")["added"], 3);
    let next = watching.next("next");
    assert_eq!((&next["why"], &next["then"]), (&"due".into(), &at(3).into()), "{next}");
    assert_eq!(told(&engine), [""; 0]);
    assert_eq!(watching.next("begins")["why"], "due");
    assert_eq!(watching.next("built")["added"], 1);
    watching.next("told");
    assert_eq!(told(&engine), ["/due.html"]);
    assert_eq!(watching.next("begins")["why"], "due");
    assert_eq!(watching.next("built")["left_out"], 1);
    watching.next("told");
    assert_eq!(told(&engine), ["/due.html", "/over.html"]);
}

/// An engine that asks for a pause is told when it is over, without a build.
#[test]
fn an_engine_is_told_when_its_pause_is_over() {
    let engine = engine(Mood::Fair);
    let site = watched(&engine, "");
    let watching = Watching::begin(&site, &[]);
    watching.next("built");
    engine.set_mood(Mood::TooMany(6));
    site.page("a.html", "a", "Other text");
    assert_eq!(watching.next("told")["kept"], 1);
    assert_eq!(watching.next("next")["why"], "announce");
    engine.set_mood(Mood::Fair);
    assert_eq!(watching.next("begins")["why"], "announce");
    let line = watching.next("told");
    assert_eq!((&line["taken"], told(&engine)), (&1.into(), vec!["/a.html".to_owned()]), "{line}");
}

#[test]
fn a_broken_configuration_keeps_the_old_one() {
    let engine = engine(Mood::Fair);
    let site = watched(&engine, "");
    let whole = site.read("idle-atlas.toml");
    let watching = Watching::begin(&site, &[]);
    watching.next("built");
    site.write("idle-atlas.toml", format!("{whole}\n[sight]\n"));
    let line = watching.next("configuration");
    let words = line["words"].as_str().unwrap();
    assert!(words.contains("“sight”") || words.contains("`sight`"), "{words}");
    assert!(words.ends_with("The configuration from before stays in use"), "{words}");
    site.page("a.html", "a", "Other text");
    assert_eq!(watching.next("told")["taken"], 1);
    site.write("idle-atlas.toml", format!("{whole}\n[[rule]]\nmatching = [\"/b.html\"]\nkeep = false\n"));
    watching.next("configuration");
    assert_eq!(watching.next("built")["left_out"], 1);
}

/// A generator runs when what it reads has changed. What it writes does not wake it again.
#[test]
fn a_generator_does_not_wake_itself() {
    let engine = engine(Mood::Fair);
    let generate =
        "echo \"<title>c</title><main>$(cat words.txt) $(date +%N)\" > public/c.html; touch -d yesterday public/b.html";
    let site = watched(&engine, &format!("[[before_build]]\nrun = [\"sh\", \"-c\", {generate:?}]\n"));
    site.write("words.txt", "One");
    site.reconfigure("quiet_seconds = 0", "quiet_seconds = 1\nalso = [\"words.txt\"]");
    let watching = Watching::begin(&site, &[]);
    assert_eq!(watching.next("built")["added"], 3);
    // What a generator holds back until it is due, nobody knows of.
    assert_eq!(watching.more(), [Value::Null; 0]);
    site.write("words.txt", "Two");
    assert_eq!(watching.next("begins")["paths"][0], "words.txt");
    assert_eq!(watching.next("built")["changed"], 1);
    watching.next("told");
    assert_eq!(watching.more(), [Value::Null; 0]);
}

/// A source that fails is tried again; what changes meanwhile is built at once.
#[test]
fn a_failure_ends_nothing() {
    let engine = engine(Mood::Fair);
    let site = watched(&engine, "[[before_build]]\nrun = [\"test\", \"-e\", \"ready\"]\n");
    site.reconfigure("[watch]\n", "[watch]\nalso = [\"idle-atlas.toml\", \"public\"]\n");
    let watching = Watching::begin(&site, &[]);
    let failed = watching.next("failed");
    assert!(failed["words"].as_str().unwrap().contains("before_build"), "{failed}");
    assert_eq!(watching.next("next")["why"], "retry");
    site.write("ready", "");
    site.page("a.html", "a", "Other text");
    assert_eq!(watching.next("built")["run"], 1);
}

/// Each site has its own thread: one whose configuration is broken does not hold up the other, and is built once it is
/// whole.
#[test]
fn one_site_does_not_hold_up_another() {
    let engine = engine(Mood::Fair);
    let (one, other) = (watched(&engine, ""), watched(&engine, ""));
    let path = |site: &TestSite| site.path("idle-atlas.toml").to_str().unwrap().to_owned();
    let whole = other.read("idle-atlas.toml");
    other.write("idle-atlas.toml", "[site]\nurl = \"nowhere\"\n");
    let watching = Watching::begin(&one, &["--config", &path(&one), "--config", &path(&other)]);
    let mut events: Vec<(Value, Value)> = (0..4)
        .map(|_| watching.lines.recv_timeout(SOON).unwrap())
        .map(|line| (line["site"].clone(), line["event"].clone()))
        .collect();
    events.sort_by_key(|pair| format!("{pair:?}"));
    let expected: Vec<(Value, Value)> = [(&one, "begins"), (&one, "built"), (&other, "failed"), (&one, "watching")]
        .map(|(site, event)| (path(site).into(), event.into()))
        .into();
    assert!(expected.iter().all(|wanted| events.contains(wanted)), "{events:?}");
    other.write("idle-atlas.toml", whole);
    let built = watching.next("built");
    assert_eq!((&built["site"], &built["added"]), (&path(&other).into(), &2.into()), "{built}");
}

/// A build by hand and a watch do each other no harm: what the one wrote, the other tells.
#[test]
fn a_build_by_hand_is_told_by_the_watch() {
    let engine = engine(Mood::Fair);
    let site = watched(&engine, "");
    site.reconfigure("quiet_seconds = 0", "quiet_seconds = 1");
    let watching = Watching::begin(&site, &[]);
    watching.next("built");
    site.page("a.html", "a", "Other text");
    assert_eq!(site.build()["changes"]["changed"]["count"], 1);
    assert_eq!(watching.next("told")["taken"], 1);
    assert_eq!(told(&engine), ["/a.html"]);
}

#[rstest]
#[case::done("", 0, "\"built\"")]
#[case::in_part("[[when_built]]\nrun = [\"false\"]\n", 1, "when_built")]
#[case::failed("[[before_build]]\nrun = [\"false\"]\n", 2, "before_build")]
fn one_round_for_a_timer(#[case] more: &str, #[case] code: i32, #[case] word: &str) {
    let engine = engine(Mood::Fair);
    let mut site = watched(&engine, more);
    site.run(&["watch", "--once", "--log", "json"]).says(code, &["\"begins\"", word]);
    let quiet = site.run(&["watch", "--once", "--quiet"]);
    assert_eq!((quiet.code, quiet.out.is_empty()), (code, code == 0), "{quiet:?}");
    site.at(NOON + DAY);
    if code == 0 {
        site.run(&["watch", "--once"]).says(0, &["2026-11-24 12:00:00  built      run 3: 2 entries; nothing changed"]);
        site.run(&["history"]).says(0, &["by a timer"]);
    }
}

#[test]
fn a_configuration_that_cannot_be_read_is_an_error() {
    let site = TestSite::new("");
    site.run(&["watch"]).says(2, &["there is no source"]);
    site.configure(&format!("{HTML}[watch]\nevery = \"soon\"\n"));
    site.run(&["watch"]).says(2, &["line ", "“every”", "such as \"15m\""]);
    site.configure(&format!("{HTML}[watch]\nalso = [\"nowhere\"]\n"));
    site.run(&["watch"]).says(2, &["“also”: there is no nowhere"]);
}

#[test]
fn units_name_the_program_the_site_and_the_interval() {
    let site = TestSite::new(&format!("{HTML}[watch]\nevery = \"20m\"\n"));
    let config = site.path("idle-atlas.toml").canonicalize().unwrap();
    let command = format!("{} --config {} watch --log json", env!("CARGO_BIN_EXE_idle-atlas"), config.display());
    let service = site.run(&["watch", "--unit", "systemd"]);
    service.says(
        0,
        &[&format!("ExecStart={command}"), "SuccessExitStatus=1", "sitemaps of https://www.marrowvale.example/"],
    );
    site.run(&["watch", "--unit", "timer"]).says(0, &["watch --once --log json", "OnUnitActiveSec=20min"]);
    site.run(&["watch", "--unit", "cron"]).says(0, &["*/20 * * * *  cd ", "watch --once --quiet"]);
    let units = site.path("units");
    std::fs::create_dir(&units).unwrap();
    site.run(&["watch", "--unit", "timer", "--into", "units"]).says(0, &["idle-atlas-www-marrowvale-example.timer"]);
    assert_eq!(std::fs::read_dir(units).unwrap().count(), 2);
}

#[rstest]
#[ignore = "needs systemd-analyze"]
fn systemd_accepts_the_units(#[values("systemd", "timer")] kind: &str) {
    let site = TestSite::new(HTML);
    std::fs::create_dir(site.path("units")).unwrap();
    site.run(&["watch", "--unit", kind, "--into", "units"]).says(0, &["Wrote units"]);
    let units = std::fs::read_dir(site.path("units")).unwrap().flatten().map(|unit| unit.path());
    let verified = Command::new("systemd-analyze").args(["verify", "--man=no"]).args(units).output().unwrap();
    let ran = Ran::of(verified);
    assert_eq!((ran.code, ran.errors.trim()), (0, ""), "{ran:?}");
}

/// An engine that cannot be told anything is said in every round, and builds go on.
#[test]
fn an_engine_without_a_key_is_reported() {
    let engine = engine(Mood::Fair);
    let site = TestSite::new("");
    site.page("a.html", "a", "Text");
    let endpoint = engine.endpoint();
    site.configure(&format!(
        "{HTML}{QUIET}[[engine]]\nname = \"test\"\nvia = \"indexnow\"\nendpoint = \"{endpoint}\"\n"
    ));
    let watching = Watching::begin(&site, &[]);
    watching.next("built");
    let problem = watching.next("problem");
    assert!(problem["words"].as_str().unwrap().contains("engine test has no key yet"), "{problem}");
    site.page("a.html", "a", "Other text");
    assert_eq!(watching.next("built")["changed"], 1);
}

/// A web root that is removed and made again, as some generators do, is still watched.
#[test]
fn a_folder_that_is_made_again_is_watched() {
    let engine = engine(Mood::Fair);
    let site = watched(&engine, "");
    let watching = Watching::begin(&site, &[]);
    watching.next("built");
    std::fs::rename(site.path("public"), site.path("old")).unwrap();
    std::fs::create_dir(site.path("public")).unwrap();
    for name in ["a", "b", "c"] {
        site.page(&format!("{name}.html"), name, "Text");
    }
    let built = loop {
        let built = watching.next("built");
        if built["added"] != 0 {
            break built;
        }
    };
    assert_eq!(built["entries"], 3, "{built}");
    while !watching.more().is_empty() {}
    site.page("c.html", "c", "Other text");
    assert_eq!(watching.next("built")["changed"], 1);
}
