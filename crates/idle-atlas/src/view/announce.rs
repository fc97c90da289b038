//! What `announce` shows.

use atlas_io::announce::Told;
use atlas_store::ledger::{Change, Pending};
use jiff::tz::TimeZone;
use serde::Serialize;

use super::words::{count, grouped, instant};
use crate::screen::{FAINT, GOOD, STRONG, WARN};

/// What an engine would be told.
#[derive(Debug, Serialize)]
pub struct Plan {
    pub engine: String,
    pub urls: u64,
    pub tell: Vec<PlannedUrl>,
    /// It asked to be left alone until then, in seconds since 1970.
    pub not_before: Option<i64>,
    /// Whether there is a key to tell it with.
    pub has_key: bool,
}

/// One URL that would be told.
#[derive(Debug, Serialize)]
pub struct PlannedUrl {
    pub change: Change,
    pub url: String,
}

impl Plan {
    pub fn new(engine: &str, pending: &[Pending], not_before: Option<i64>, has_key: bool) -> Self {
        let tell = pending.iter().map(|one| PlannedUrl { change: one.change, url: one.url.clone() }).collect();
        Self { engine: engine.to_owned(), urls: pending.len() as u64, tell, not_before, has_key }
    }
}

/// A key file.
#[derive(Debug, Serialize)]
pub struct KeyFile {
    pub engine: String,
    pub path: String,
    pub address: String,
    pub written: bool,
}

/// The text of `announce`.
pub fn told(results: &[Told], zone: &TimeZone) -> String {
    results.iter().map(|told| one(told, zone)).collect::<Vec<_>>().join("\n")
}

fn one(told: &Told, zone: &TimeZone) -> String {
    let mut out = format!("{STRONG}{}{STRONG:#}: ", told.engine);
    if let (Some(until), true) = (told.not_before, told.messages.is_empty()) {
        return out
            + &format!(
                "asked to be left alone until {}; {} kept for then.\n",
                instant(until, zone),
                count(told.kept, "URL is", "URLs are")
            );
    }
    if told.messages.is_empty() {
        return out
            + &format!(
                "{GOOD}nothing to tell{GOOD:#}, it knows all that changed.\n{FAINT}To tell the whole site: idle-atlas announce --all{FAINT:#}\n"
            );
    }
    let parts = [(told.taken, "taken"), (told.refused, "refused"), (told.kept, "kept for next time")];
    let parts: Vec<String> = parts
        .iter()
        .filter(|(number, _)| *number > 0)
        .map(|(number, word)| format!("{} {word}", grouped(*number)))
        .collect();
    let changes = told.changes;
    let kinds =
        [(changes.changed, "added or changed"), (changes.removed, "removed"), (changes.redirected, "redirected")];
    let kinds: Vec<String> = kinds
        .iter()
        .filter(|(number, _)| *number > 0)
        .map(|(number, word)| format!("{} {word}", grouped(*number)))
        .collect();
    let all = told.taken + told.refused + told.kept;
    out += &format!("{} to tell ({}); {}.\n\n", count(all, "URL", "URLs"), kinds.join(", "), parts.join(", "));
    for message in &told.messages {
        let status = message.status.map_or("–".to_owned(), |status| status.to_string());
        let style = if message.outcome == "done" { GOOD } else { WARN };
        out += &format!("  {style}{status}{style:#}  {}: {}\n", count(message.urls, "URL", "URLs"), message.words);
        for url in &message.examples {
            out += &format!("       {url}\n");
        }
        let more = message.urls.saturating_sub(message.examples.len() as u64);
        if more > 0 {
            out += &format!("       and {} more\n", grouped(more));
        }
    }
    if told.kept > 0 {
        let when = told.not_before.map_or("later".to_owned(), |until| format!("after {}", instant(until, zone)));
        out += &format!("\nNothing is lost: what is kept goes out with the next idle-atlas announce, {when}.\n");
    } else if told.refused == 0 {
        out += &format!(
            "\n{FAINT}Not every engine takes part in IndexNow; the largest learns from robots.txt and its own console.{FAINT:#}\n"
        );
    }
    out
}

/// The text of `announce --dry-run`.
pub fn plans(plans: &[Plan], verbose: bool, zone: &TimeZone) -> String {
    let shown = if verbose { usize::MAX } else { 10 };
    let mut out = String::new();
    for plan in plans {
        if plan.tell.is_empty() {
            out += &format!("{STRONG}{}{STRONG:#}: nothing to tell. To tell the whole site: --all\n", plan.engine);
            continue;
        }
        let when = plan.not_before.map_or(String::new(), |until| {
            format!(", but not before {}: it asked to be left alone until then", instant(until, zone))
        });
        out += &format!("{STRONG}{}{STRONG:#}: would be told {}{when}\n", plan.engine, count(plan.urls, "URL", "URLs"));
        if !plan.has_key {
            out += &format!("  {WARN}It has no key yet:{WARN:#} idle-atlas announce --key-file makes one\n");
        }
        for one in plan.tell.iter().take(shown) {
            let sign = match one.change {
                Change::Changed => "~",
                Change::Removed => "−",
                Change::Redirected => "→",
            };
            out += &format!("  {sign} {}\n", one.url);
        }
        if plan.tell.len() > shown {
            out += &format!("  and {} more: --verbose\n", grouped((plan.tell.len() - shown) as u64));
        }
    }
    out + &format!("\n{FAINT}Nothing has been told. Next: idle-atlas announce{FAINT:#}\n")
}

/// The text of `announce --key-file`.
pub fn key_files(files: &[KeyFile]) -> String {
    let mut out = String::new();
    for file in files {
        let word = if file.written { "Wrote" } else { "There already:" };
        out += &format!("{word} the key file for {}: {}\n", file.engine, file.path);
        out += &format!("Engines must find it at {STRONG}{}{STRONG:#}: publish the web root.\n", file.address);
    }
    out + &format!("\n{FAINT}Next: idle-atlas announce{FAINT:#}\n")
}
