//! What is reported: only what is new, only what is not known, and never wider than the terminal.

use std::process::Command;

use rstest::rstest;
use serde_json::Value;

use crate::support::{DAY, HTML, NOON, Ran, TestSite};

/// A site with something to report about everything.
fn eventful() -> TestSite {
    let site = TestSite::new(&format!(
        "{HTML}[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\npages = \"may-be-elsewhere\"\n[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n"
    ));
    for name in ["index.html", "fares.html", "halts/weir.html", "halts/shed.html"] {
        site.page(name, "Page", name);
    }
    site.page("404.html", "Page not found", "x");
    site.write("public/lost.html", "<p>Only a paragraph");
    site.write("t.csv", "url,modified\n/table/a/,soonish\n/table/b/,2026-05-01\n");
    site.write("public/gala.html", "<title>Gala</title><meta property=article:published_time content=2027-03-01>");
    site
}

#[test]
fn a_night_without_a_change_takes_three_lines() {
    let mut site = eventful();
    let first = site.run(&["build"]);
    first.says(
        0,
        &["1  error page", "t.csv line 2", "1  page without a head", "atlas-halts-1.xml", "Next: idle-atlas check"],
    );
    site.at(NOON + DAY);
    let second = site.run(&["build"]);
    second.says(0, &["Run 2: 7 entries in 2 sitemap files; no entry changed, nothing to write."]);
    second.says(0, &["As in the last build: 2 sections, 2 reasons for leaving entries out, 1 value", "1 remark."]);
    second.says(0, &["Due next: https://www.marrowvale.example/gala.html is listed on 2027-03-01"]);
    assert_eq!(second.out.lines().count(), 3, "{}", second.out);
    site.run(&["build", "--verbose"]).says(0, &["1  error page", "t.csv line 2", "page without a head"]);
    site.run(&["survey"]).says(0, &["1  error page", "t.csv line 2", "page without a head"]);
    // Under another configuration, everything is reported again.
    site.reconfigure("[[section]]", "# A word.\n[[section]]");
    site.run(&["build"]).says(0, &["1  error page", "t.csv line 2", "atlas-halts-1.xml", "due"]);
}

#[test]
fn new_remarks_are_shown_and_the_rest_is_counted() {
    let site = eventful();
    site.build();
    site.page("halts/lamp.html", "Page", "new");
    site.page("500.html", "Server error", "x");
    site.page("thanks.html", "Thanks", "x");
    site.write("public/thanks.html", "<title>Thanks</title><meta name=robots content=noindex>");
    site.write("t.csv", "url,modified\n/table/a/,soonish\n/table/b/,by and by\n");
    let ran = site.run(&["build"]);
    ran.says(0, &["1 added", "halts/lamp.html", "  halts          3", "2  error page", "1  page says noindex"]);
    ran.says(0, &["t.csv line 3: modified “by and by”", "As in the last build: 1 section, 1 reason", "1 value that"]);
    for word in ["soonish", "without a head", "published in the future", "\n  pages ", "Submit"] {
        assert!(!ran.out.contains(word), "{word} in {}", ran.out);
    }
    // The list of files to submit is printed if it has changed.
    site.reconfigure("[[section]]", "[[section]]\nname = \"sheds\"\nmatching = [\"/sheds/**\"]\n[[section]]");
    site.build();
    assert!(!site.run(&["build"]).out.contains("Submit"));
    site.page("sheds/new.html", "Page", "new");
    site.run(&["build"]).says(0, &["Submit this one URL", "atlas-sheds-1.xml", "  sheds          1"]);
}

#[test]
fn accepted_remarks_are_only_counted() {
    let site = eventful();
    let codes = |site: &TestSite| -> Vec<String> {
        let survey = site.json(&["survey"]);
        let notices = survey["notices"].as_array().unwrap().iter();
        notices.map(|one| format!("{} {}", one["code"].as_str().unwrap(), one["count"])).collect()
    };
    let before = codes(&site);
    assert!(before.contains(&"no-head 1".to_owned()), "{before:?}");
    site.run(&["survey", "--accept", "no-head", "/lost.html", "/gone/**"])
        .says(0, &["Added to known-findings.txt", "no-head /lost.html", "no-head /gone/**", "Next: idle-atlas survey"]);
    assert!(!codes(&site).iter().any(|code| code.starts_with("no-head")));
    let survey = site.json(&["survey"]);
    assert_eq!(survey["accepted"]["no-head"], 1);
    assert_eq!(survey["accepted_in_vain"], serde_json::json!([[3, "no-head"]]));
    site.run(&["survey"])
        .says(0, &["1 remark is not shown, because accepted: no-head", "Line 3 of the known findings"]);
    site.run(&["build"]).says(0, &["1 remark is not shown, because accepted: no-head"]);
    site.run(&["survey", "--accept", "no-head", "/lost.html"]).says(0, &["says so already"]);
    site.run(&["survey", "--accept", "no-hat"]).says(2, &["--accept: “no-hat” is unknown", "no-head"]);
    site.write("known-findings.txt", "no-head\nunlinked [a\n");
    site.run(&["survey"]).says(2, &["known-findings.txt line 2", "is not a pattern"]);
}

#[test]
fn findings_of_check_can_be_accepted_too() {
    let site = eventful();
    site.build();
    std::fs::remove_file(site.path("public/robots.txt")).unwrap();
    site.run(&["check"]).says(0, &["robots-missing"]);
    site.run(&["survey", "--accept", "robots-missing"]).says(0, &[]);
    let ran = site.run(&["check"]);
    ran.says(0, &["1 finding is not shown, because accepted", "Nothing is wrong"]);
}

/// Runs the program on a terminal with this many columns.
#[cfg(target_os = "linux")]
fn on_a_terminal(site: &TestSite, columns: usize, command: &str) -> Vec<String> {
    let program = env!("CARGO_BIN_EXE_idle-atlas");
    let line = format!("stty cols {columns} rows 40; NO_COLOR=1 '{program}' {command}");
    let mut shell = site.command(&[]);
    let folder = shell.get_current_dir().unwrap().to_owned();
    let envs: Vec<_> =
        shell.get_envs().filter_map(|(name, value)| Some((name.to_owned(), value?.to_owned()))).collect();
    shell = Command::new("script");
    shell.args(["-qec", &line, "/dev/null"]).current_dir(folder).envs(envs).env("TERM", "xterm");
    let ran = Ran::of(shell.output().unwrap());
    let text = ran.out.replace("\r\n", "\n");
    text.lines().map(|line| line.rsplit('\r').next().unwrap_or("").replace("\u{1b}[2K", "")).collect()
}

#[cfg(target_os = "linux")]
#[rstest]
#[case(100)]
#[case(80)]
#[case(60)]
fn no_line_is_wider_than_the_terminal(#[case] columns: usize) {
    let site = TestSite::sample();
    for command in [
        "survey",
        "survey --verbose",
        "survey --list",
        "build --dry-run",
        "build",
        "check",
        "history",
        "history 1",
        "why /films/late-parcels/",
        "why /photographs/last-train/",
        "announce --key-file",
        "announce --dry-run --all",
    ] {
        let lines = on_a_terminal(&site, columns, command);
        let wide: Vec<&String> = lines.iter().filter(|line| line.chars().count() > columns).collect();
        assert!(wide.is_empty(), "{command} at {columns}: {wide:#?}");
        assert!(lines.len() > 3, "{command}: {lines:?}");
        if columns < 100 && command == "survey" {
            let text = lines.join("\n");
            assert!(text.contains("URLs are on https://www.marrowvale.example"), "{text}");
            assert!(text.contains("  /booking/thank-you/") && !text.contains("example/booking"), "{text}");
        }
    }
}

#[test]
fn nothing_is_cut_where_the_output_is_no_terminal() {
    let site = TestSite::sample();
    let mut command = site.command(&["survey"]);
    let out = String::from_utf8(command.env("COLUMNS", "40").output().unwrap().stdout).unwrap();
    assert!(out.contains("https://www.marrowvale.example/booking/thank-you/") && !out.contains('…'), "{out}");
}

fn document(ran: &Ran) -> Value {
    serde_json::from_str(&ran.out).unwrap_or_else(|error| panic!("{error}: {}", ran.out))
}

#[test]
fn whatever_happens_json_is_one_document() {
    let site = eventful();
    let failed = site.run(&["survey", "--config", "nowhere.toml", "--json"]);
    assert_eq!(failed.code, 2);
    assert!(document(&failed)["error"].as_str().unwrap().contains("nowhere.toml"));
    site.reconfigure("[[section]]", "[guards]\nfew = 0\n[[section]]");
    let misused = site.run(&["survey", "--json", "--fersh"]);
    assert_eq!((misused.code, document(&misused)["exit"].as_u64()), (2, Some(2)));
    site.build();
    for name in ["fares.html", "halts/weir.html", "halts/shed.html", "lost.html"] {
        std::fs::remove_file(site.path("public").join(name)).unwrap();
    }
    let held = site.run(&["build", "--json"]);
    assert_eq!((held.code, document(&held)["held"][0]["guard"].as_str()), (3, Some("shrink")));
}

#[cfg(feature = "test-engine")]
#[test]
fn the_demo_is_one_json_document_too() {
    let site = TestSite::new("");
    let demo = document(&site.run(&["demo", "railway", "--json"]));
    assert_eq!(demo["steps"][2]["run"], 1, "{demo}");
    assert!(demo["folder"].as_str().unwrap().ends_with("railway"));
}

/// The test engine prints its endpoint and port in one document, and exits normally when it is stopped.
#[cfg(feature = "test-engine")]
#[test]
fn the_test_engine_ends_when_stopped() {
    let site = TestSite::new(HTML);
    let mut command = site.command(&["test-engine", "--listen", "127.0.0.1:0", "--json"]);
    let mut engine = command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap();
    let mut out = std::io::BufReader::new(engine.stdout.take().unwrap());
    let mut text = String::new();
    while !text.ends_with("}\n") {
        assert!(std::io::BufRead::read_line(&mut out, &mut text).unwrap() > 0, "{text}");
    }
    let document: Value = serde_json::from_str(&text).unwrap();
    let port = document["port"].as_u64().unwrap();
    assert_eq!(document["endpoint"], format!("http://127.0.0.1:{port}/indexnow"));
    Command::new("kill").args(["-INT", &engine.id().to_string()]).status().unwrap();
    let ended = engine.wait_with_output().unwrap();
    assert_eq!((ended.status.code(), String::from_utf8(ended.stderr).unwrap().as_str()), (Some(0), ""));
}

/// Videos are counted in the same way everywhere: those that are written.
#[test]
fn videos_and_pictures_are_counted_in_one_way() {
    let site = TestSite::sample();
    let survey = site.json(&["survey"]);
    let list = site.json(&["survey", "--list"]);
    for kind in ["videos", "images"] {
        let sections = survey["sections"].as_array().unwrap().iter();
        let surveyed: u64 = sections.map(|section| section[kind].as_u64().unwrap()).sum();
        let kept = list.as_array().unwrap().iter().filter(|entry| !entry["section"].is_null());
        assert_eq!(kept.map(|entry| entry[kind].as_u64().unwrap()).sum::<u64>(), surveyed, "{kind}");
    }
}

#[test]
fn instants_have_one_form_in_json() {
    let site = eventful();
    site.build();
    let history = site.json(&["history"]);
    assert_eq!(history["runs"][0]["at"], "2026-11-23T12:00:00Z");
    site.run(&["history", "--most", "0"]).says(2, &["1 or more"]);
}

#[test]
fn of_many_sections_the_first_are_shown() {
    let sections: String =
        (0..45).map(|nth| format!("[[section]]\nname = \"s{nth}\"\nmatching = [\"/s{nth}/**\"]\n")).collect();
    let site = TestSite::new(&(HTML.to_owned() + &sections));
    (0..45).for_each(|nth| site.page(&format!("s{nth}/index.html"), "Halt", &format!("number {nth}")));
    let built = site.run(&["build"]);
    built.says(0, &["  s39 ", "\n  and 5 more sections: --verbose or --json\n"]);
    assert!(!built.out.contains("  s40 "), "{}", built.out);
    site.run(&["survey", "--verbose"]).says(0, &["  s44 "]);
}
