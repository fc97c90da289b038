//! What the reference says of each key is what resolving does.

use std::fs;

use serde_json::Value;

use super::super::reference::{TableFacts, in_toml, tables};
use super::*;

/// A configuration in a folder, resolved; what it came to, in words.
fn resolved(folder: &Path, text: &str) -> Result<String, String> {
    let origin = ConfigText { path: folder.join("idle-atlas.toml"), text: text.to_owned(), shared: None };
    let typed = super::super::file::parse(&origin).map_err(|failure| failure.to_string())?;
    let settings = Settings::from_file(&origin, typed).map_err(|failure| failure.to_string())?;
    let Settings { engines, watching, known_findings, thin_words, uptake, timezone, .. } = &settings;
    let Settings { policy, alternates, extras, usual_policy, cut, thresholds, keep_days, names, reader, .. } =
        &settings;
    // “usual” and yes are what holds if nothing is set.
    let sections = serde_json::to_string(&settings.choices).unwrap();
    let sections = sections.replace("\"date_policy\":\"usual\"", "\"date_policy\":null");
    let sections = sections.replace("\"announce\":true", "\"announce\":null");
    Ok(format!(
        "{engines:?} {watching:?} {known_findings:?} {thin_words:?} {uptake:?} {timezone:?} {policy:?} {alternates:?} {extras:?} {usual_policy:?} {cut:?} {thresholds:?} {keep_days} {names:?} {reader:?} {sections}"
    ))
}

const BASE: &str = "[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"public\"\n";
const SOURCE: &str = "[[source]]\nfrom = \"html\"\nfolder = \"public\"\n";
/// The tables that need others beside them.
const BESIDE: &str = "[[section]]\nname = \"journal\"\n[[section]]\nname = \"news\"\n[[section]]\nname = \"authors\"\n";

fn site() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("public")).unwrap();
    folder
}

/// The needed keys of a table, as in the examples.
fn needed(table: &TableFacts) -> String {
    let keys = table.keys.iter().filter(|key| key.is_needed);
    let more = match table.name.as_str() {
        "engine" => "endpoint = \"https://engine.example/call\"\n",
        "rule" => "matching = [\"/x/**\"]\ncategory = [\"ice\"]\nkeep = true\n",
        _ => "",
    };
    keys.map(|key| format!("{}\n", key.example.as_deref().unwrap_or_default())).collect::<String>() + more
}

/// A configuration with a line in a table of this name. `None` for tables that a line alone does not make.
fn with(table: &TableFacts, key: &str, line: &str) -> Option<String> {
    let rest: String = needed(table)
        .lines()
        .filter(|known| !known.starts_with(&format!("{key} =")))
        .map(|line| format!("{line}\n"))
        .collect();
    Some(match table.name.as_str() {
        "site" if key == "url" || key == "web_root" => return None,
        "site" => format!("{BASE}{line}\n{SOURCE}"),
        // A store that nothing names is an error, and not every program reaches one.
        "source" | "store" => return None,
        "section" => format!("{BASE}{SOURCE}[[section]]\n{rest}{line}\n"),
        "engine" if ["each", "most_urls"].contains(&key) => {
            let fields = if key == "most_urls" { "?u={lines}\"\neach = \"batch\"" } else { "?u={url}\"" };
            let rest = rest
                .replace("\"indexnow\"", "\"http-call\"")
                .replace("example/call\"", &format!("example/call{fields}"));
            format!("{BASE}{SOURCE}{BESIDE}[[engine]]\n{rest}{line}\n")
        }
        _ => format!("{BASE}{SOURCE}{BESIDE}{}\n{rest}{line}\n", table.heading()),
    })
}

/// What the reference says of defaults is so: written out, they change nothing.
#[test]
fn defaults_are_as_documented() {
    let folder = site();
    let mut checked = 0;
    for table in tables() {
        for key in &table.keys {
            let Some(default) = &key.default else { continue };
            let line = format!("{} = {}", key.name, in_toml(default));
            let (Some(plain), Some(typed)) = (with(&table, &key.name, ""), with(&table, &key.name, &line)) else {
                continue;
            };
            let place = format!("[{}] {line}", table.name);
            let plain = resolved(folder.path(), &plain).unwrap_or_else(|why| panic!("{place}: {why}"));
            let typed = resolved(folder.path(), &typed).unwrap_or_else(|why| panic!("{place}: {why}"));
            assert!(plain == typed, "{place} changes something:\n{plain}\n{typed}");
            checked += 1;
        }
    }
    assert!(checked > 40, "{checked}");
}

/// The words that the reference names are those that the program knows: the error about any other names them all.
#[test]
fn words_are_as_documented() {
    let folder = site();
    let mut checked = 0;
    for table in tables() {
        for key in table.keys.iter().filter(|key| !key.words.is_empty()) {
            let is_list = key.takes == "list of words";
            let value = if is_list { "[\"no-such-word\"]" } else { "\"no-such-word\"" };
            let Some(text) = with(&table, &key.name, &format!("{} = {value}", key.name)) else { continue };
            let place = format!("[{}] {}", table.name, key.name);
            let why = resolved(folder.path(), &text).expect_err(&place);
            for word in &key.words {
                assert!(why.contains(word.as_str()), "{place}: {why}");
            }
            checked += 1;
        }
    }
    assert!(checked > 10, "{checked}");
}

/// Each example can be written as it stands, as far as no file has to exist.
#[test]
fn examples_can_be_written() {
    let folder = site();
    let is_about_files = |why: &str| {
        ["cannot read", "there is no", "is unknown", "environment variable", "built without"]
            .iter()
            .any(|words| why.contains(words))
    };
    for table in tables() {
        for key in &table.keys {
            let Some(text) = key.example.as_ref().and_then(|example| with(&table, &key.name, example)) else {
                continue;
            };
            if let Err(why) = resolved(folder.path(), &text) {
                let is_alone = why.contains("needs") || why.contains("has no effect") || why.contains("missing");
                assert!(is_about_files(&why) || is_alone, "[{}] {}: {why}", table.name, key.name);
            }
        }
    }
    let source = |from: &str, key: &str| format!("{BASE}[[source]]\nfrom = \"{from}\"\n{key}\n");
    for table in tables().iter().filter(|table| table.name == "source") {
        for key in &table.keys {
            let kind = key.kinds.first().copied().unwrap_or("html");
            let line = match (&key.example, &key.default) {
                (Some(example), _) => example.clone(),
                (None, Some(Value::Null) | None) => continue,
                (None, Some(default)) => format!("{} = {}", key.name, in_toml(default)),
            };
            let line = if key.name == "from" { String::new() } else { line };
            if let Err(why) = resolved(folder.path(), &source(kind, &line)) {
                assert!(why.contains("needs") || is_about_files(&why), "{kind} {}: {why}", key.name);
            }
        }
    }
}
