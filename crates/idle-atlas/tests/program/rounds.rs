//! A build and its announcements in one command, and the user's own programs around them.

use atlas_io::test_engine::{Mood, TestEngine, TestEngineSettings, serve};
use rstest::rstest;

use crate::support::{DAY, HTML, NOON, TestSite};

/// A site with two pages, an engine that is called for each URL, and these further tables.
struct Night {
    site: TestSite,
    engine: TestEngine,
}

impl Night {
    fn new(more: &str) -> Self {
        let settings = TestEngineSettings::fair();
        let engine = TestEngine::start(settings).unwrap();
        let site = TestSite::new(HTML);
        ["a", "b"].iter().for_each(|name| site.page(&format!("{name}.html"), name, "Text"));
        site.configure(&format!(
            "{HTML}\n[[engine]]\nwait_until_live = false\nname = \"test\"\nvia = \"http-call\"\nendpoint = \"{}\"\nbody = \"{{url}}\"\n{more}\n",
            engine.call()
        ));
        Self { site, engine }
    }

    fn edit(&self, text: &str) {
        self.site.page("a.html", "a", text);
    }

    /// Adds tables to the configuration.
    fn add(&self, tables: &str) {
        self.site.reconfigure("[[engine]]", &format!("{tables}[[engine]]"));
    }

    fn told(&self) -> usize {
        self.engine.received().len()
    }
}

fn sh(kind: &str, script: &str) -> String {
    format!("[[{kind}]]\nrun = [\"sh\", \"-c\", {script:?}]\n")
}

#[test]
fn one_command_builds_and_announces() {
    let night = Night::new("");
    night.site.run(&["build", "--announce"]).says(0, &["Run 1: 2 entries", "test: "]);
    night.edit("Other text");
    let ran = night.site.run(&["build", "--announce"]);
    ran.says(0, &["1 changed", "1 URL to announce (1 changed); 1 accepted"]);
    assert!(!ran.out.contains("Next:"), "{}", ran.out);
    night.edit("And other text");
    let both = night.site.json(&["build", "--announce"]);
    assert_eq!((&both["build"]["run"], &both["announce"][0]["taken"]), (&3.into(), &1.into()), "{both}");
    assert_eq!(night.told(), 2);
}

/// After a build that was held back or failed, what earlier builds published is told all the same. The exit code is the
/// graver of the two.
#[test]
fn a_held_or_failed_build_does_not_hold_up_the_engines() {
    let night = Night::new("");
    (0..10).for_each(|nth| night.site.page(&format!("c{nth}.html"), "c", "Text"));
    night.site.build();
    night.edit("Other text");
    night.site.build();
    (0..10).for_each(|nth| std::fs::remove_file(night.site.path(&format!("public/c{nth}.html"))).unwrap());
    night.site.run(&["build", "--announce"]).says(3, &["held back", "1 URL to announce (1 changed); 1 accepted"]);
    night.site.run(&["build", "--allow", "shrink"]).says(0, &["10 removed"]);
    night.add(&sh("before_build", "echo no lamp >&2; exit 4"));
    night.site.run(&["build", "--announce"]).says(2, &["before_build", "no lamp", "10 accepted"]);
    let both = night.site.run(&["build", "--announce", "--json"]).out;
    let both: serde_json::Value = serde_json::from_str(&both).unwrap();
    assert!(both["build"]["error"].as_str().unwrap().contains("no lamp"), "{both}");
    assert_eq!(both["announce"][0]["taken"], 0);
}

#[test]
fn a_generator_runs_before_the_build() {
    let night = Night::new(&sh("before_build", "echo '<title>Made</title>Made.' > public/made.html"));
    night.site.run(&["build"]).says(0, &["3 entries"]);
    night.site.run(&["survey"]).says(0, &["3 entries"]);
}

/// The changed files come on standard input and in a file, below the web root.
#[test]
fn changed_files_are_delivered_before_anything_is_announced() {
    let night = Night::new(&sh(
        "when_built",
        "cat > delivered; cmp delivered \"$IDLE_ATLAS_CHANGED\" && cp \"$IDLE_ATLAS_CHANGED\" twice",
    ));
    night.site.run(&["build"]).says(0, &["when_built  sh -c cat > delivered", "done, for 3 changed files"]);
    assert_eq!(night.site.read("delivered"), "atlas.css\nsitemap.xml\nsitemap.xml.gz\n");
    assert_eq!(night.site.read("twice"), night.site.read("delivered"));
    std::fs::remove_file(night.site.path("delivered")).unwrap();
    let still = night.site.run(&["build", "--announce"]);
    assert!(
        !still.out.contains("when_built") && !night.site.path("delivered").exists(),
        "nothing changed: {}",
        still.out
    );
    night.edit("Other text");
    night.site.run(&["build", "--announce"]).says(0, &["done, for 2 changed files\n", "1 accepted"]);
    assert_eq!(night.site.read("delivered"), "sitemap.xml\nsitemap.xml.gz\n");
}

/// What could not be delivered is not announced, and is delivered by the next command, changes or not.
#[rstest]
#[case::announced(&["announce"])]
#[case::built(&["build", "--announce"])]
fn a_delivery_that_fails_holds_announcements_back(#[case] again: &[&str]) {
    let night = Night::new(&sh(
        "when_built",
        "test -e way-is-clear || { echo snow on the line >&2; exit 1; }; cat >> delivered",
    ));
    night.site.write("way-is-clear", "");
    night.site.build();
    std::fs::remove_file(night.site.path("way-is-clear")).unwrap();
    night.edit("Other text");
    night
        .site
        .run(&["build", "--announce"])
        .says(1, &["when_built", "snow on the line", "Nothing is announced until it succeeds"]);
    night.site.run(again).says(1, &["snow on the line"]);
    assert_eq!(night.told(), 0);
    night.site.write("way-is-clear", "");
    night.site.run(again).says(0, &["done, for 2 changed files", "1 accepted"]);
    assert!(night.site.read("delivered").ends_with("sitemap.xml\nsitemap.xml.gz\n"));
    night.site.run(again).says(0, &["nothing to announce"]);
}

#[test]
fn a_build_that_is_held_or_fails_is_reported() {
    let night = Night::new(&sh("when_failed", "cat > report.json"));
    (0..10).for_each(|nth| night.site.page(&format!("c{nth}.html"), "c", "Text"));
    night.site.build();
    (0..10).for_each(|nth| std::fs::remove_file(night.site.path(&format!("public/c{nth}.html"))).unwrap());
    night.site.run(&["build"]).says(3, &["held back"]);
    let report: serde_json::Value = serde_json::from_str(&night.site.read("report.json")).unwrap();
    assert_eq!(report["held"][0]["guard"], "shrink", "{report}");
    night.add(&sh("before_build", "exit 4"));
    night.site.run(&["build"]).says(2, &["before_build"]);
    let report: serde_json::Value = serde_json::from_str(&night.site.read("report.json")).unwrap();
    assert!(report["error"].as_str().unwrap().contains("exit status: 4"), "{report}");
    assert_eq!((&report["exit"], &report["site"]), (&2.into(), &"https://www.marrowvale.example/".into()));
}

#[rstest]
#[case::missing("[[when_built]]\nrun = [\"no-such-program\"]", 1, "cannot run “no-such-program”")]
#[case::hangs(
    "[[when_built]]\nrun = [\"sleep\", \"60\"]\nwait_seconds = 1",
    1,
    "it took longer than 1 second (wait_seconds)"
)]
#[case::empty("[[before_build]]\nrun = []", 2, "“run” is empty")]
#[case::unknown_key("[[before_build]]\nrun = [\"true\"]\nshell = true", 2, "unknown key “shell”")]
fn programs_that_do_not_run(#[case] table: &str, #[case] exit: i32, #[case] wanted: &str) {
    let night = Night::new(table);
    night.site.run(&["build"]).says(exit, &[wanted]);
}

/// What is announced by hand is not announced again by itself, and what waits goes on waiting.
#[test]
fn urls_are_announced_by_hand() {
    let night = Night::new("");
    night.site.build();
    night.edit("Other text");
    night.site.page("b.html", "b", "Other text");
    night.site.page("c.html", "c", "Text");
    night.site.build();
    night
        .site
        .run(&["announce", "/b.html", "--dry-run"])
        .says(0, &["would be told of 1 URL", "~ https://www.marrowvale.example/b.html"]);
    night.engine.set_mood(Mood::Status(503));
    let down = ["1 not sent", "What was chosen by hand is not kept"];
    night.site.run(&["announce", "/b.html"]).says(1, &down);
    night.engine.set_mood(Mood::Fair);
    let before = night.told();
    night.site.run(&["announce", "/b.html"]).says(0, &["1 URL to announce (1 changed); 1 accepted"]);
    night.site.run(&["announce", "--dry-run"]).says(0, &["would be told of 2 URLs"]);
    night.site.run(&["announce"]).says(0, &["2 URLs to announce (1 added, 1 changed); 2 accepted"]);
    assert_eq!(night.told() - before, 3);
    night.site.run(&["announce", "b.html"]).says(0, &["1 accepted"]);
    night.site.run(&["announce", "/nowhere/"]).says(2, &["/nowhere/: no build has listed it", "idle-atlas why"]);
    std::fs::remove_file(night.site.path("public/b.html")).unwrap();
    night.site.build();
    night.site.run(&["announce", "/b.html"]).says(0, &["(1 removed); 1 accepted"]);
    night.site.run(&["announce"]).says(0, &["nothing to announce"]);
}

#[test]
fn a_section_a_run_or_an_engine_alone() {
    let mut night = Night::new("[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n");
    night.site.page("halts/x.html", "x", "Text");
    night.site.build();
    night.site.at(NOON + DAY);
    night.edit("Other text");
    night.site.page("halts/x.html", "x", "Other text");
    night.site.build();
    night.site.run(&["announce", "--section", "halts"]).says(0, &["1 URL to announce", "/halts/x.html"]);
    night.site.run(&["announce", "--section", "sheds"]).says(2, &["in a section “sheds”"]);
    night.site.run(&["announce"]).says(0, &["1 URL to announce", "/a.html"]);
    night.site.run(&["announce", "--all", "--section", "halts", "--dry-run"]).says(0, &["1 URL"]);
    for since in ["2", "2026-11-24"] {
        night.site.run(&["announce", "--since", since, "--dry-run"]).says(0, &["2 URLs"]);
    }
    night.site.run(&["announce", "--since", "2026-11-23", "--dry-run"]).says(0, &["3 URLs"]);
    night.site.run(&["announce", "--since", "2026-12-01", "--dry-run"]).says(0, &["nothing to announce"]);
    night.site.run(&["announce", "--since", "7"]).says(2, &["there is no run 7; the last is 2"]);
    night.site.run(&["announce", "--since", "lately"]).says(2, &["neither a run nor a date"]);
    night.site.run(&["announce", "--engine", "test"]).says(0, &["test: nothing to announce"]);
    night
        .site
        .run(&["announce", "--engine", "tset"])
        .says(2, &["there is no engine “tset”; the configuration names test"]);
}

#[test]
fn more_than_ten_thousand_urls_are_not_announced_by_mistake() {
    let night = Night::new("");
    let rows: String = (0..10_001).map(|row| format!("/plates/{row}-x/\n")).collect();
    night.site.write("t.csv", format!("url\n{rows}"));
    night.add("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\npages = \"may-be-elsewhere\"\n");
    night.site.build();
    night.site.run(&["announce", "--all"]).says(2, &["test would be told of 10,003 URLs; add --yes"]);
    assert_eq!(night.told(), 0);
    night.site.run(&["announce", "--yes"]).says(2, &["--all"]);
}

/// The first lines of the history say whether it still runs: the last build, a later attempt, and each engine.
#[test]
fn the_history_says_whether_it_still_runs() {
    let mut night = Night::new("");
    (0..10).for_each(|nth| night.site.page(&format!("c{nth}.html"), "c", "Text"));
    for day in 0..4 {
        night.site.at(NOON + day * DAY);
        night.edit(&format!("Text of day {day}"));
        night.site.run(&["build", "--announce"]).says(0, &["12 entries"]);
    }
    let day = night.site.run(&["history"]);
    day.says(
        0,
        &["last build", "2026-11-26 12:00 GMT", "usually every day", "knows about every change", "by a program"],
    );
    assert!(!day.out.contains("overdue") && !day.out.contains("last attempt"), "{}", day.out);
    night.site.at(NOON + 6 * DAY);
    (0..10).for_each(|nth| std::fs::remove_file(night.site.path(&format!("public/c{nth}.html"))).unwrap());
    night.site.run(&["build"]).says(3, &["held back"]);
    let late = night.site.run(&["history"]);
    late.says(
        0,
        &[
            "overdue: usually every day",
            "last attempt",
            "held back: section pages would lose 10 of its 12",
            "Builds that did not go through",
        ],
    );
    let past = night.site.json(&["history"]);
    assert_eq!(
        (&past["health"]["is_overdue"], &past["attempts"][0]["ended"]),
        (&true.into(), &"held".into()),
        "{past}"
    );
    assert_eq!((&past["runs"][0]["files"], &past["runs"][0]["entries"]), (&1.into(), &12.into()));
    night.add(&sh("before_build", "exit 4"));
    night.site.run(&["build"]).says(2, &["before_build"]);
    night.site.run(&["history"]).says(0, &["failed: before_build", "exit status: 4"]);
    let some = night.site.json(&["history", "--since", "2026-11-25", "--engine", "test"]);
    let lengths = ["runs", "announcements", "attempts"].map(|list| some[list].as_array().unwrap().len());
    assert_eq!(lengths, [2, 2, 2], "{some}");
    assert_eq!(night.site.json(&["history", "--engine", "other"])["announcements"], serde_json::json!([]));
}

/// The files that consoles ask for are placed, never listed as pages, and delivered; a missing element is named, ready to
/// be pasted.
#[test]
fn consoles_find_what_they_ask_for() {
    let tables = "[[ownership]]\nmeta = { name = \"lamp-console\", content = \"3f9c\" }\n\
                  file = { name = \"lamp-3f9c.html\", content = \"lamp-console: 3f9c\" }\n\
                  [[ownership]]\nmeta = '<meta name=\"oil-console\" content=\"a&amp;b\" />'\n";
    let night = Night::new(&(tables.to_owned() + &sh("when_built", "cat > delivered")));
    night.site.write("public/index.html", "<title>Home</title><meta name=oil-console content='a&amp;b'>Home.");
    night.site.run(&["build"]).says(0, &["3 entries", "ownership  wrote lamp-3f9c.html into the web root"]);
    assert_eq!(night.site.read("public/lamp-3f9c.html"), "lamp-console: 3f9c\n");
    assert!(
        night.site.read("delivered").lines().any(|line| line == "lamp-3f9c.html"),
        "{}",
        night.site.read("delivered")
    );
    let again = night.site.run(&["build"]);
    again.says(
        0,
        &["3 entries, no entry changed", "nothing to write"].map(|words| words.trim_start_matches("3 entries, ")),
    );
    assert!(!night.site.paths().iter().any(|path| path.contains("lamp")), "{:?}", night.site.paths());
    let lacks = "the head of the home page lacks <meta name=\"lamp-console\" content=\"3f9c\">";
    night.site.run(&["check"]).says(0, &[lacks, "consoles forget whose site it is"]);
    std::fs::remove_file(night.site.path("public/lamp-3f9c.html")).unwrap();
    night.site.run(&["check"]).says(0, &["the file lamp-3f9c.html is missing"]);
    night.site.write("public/lamp-3f9c.html", "something else");
    night.site.run(&["build"]).says(1, &["is there already with another content, and was left as it is"]);
    assert_eq!(night.site.read("public/lamp-3f9c.html"), "something else");
    night.site.write("public/lamp-3f9c.html", b"\xff\xfe");
    night.site.run(&["build"]).says(1, &["was left as it is"]);
}

#[rstest]
#[case::nothing("[[ownership]]", "has neither “meta” nor “file”")]
#[case::no_meta("[[ownership]]\nmeta = \"3f9c\"", "expected an element with a name and a content")]
#[case::our_file(
    "[[ownership]]\nfile = { name = \"robots.txt\", content = \"x\" }",
    "“robots.txt” cannot be the name of such a file"
)]
#[case::below("[[ownership]]\nfile = { name = \"a/b.txt\", content = \"x\" }", "expected a plain name")]
#[case::slip("[[ownership]]\nfiles = { name = \"b.txt\", content = \"x\" }", "unknown key “files”")]
fn ownership_that_is_misconfigured(#[case] table: &str, #[case] wanted: &str) {
    Night::new(table).site.run(&["build"]).says(2, &["idle-atlas.toml line ", wanted]);
}

/// A site whose live server has a folder of its own, to which files are deployed.
fn with_a_live_site(more: &str) -> (Night, serve::Served) {
    let night = Night::new("");
    std::fs::create_dir(night.site.path("live")).unwrap();
    let served = serve::folder(&night.site.path("live")).unwrap();
    let reached = format!("[site]\nreached_at = \"http://{}\"", served.address());
    night.site.reconfigure("[site]", &reached);
    night.site.reconfigure("wait_until_live = false\n", "");
    night.add(more);
    (night, served)
}

/// What is not deployed yet waits, with the reason; that is no failure until a day has gone by.
#[test]
fn what_is_not_deployed_yet_waits() {
    let (mut night, _served) = with_a_live_site("");
    night.site.build();
    night.edit("Other text");
    night.site.page("c.html", "c", "Text");
    let waits = ["nothing is announced yet", "2 URLs wait until the live site", "sitemap.xml is not there yet"];
    night.site.run(&["build", "--announce"]).says(0, &waits);
    night.site.at(NOON + DAY + 60);
    night.site.run(&["announce"]).says(1, &["For more than a day, since 2026-11-23"]);
    assert_eq!(night.told(), 0);
    night.site.at(NOON + 60);
    for name in ["sitemap.xml", "a.html"] {
        std::fs::copy(night.site.path(&format!("public/{name}")), night.site.path(&format!("live/{name}"))).unwrap();
    }
    let some = ["1 changed); 1 accepted", "1 URL waits until the live site", "c.html is not there yet"];
    night.site.run(&["announce"]).says(0, &some);
    night.site.write("live/c.html", "<title>c</title><main><p>Quite another text</main>");
    night.site.run(&["announce"]).says(0, &["c.html still has another text than the page built here"]);
    std::fs::copy(night.site.path("public/c.html"), night.site.path("live/c.html")).unwrap();
    let told = night.site.json(&["announce"]);
    assert_eq!((&told[0]["taken"], &told[0]["not_live"]), (&1.into(), &serde_json::Value::Null), "{told}");
}

#[test]
fn a_deployment_between_build_and_announcement_is_seen() {
    let deploy = sh("when_built", "cp -r public/. live/");
    let (night, _served) = with_a_live_site(&deploy);
    night.site.run(&["build", "--announce"]).says(0, &["2 URLs are the baseline"]);
    night.edit("Other text");
    night.site.run(&["build", "--announce"]).says(0, &["1 URL to announce (1 changed); 1 accepted"]);
}

/// Pages that are listed and not announced, by each of the ways to say so.
#[rstest]
#[case::rule("[[rule]]\nmatching = [\"/quiet.html\"]\nannounce = false\n", "")]
#[case::section("[[section]]\nname = \"calm\"\nmatching = [\"/quiet.html\"]\nannounce = false\n", "")]
#[case::itself("", "<meta name=idle-atlas content='announce=no'>")]
fn what_is_not_to_be_announced_is_listed_and_untold(#[case] tables: &str, #[case] head: &str) {
    let night = Night::new("");
    night.add(tables);
    let quiet =
        |text: &str| night.site.write("public/quiet.html", format!("<title>Q</title>{head}<main>{text}</main>"));
    quiet("One");
    night.site.build();
    night.edit("Other text");
    quiet("Two");
    assert_eq!(night.site.build()["changes"]["changed"]["count"], 2);
    night.site.run(&["announce"]).says(0, &["1 URL to announce (1 changed); 1 accepted"]);
    assert!(night.site.paths().contains("/quiet.html"));
    night.site.run(&["why", "/quiet.html"]).says(0, &["listed", "announce    no: it is listed"]);
    night.site.run(&["why", "/quiet.html", "--fresh"]).says(0, &["announce", "no, by "]);
    night.site.run(&["announce", "/quiet.html"]).says(0, &["1 accepted"]);
    std::fs::remove_file(night.site.path("public/quiet.html")).unwrap();
    night.site.run(&["build", "--allow", "shrink"]).says(0, &["1 removed"]);
    night.site.run(&["announce"]).says(0, &["nothing to announce"]);
    assert_eq!(night.told(), 2);
}

#[test]
fn a_row_may_ask_not_to_be_announced() {
    let night = Night::new("");
    night.site.reconfigure(
        "[[engine]]",
        "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\npages = \"may-be-elsewhere\"\n[[engine]]",
    );
    night.site.write("t.csv", "url,announce,modified\n/x/,no,2026-01-01\n/y/,,2026-01-01\n");
    night.site.build();
    night.site.write("t.csv", "url,announce,modified\n/x/,no,2026-02-02\n/y/,,2026-02-02\n");
    night.site.build();
    night.site.run(&["announce"]).says(0, &["1 URL to announce (1 changed); 1 accepted", "/y/"]);
    // From now on it is announced, which is no change of the page.
    night.site.write("t.csv", "url,announce,modified\n/x/,yes,2026-02-02\n/y/,,2026-02-02\n");
    night.site.build();
    night.site.run(&["announce"]).says(0, &["nothing to announce"]);
    night.site.write("t.csv", "url,announce,modified\n/x/,yes,2026-03-03\n/y/,,2026-02-02\n");
    night.site.build();
    night.site.run(&["announce"]).says(0, &["1 accepted", "/x/"]);
}

/// A rehearsal tells a test engine, lets it read the site, and records nothing.
#[test]
fn a_rehearsal_shows_what_an_engine_would_see() {
    let night = Night::new("");
    night.add("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\npages = \"may-be-elsewhere\"\n");
    night.site.write("t.csv", "url\n/x/\n");
    night.site.build();
    night.edit("Other text");
    night.site.build();
    let said =
        ["1 URL to announce (1 changed); 1 accepted", "picked up      2 of 3 pages", "it answers 404", "reached_at"];
    night.site.run(&["announce", "--rehearse"]).says(0, &said);
    let all = night.site.json(&["announce", "--rehearse", "--all"]);
    assert_eq!((&all["told"][0]["taken"], &all["seen"]["found"]), (&3.into(), &3.into()), "{all}");
    assert_eq!(all["seen"]["sitemaps"][0]["urls"], 3);
    assert_eq!(night.told(), 0);
    night.site.run(&["announce"]).says(0, &["1 URL to announce (1 changed); 1 accepted"]);
}

/// What consoles ask for is looked at on the live site, too.
#[test]
fn ownership_is_looked_at_on_the_live_site() {
    let ownership = "[[ownership]]\nmeta = { name = \"lamp-console\", content = \"3f9c\" }\nfile = { name = \"lamp.html\", content = \"lamp: 3f9c\" }\n";
    let (night, _served) = with_a_live_site(&format!("{}{ownership}", sh("when_built", "cp -r public/. live/")));
    night.site.page("index.html", "Home", "Text");
    night
        .site
        .run(&["build", "--announce"])
        .says(0, &["on the live site the head of the home page lacks <meta name=\"lamp-console\" content=\"3f9c\">"]);
    night.site.write(
        "public/index.html",
        "<title>Home</title><meta name=lamp-console content=3f9c><main><p>Other text</main>",
    );
    night.site.page("d.html", "d", "Text");
    let ran = night.site.run(&["build", "--announce"]);
    ran.says(0, &[]);
    assert!(!ran.errors.contains("ownership"), "{}", ran.errors);
    std::fs::remove_file(night.site.path("live/lamp.html")).unwrap();
    night.site.write("live/robots.txt", "User-agent: *\nDisallow: /staff/\n");
    night
        .site
        .run(&["announce"])
        .says(0, &["https://www.marrowvale.example/robots.txt and public/robots.txt have different rules"]);
    night.site.run(&["announce"]).says(0, &["on the live site the file lamp.html is missing"]);
}

/// The history of a section: the runs in which one of its files was written.
#[test]
fn the_history_of_a_section() {
    let night = Night::new("");
    night.add("[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n");
    night.site.page("halts/weir.html", "Weir", "Text");
    night.site.build();
    night.site.page("c.html", "c", "Text");
    night.site.build();
    night.site.page("halts/quay.html", "Quay", "Text");
    night.site.build();
    let runs = |section: &str| -> Vec<i64> {
        let past = night.site.json(&["history", "--section", section]);
        past["runs"].as_array().unwrap().iter().map(|run| run["run"].as_i64().unwrap()).collect()
    };
    assert_eq!((runs("halts"), runs("pages")), (vec![3, 1], vec![2, 1]));
    night.site.run(&["history", "--section", "quays"]).says(2, &["there is no section “quays”"]);
    night.site.run(&["history", "--section", "halts"]).says(0, &["Runs"]);
}

/// A dry run says what would wait.
#[test]
fn a_dry_run_says_what_would_wait() {
    let night = Night::new("per_day = 1\n");
    night.site.build();
    night.site.page("a.html", "a", "Other text");
    night.site.page("b.html", "b", "Other text");
    night.site.build();
    let would = ["would be told of 2 URLs", "1 URL waits: as many as a day allows have been announced (per_day)"];
    night.site.run(&["announce", "--dry-run"]).says(0, &would);
    night.site.run(&["announce"]).says(0, &["1 URL to announce (1 changed); 1 accepted", "1 URL waits"]);
    let plan = night.site.json(&["announce", "--dry-run"]);
    assert_eq!((&plan[0]["urls"], &plan[0]["waiting"][0]["why"]), (&1.into(), &"allowance".into()), "{plan}");
}
