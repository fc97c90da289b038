//! The command `announce`, against the test engine.

use std::collections::HashMap;

use atlas_io::test_engine::serve::{self, Served};
use atlas_io::test_engine::{Mood, TestEngine, TestEngineSettings};
use rstest::rstest;

use crate::support::{HTML, TestSite};

const KEY: &str = "0123456789abcdef0123456789abcdef";

/// A built site, served on loopback, and an engine that can reach it.
struct Web {
    site: TestSite,
    engine: TestEngine,
    _served: Served,
}

impl Web {
    fn new(key: &str) -> Self {
        let site = TestSite::new("");
        for number in 0..4 {
            site.page(&format!("p{number}.html"), "Page", &format!("Text {number}"));
        }
        let served = serve::folder(&site.path("public")).unwrap();
        let reach = HashMap::from([("www.marrowvale.example".to_owned(), served.address())]);
        let settings = TestEngineSettings { reach, ..TestEngineSettings::fair() };
        let engine = TestEngine::start(settings).unwrap();
        site.configure(&format!(
            "{HTML}[[engine]]\nname = \"test\"\nvia = \"indexnow\"\nendpoint = \"{}\"\nwait_seconds = 1\n{key}\n",
            engine.endpoint()
        ));
        site.reconfigure("[site]", &format!("[site]\nreached_at = \"http://{}\"", served.address()));
        site.build();
        Self { site, engine, _served: served }
    }

    fn with_key() -> Self {
        let web = Self::new(&format!("key = \"{KEY}\""));
        web.site.run(&["announce", "--key-file"]).says(0, &["Wrote the key file", &format!("{KEY}.txt")]);
        web
    }

    /// The paths that the engine has accepted since it had received `before` messages.
    fn taken(&self, before: usize) -> Vec<String> {
        let received = self.engine.received();
        let taken = received[before..].iter().filter(|one| one.status == 200);
        let mut paths: Vec<String> = taken.flat_map(|one| &one.urls).map(|url| url[30..].to_owned()).collect();
        paths.sort();
        paths
    }
}

#[test]
fn the_first_build_is_a_baseline_and_all_announces_the_whole_site() {
    let web = Web::with_key();
    web.site.run(&["announce"]).says(0, &["nothing to announce"]);
    web.site.run(&["announce", "--all", "--dry-run"]).says(0, &["would be told of 4 URLs"]);
    assert!(web.engine.received().is_empty());
    web.site.run(&["announce", "--all"]).says(0, &["4 URLs to announce", "4 accepted", "received, not yet crawled"]);
    assert_eq!(web.taken(0), ["/p0.html", "/p1.html", "/p2.html", "/p3.html"]);
    web.site.run(&["announce"]).says(0, &["nothing to announce"]);
}

#[test]
fn only_changes_are_announced_and_only_once() {
    let web = Web::with_key();
    web.site.page("p1.html", "Page", "Edited");
    web.site.page("new.html", "New", "Added");
    std::fs::remove_file(web.site.path("public/p2.html")).unwrap();
    web.site.write("public/p3.html", "<title>Moved</title><meta http-equiv=refresh content='0;url=/new.html'>");
    web.site.build();
    let plan = web.site.run(&["announce", "--dry-run"]);
    let lines: Vec<&str> = plan.out.lines().filter(|line| line.contains("html")).map(str::trim).collect();
    let marks: Vec<(&str, &str)> =
        lines.iter().map(|line| (line.split(' ').next().unwrap(), line.rsplit('/').next().unwrap())).collect();
    assert_eq!(
        marks,
        [("+", "new.html"), ("~", "p1.html"), ("−", "p2.html"), ("→", "p3.html")],
        "as build marks them, in order of URL"
    );
    let told = web.site.json(&["announce"]);
    assert_eq!(told[0]["changes"], serde_json::json!({ "added": 1, "changed": 1, "removed": 1, "redirected": 1 }));
    assert_eq!(web.taken(0), ["/new.html", "/p1.html", "/p2.html", "/p3.html"]);
    web.site.build();
    web.site.run(&["announce"]).says(0, &["nothing to announce"]);
    assert_eq!(web.engine.received().len(), 1);
}

#[test]
fn entries_left_out_by_a_rule_are_not_announced() {
    let web = Web::with_key();
    let config = web.site.read("idle-atlas.toml");
    web.site.write("idle-atlas.toml", format!("{config}\n[[rule]]\nmatching = [\"/p1.html\"]\nkeep = false\n"));
    let built = web.site.build();
    assert_eq!(built["changes"]["left_out"]["count"], 1);
    web.site.run(&["announce"]).says(0, &["nothing to announce"]);
}

/// What the page or its server says is announced: gone, redirected, noindex, canonical elsewhere, expired.
#[rstest]
#[case::noindex("<meta name=robots content=noindex>", "1 removed")]
#[case::canonical("<link rel=canonical href=/p2.html>", "1 removed")]
#[case::expired("<meta name=robots content='unavailable_after: 2026-11-20'>", "1 removed")]
#[case::redirect("<meta http-equiv=refresh content='0;url=/p2.html'>", "1 redirected")]
fn entries_that_opt_out_are_announced_as_removed(#[case] head: &str, #[case] told: &str) {
    let web = Web::with_key();
    web.site.write("public/p1.html", format!("<title>P</title>{head}"));
    assert_eq!(web.site.build()["changes"]["left_out"]["count"], 1);
    web.site.run(&["announce", "--dry-run"]).says(0, &["/p1.html"]);
    web.site.run(&["announce"]).says(0, &[told, "/p1.html"]);
}

#[rstest]
#[case::too_many(Mood::TooMany(60), "429", "too many announcements")]
#[case::down(Mood::Status(503), "503", "the engine has a problem")]
#[case::hang(Mood::Hang, "–", "no answer (timed out)")]
fn rejected_messages_are_kept_for_next_time(#[case] mood: Mood, #[case] status: &str, #[case] words: &str) {
    let mut web = Web::with_key();
    web.site.page("p1.html", "Page", "Edited");
    web.site.build();
    web.engine.set_mood(mood);
    web.site.run(&["announce"]).says(1, &[status, words, "1 kept for the next time", "Nothing is lost"]);
    web.engine.set_mood(Mood::Fair);
    let before_pause = web.engine.received().len();
    if mood == Mood::TooMany(60) {
        web.site.run(&["announce"]).says(1, &["asked for no messages until", "1 URL is kept"]);
        web.site.at(crate::support::NOON + 61);
    } else {
        let kept = ["the last time; 1 URL is kept, and it is tried again after", "idle-atlas announce --engine test"];
        web.site.run(&["announce"]).says(1, &kept);
        assert_eq!(web.engine.received().len(), before_pause, "it is left alone for a while");
        web.site.at(crate::support::NOON + 76);
    }
    let before = web.engine.received().len();
    web.site.page("p2.html", "Page", "Edited too");
    web.site.build();
    web.site.run(&["announce"]).says(0, &["2 accepted"]);
    assert_eq!(web.taken(before), ["/p1.html", "/p2.html"]);
}

#[test]
fn a_missing_key_file_is_explained_and_loses_nothing() {
    let web = Web::new(&format!("key = \"{KEY}\""));
    web.site.run(&["announce", "--all"]).says(0, &["4 URLs wait", ".txt is not there yet", "--key-file"]);
    web.site.reconfigure("[[engine]]", "[[engine]]\nwait_until_live = false");
    web.site.run(&["announce", "--all"]).says(1, &["403", "the key file was not found", "--key-file", "4 kept"]);
    web.site.run(&["announce", "--key-file"]).says(0, &["Wrote the key file"]);
    web.site.run(&["announce"]).says(0, &["4 accepted"]);
    web.site.run(&["history"]).says(0, &["403", "200", "accepted (received, not yet crawled)"]);
    web.site.run(&["why", "--fresh", "/p1.html"]).says(0, &["Announced to test"]);
}

#[test]
fn a_key_is_made_on_request_and_kept() {
    let web = Web::new("");
    web.site.run(&["announce", "--all"]).says(2, &["has no key yet", "--key-file"]);
    let made = web.site.json(&["announce", "--key-file"]);
    let address = made[0]["address"].as_str().unwrap();
    assert_eq!(address.len(), "https://www.marrowvale.example/".len() + 32 + 4);
    let again = web.site.json(&["announce", "--key-file"]);
    assert_eq!((again[0]["address"].as_str(), again[0]["written"].as_bool()), (Some(address), Some(false)));
    web.site.run(&["announce", "--all"]).says(0, &["4 accepted"]);
}

#[test]
fn several_messages_resume_where_they_stopped() {
    let web = Web::with_key();
    let rows: String = (0..25_000).map(|row| format!("/plates/{row}/\n")).collect();
    web.site.write("t.csv", format!("url\n{rows}"));
    let config = web.site.read("idle-atlas.toml");
    web.site.write(
        "idle-atlas.toml",
        format!("{config}\n[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\npages = \"may-be-elsewhere\"\n"),
    );
    web.site.build();
    // Most of them are nowhere.
    web.site.reconfigure("[[engine]]", "[[engine]]\nwait_until_live = false");
    let told = web.site.json(&["announce"]);
    let sizes: Vec<u64> =
        told[0]["messages"].as_array().unwrap().iter().map(|one| one["urls"].as_u64().unwrap()).collect();
    assert_eq!(sizes, [10_000, 10_000, 5_000]);
    assert_eq!(web.taken(0).len(), 25_000);
}

#[test]
fn no_engine_or_no_change() {
    let site = TestSite::new(HTML);
    site.page("a.html", "A", "x");
    site.run(&["announce"]).says(2, &["names no engine"]);
    site.configure(&format!(
        "{HTML}[[engine]]\nwait_until_live = false\nname = \"test\"\nvia = \"indexnow\"\nendpoint = \"http://127.0.0.1:9/\"\n"
    ));
    site.run(&["announce"]).says(2, &["there is no build yet"]);
}

#[test]
fn an_unreachable_engine() {
    let web = Web::with_key();
    let config = web.site.read("idle-atlas.toml").replace(&web.engine.endpoint(), "http://127.0.0.1:9/indexnow");
    web.site.write("idle-atlas.toml", config);
    web.site.run(&["announce", "--all"]).says(1, &["no answer", "refused", "4 kept"]);
}

/// After a round that stopped half way, and further changes, a dry run shows the rest of the round and what changed
/// since.
#[test]
fn a_dry_run_lists_what_would_be_announced() {
    let web = Web::with_key();
    web.site.page("p1.html", "Page", "Edited");
    web.site.page("p2.html", "Page", "Edited");
    web.site.build();
    web.engine.set_mood(Mood::Status(503));
    web.site.run(&["announce"]).says(1, &["2 kept"]);
    web.site.page("p3.html", "Page", "Edited");
    web.site.page("p1.html", "Page", "Edited again");
    web.site.build();
    let plan = web.site.json(&["announce", "--dry-run"]);
    let planned: Vec<String> = plan[0]["tell"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["url"].as_str().unwrap().replace("https://www.marrowvale.example", ""))
        .collect();
    web.engine.set_mood(Mood::Fair);
    let before = web.engine.received().len();
    let told = web.site.json(&["announce", "--engine", "test"]);
    assert_eq!(told[0]["taken"], planned.len());
    let mut planned = planned;
    planned.sort();
    assert_eq!(web.taken(before), planned);
    web.site.run(&["announce", "--dry-run"]).says(0, &["nothing to announce"]);
}

#[test]
fn a_dry_run_names_the_pause() {
    let web = Web::with_key();
    web.site.page("p1.html", "Page", "Edited");
    web.site.build();
    web.engine.set_mood(Mood::TooMany(60));
    web.site.run(&["announce"]).says(1, &["1 kept"]);
    web.site.run(&["announce", "--dry-run"]).says(0, &["would be told of 1 URL, but not before 2026-11-23 12:01 GMT"]);
}

/// A page that is removed and comes back unchanged between two announcements is not announced, except to an engine that
/// was told in between.
#[test]
fn a_returned_entry_is_announced_only_to_engines_that_knew_of_its_removal() {
    let web = Web::with_key();
    let page = web.site.read("public/p1.html");
    let leave = || std::fs::remove_file(web.site.path("public/p1.html")).unwrap();
    let come_back = || web.site.write("public/p1.html", &page);
    leave();
    web.site.build();
    come_back();
    let built = web.site.build();
    assert_eq!((built["changes"]["added"]["count"].as_u64(), built["to_announce"].as_u64()), (Some(1), Some(0)));
    web.site.run(&["announce"]).says(0, &["nothing to announce"]);
    leave();
    web.site.build();
    web.site.run(&["announce"]).says(0, &["1 URL to announce (1 removed)"]);
    come_back();
    assert_eq!(web.site.build()["to_announce"], 1);
    web.site.run(&["announce"]).says(0, &["1 URL to announce (1 added)"]);
}

/// An engine without a key does not hold up the others. One that is new is told of what changes from now on; one with a
/// new name goes on where it was.
#[test]
fn engines_have_progress_of_their_own() {
    let web = Web::with_key();
    let engine = |name: &str, more: &str| {
        format!(
            "[[engine]]\nwait_until_live = false\nname = \"{name}\"\nvia = \"indexnow\"\nendpoint = \"{}\"\n{more}\n",
            web.engine.endpoint()
        )
    };
    let keyed = format!("key = \"{KEY}\"");
    web.site.page("p0.html", "Page", "other text");
    web.site.build();
    web.site.configure(&format!(
        "{HTML}{}{}",
        engine("renamed", &format!("{keyed}\nwas = \"test\"")),
        engine("new", &keyed)
    ));
    web.site.run(&["build"]).says(0, &["nothing to write"]);
    let told = web.site.json(&["announce"]);
    assert_eq!((&told[0]["taken"], &told[1]["taken"]), (&1.into(), &0.into()), "{told}");
    web.site.page("p1.html", "Page", "other text");
    web.site.build();
    web.site.configure(&format!("{HTML}{}{}", engine("keyless", ""), engine("new", &keyed)));
    std::fs::remove_file(web.site.path(&format!("public/{KEY}.txt"))).unwrap();
    let ran = web.site.run(&["announce"]);
    ran.says(1, &["keyless: not told: engine keyless has no key yet", "new: "]);
    web.site.configure(&format!("{HTML}{}{}", engine("new", &keyed), engine("new", "")));
    web.site.run(&["announce"]).says(2, &["line ", "another [[engine]] is named “new” already"]);
}

/// A renewed key: both files stand for two weeks, and the former key is used until the new file is live.
#[test]
fn a_key_is_renewed_with_an_overlap() {
    let mut web = Web::new("");
    web.site.run(&["announce", "--key-file", "--renew"]).says(2, &["there is no key to renew"]);
    let made = web.site.json(&["announce", "--key-file"]);
    let name = |made: &serde_json::Value| made[0]["address"].as_str().unwrap()[31..].to_owned();
    web.site.run(&["announce", "--all"]).says(0, &["4 accepted"]);
    let renewed = web.site.json(&["announce", "--key-file", "--renew"]);
    assert_ne!(name(&made), name(&renewed));
    let (old, new) = (format!("public/{}", name(&made)), format!("public/{}", name(&renewed)));
    assert!(web.site.path(&old).exists() && web.site.path(&new).exists());
    web.site
        .run(&["announce", "--key-file", "--renew"])
        .says(2, &["was renewed a short time ago", "both key files stand"]);
    // As long as the new file is not live, the former key serves.
    let text = web.site.read(&new);
    std::fs::remove_file(web.site.path(&new)).unwrap();
    web.site.page("p1.html", "Page", "Edited");
    web.site.build();
    web.site.run(&["announce"]).says(0, &["1 accepted"]);
    web.site.write(&new, text);
    web.site.page("p1.html", "Page", "Edited again");
    web.site.build();
    web.site.run(&["announce"]).says(0, &["1 accepted"]);
    web.site.at(crate::support::NOON + 15 * crate::support::DAY);
    web.site.run(&["announce"]).says(0, &["nothing to announce"]);
    assert!(!web.site.path(&old).exists() && web.site.path(&new).exists());
}
