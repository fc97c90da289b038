//! The lines of `watch`: one for each event, as text or as a JSON object.

use std::fmt::Write;

use atlas_io::watch::Wake;
use atlas_store::model::StartedBy;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::{Map, Value, json};

use crate::exit::Failure;
use crate::screen::{BAD, FAINT, GOOD, STRONG, Screen, WARN, count, grouped, took};

/// The log of one site.
pub struct Log {
    pub screen: Screen,
    /// Whether each line is a JSON object.
    pub json: bool,
    /// The site or configuration, if there are several.
    pub site: Option<String>,
    pub zone: TimeZone,
}

/// A line of the log: an event, what is known of it, and the same in words.
pub struct Line {
    event: &'static str,
    words: String,
    fields: Map<String, Value>,
}

impl Line {
    pub fn new(event: &'static str, words: impl Into<String>) -> Self {
        Self { event, words: words.into(), fields: Map::new() }
    }

    /// The same line with another field.
    #[must_use]
    fn with(mut self, name: &str, value: impl Into<Value>) -> Self {
        self.fields.insert(name.to_owned(), value.into());
        self
    }
}

/// The events that are written even if only errors are wanted.
const IN_TROUBLE: [&str; 3] = ["failed", "held", "problem"];

impl Log {
    /// Writes a line.
    pub fn say(&self, at: Timestamp, line: Line) -> Result<(), Failure> {
        let Line { event, words, fields } = line;
        if self.screen.is_quiet() && !IN_TROUBLE.contains(&event) {
            return Ok(());
        }
        if self.json {
            let mut object = Map::new();
            object.insert("at".to_owned(), json!(at.round(jiff::Unit::Millisecond).unwrap_or(at).to_string()));
            object.extend(self.site.as_ref().map(|site| ("site".to_owned(), json!(site))));
            object.insert("event".to_owned(), json!(event));
            object.extend(fields);
            object.insert("words".to_owned(), json!(words));
            let object = Value::Object(object);
            return match self.screen.holds_back() {
                true => self.screen.show(&object, String::new),
                false => self.screen.print(&format!("{object}\n")),
            };
        }
        let is_in_part = ["refused", "kept"].iter().any(|part| fields.get(*part).is_some_and(|count| *count != 0));
        let style = match event {
            event if IN_TROUBLE.contains(&event) => BAD,
            "told" if is_in_part => WARN,
            "built" | "told" => GOOD,
            "waits" | "configuration" => WARN,
            _ => FAINT,
        };
        let at = at.to_zoned(self.zone.clone()).strftime("%Y-%m-%d %H:%M:%S");
        let site = self.site.as_ref().map_or(String::new(), |site| format!("{STRONG}{site}{STRONG:#}  "));
        self.screen.print(&format!("{FAINT}{at}{FAINT:#}  {site}{style}{event:<9}{style:#}  {words}\n"))
    }
}

/// The site is watched from now on.
pub fn watching(files: usize, asked: &[String], every: Option<jiff::SignedDuration>) -> Line {
    let mut words = match files {
        0 => "no file".to_owned(),
        files => count(files as u64, "folder or file", "folders and files"),
    };
    if let Some(every) = every {
        let _ = write!(words, "; builds {} without a change", every_words(every));
    }
    if !asked.is_empty() {
        let _ = write!(words, ", because {} cannot be watched", asked.join(", "));
    }
    Line::new("watching", words).with("paths", files).with("asked", json!(asked))
}

fn every_words(every: jiff::SignedDuration) -> String {
    let minutes = every.as_mins();
    match (minutes / 60, minutes % 60) {
        (0, minutes) => format!("every {minutes} min"),
        (hours, 0) => format!("every {hours} h"),
        (hours, minutes) => format!("every {hours} h {minutes} min"),
    }
}

/// A round begins; `paths` are those that have changed.
pub fn begins(wake: Wake, paths: &[String], is_more: bool) -> Line {
    let words = match (wake, paths) {
        (Wake::Changed, [one]) if !is_more => format!("{one} has changed"),
        (Wake::Changed, [first, rest @ ..]) => {
            let others = grouped(rest.len() as u64);
            format!("{first} and {}{others} more have changed", if is_more { "at least " } else { "" })
        }
        (Wake::Changed, []) => "files have changed".to_owned(),
        (Wake::Start, _) => "to see what has changed meanwhile".to_owned(),
        (Wake::Due, _) => "an entry falls due".to_owned(),
        (Wake::Interval, _) => "as often as the configuration says".to_owned(),
        (Wake::Retry, _) => "again, because the last build did not go through".to_owned(),
        (Wake::Announce, _) => "something waits to be announced".to_owned(),
    };
    Line::new("begins", words)
        .with("why", wake.as_str())
        .with("paths", json!(paths.iter().take(10).collect::<Vec<_>>()))
}

/// What became of a build, by its document.
pub fn built(document: &Value, took_ms: u64) -> Line {
    if let Some(error) = document.get("error") {
        return Line::new("failed", error.as_str().unwrap_or_default());
    }
    let held = document["survey"]["held"].as_array().or_else(|| document["held"].as_array());
    if let Some(held) = held.filter(|held| !held.is_empty()) {
        let reasons: Vec<&str> = held.iter().filter_map(|held| held["message"].as_str()).collect();
        return Line::new("held", format!("{}; nothing was written", reasons.join("; ")));
    }
    let number = |name: &str| document["changes"][name]["count"].as_u64().unwrap_or_default();
    let entries: u64 = (document["sections"].as_array().into_iter().flatten())
        .map(|section| section["entries"].as_u64().unwrap_or_default())
        .sum();
    let written = document["written"].as_array().map_or(0, Vec::len) as u64;
    let changes = [("added", "added"), ("changed", "changed"), ("removed", "removed"), ("left_out", "left out")];
    let told: Vec<String> = changes
        .iter()
        .filter(|(name, _)| number(name) > 0)
        .map(|(name, word)| format!("{} {word}", grouped(number(name))))
        .collect();
    let told = if told.is_empty() { "nothing changed".to_owned() } else { told.join(", ") };
    let files = if written > 0 { format!("; {} written", count(written, "file", "files")) } else { String::new() };
    let entries_words = count(entries, "entry", "entries");
    let seconds = took(took_ms);
    let line = Line::new("built", format!("run {}: {entries_words}; {told}{files} ({seconds})", document["run"]))
        .with("run", document["run"].clone())
        .with("entries", entries);
    changes
        .iter()
        .fold(line, |line, (name, _)| line.with(name, number(name)))
        .with("written", written)
        .with("took_ms", took_ms)
}

/// What an engine was told, by its report. Nothing is said of an engine for which there was nothing to do.
pub fn told(report: &Value, zone: &TimeZone) -> Vec<Line> {
    let number = |name: &str| report[name].as_u64().unwrap_or_default();
    let engine = report["engine"].as_str().unwrap_or_default();
    let noun = |count: u64| match (report["of_files"] == true, count) {
        (true, 1) => "file",
        (true, _) => "files",
        (false, 1) => "URL",
        (false, _) => "URLs",
    };
    let mut lines = Vec::new();
    let parts = [("taken", "accepted"), ("refused", "refused"), ("kept", "kept for later")];
    let some: Vec<String> = parts
        .iter()
        .map(|(name, word)| (number(name), word))
        .filter(|(count, _)| *count > 0)
        .map(|(count, word)| format!("{} {} {word}", grouped(count), noun(count)))
        .collect();
    if !some.is_empty() {
        let last = report["messages"].as_array().and_then(|messages| messages.last());
        let trouble = last.filter(|last| last["outcome"] != "done").and_then(|last| last["words"].as_str());
        let brief = |why: &str| why.split(';').next().unwrap_or(why).to_owned();
        let why = trouble.map_or(String::new(), |why| format!(": {}", brief(why)));
        let line = Line::new("told", format!("{engine}: {}{why}", some.join(", "))).with("engine", engine);
        let line = parts.iter().fold(line, |line, (name, _)| line.with(name, number(name)));
        lines.push(line.with("status", last.map_or(Value::Null, |last| last["status"].clone())));
    }
    if let Some(problem) = report["problem"].as_str() {
        lines.push(Line::new("problem", format!("{engine}: {problem}")).with("engine", engine));
    }
    let live = &report["not_live"];
    if let Some(waiting) = live["waiting"].as_u64().filter(|waiting| *waiting > 0) {
        let first = &live["seen"][0];
        let seen = format!("{} {}", text(&first["address"]), text(&first["words"]));
        let wait = if waiting == 1 { "waits" } else { "wait" };
        let words = format!(
            "{engine}: {} {} {wait} until the live site serves what was built: {seen}",
            grouped(waiting),
            noun(waiting)
        );
        lines.push(Line::new("waits", words).with("engine", engine).with("urls", waiting).with("for", "live"));
    }
    for one in report["waiting"].as_array().into_iter().flatten() {
        let urls = one["urls"].as_u64().unwrap_or_default();
        let until = text(&one["until"]).parse::<Timestamp>().map(|at| at.to_zoned(zone.clone()));
        let until = until.map_or(String::new(), |at| at.strftime(" until %Y-%m-%d %H:%M").to_string());
        let (wait, why) = (if urls == 1 { "waits" } else { "wait" }, text(&one["why"]));
        let words = format!("{engine}: {} {} {wait}{until} ({why})", grouped(urls), noun(urls));
        lines.push(Line::new("waits", words).with("engine", engine).with("urls", urls).with("for", why));
    }
    lines
}

/// A problem that was met.
pub fn problem(what: &str, message: &str) -> Line {
    Line::new("problem", format!("{what}: {message}")).with("what", what)
}

/// When the next round comes by itself; `due` is what falls due then, in words.
pub fn next(at: Timestamp, wake: Wake, due: Option<&str>, zone: &TimeZone) -> Line {
    let why = match wake {
        Wake::Due => due.unwrap_or("an entry falls due"),
        Wake::Retry => "the build is tried again",
        _ => "what waits is announced",
    };
    let when = at.to_zoned(zone.clone()).strftime("%Y-%m-%d %H:%M:%S").to_string();
    Line::new("next", format!("{when}: {why}")).with("then", at.to_string()).with("why", wake.as_str())
}

/// The end.
pub fn ends(rounds: u64) -> Line {
    Line::new("ends", format!("after {}", count(rounds, "round", "rounds"))).with("rounds", rounds)
}

/// What started the builds.
pub fn started_by(once: bool) -> StartedBy {
    if once { StartedBy::Timer } else { StartedBy::Watch }
}

fn text(value: &Value) -> &str {
    value.as_str().unwrap_or_default()
}
