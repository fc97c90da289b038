//! The output of `announce`.

use atlas_core::announce::indexnow::KEY_NOT_FOUND;
use atlas_core::announce::{Change, LeftAlone};
use atlas_io::engines::{EngineReport, EngineSettings, LiveReport, PendingList, Waiting, WaitsFor};
use atlas_store::model::{Announced, Pending};
use serde::Serialize;

use crate::screen::{FAINT, GOOD, Layout, STRONG, WARN, count, grouped, instant};

/// What an engine would be told.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct AnnouncePlan {
    pub engine: String,
    /// The word for its protocol.
    pub via: &'static str,
    pub urls: u64,
    /// The first 100,000, by URL.
    pub tell: Vec<PlannedUrl>,
    /// Until when it is left alone, because it asked for that or failed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub left_alone: Option<LeftAlone>,
    /// URLs of these that would wait for a time that the configuration sets.
    pub waiting: Vec<Waiting>,
    /// Whether there is a key for it.
    pub has_key: bool,
    /// It has given up being told in this way, and nothing is kept for it.
    pub retired: bool,
    /// Whether it is told of files rather than of URLs.
    pub of_files: bool,
    /// If it was never told anything: the number of URLs that are the baseline from which changes are counted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub baseline: Option<u64>,
}

/// A URL that would be announced.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct PlannedUrl {
    pub change: Change,
    pub url: String,
}

impl AnnouncePlan {
    pub fn new(
        engine: &EngineSettings,
        pending: PendingList,
        (left_alone, waiting): (Option<LeftAlone>, Vec<Waiting>),
        has_key: bool,
    ) -> Self {
        let PendingList { count: urls, first, is_retired: retired, baseline } = pending;
        let tell = first.into_iter().map(|Pending { change, url, .. }| PlannedUrl { change, url }).collect();
        let (via, of_files) = (engine.via.word, engine.tells.of_files());
        Self { engine: engine.name.clone(), via, urls, tell, left_alone, waiting, has_key, retired, of_files, baseline }
    }
}

/// A key file.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct KeyFile {
    pub engine: String,
    pub path: String,
    pub address: String,
    pub written: bool,
}

/// The text of `announce`.
pub fn told(results: &[EngineReport], off: &[&str], layout: &Layout) -> String {
    let told = results.iter().map(|told| one(told, layout));
    told.chain(off.iter().map(|name| switched_off(name))).collect::<Vec<_>>().join("\n")
}

/// What waits for a time that the configuration sets.
fn waiting(all: &[Waiting], layout: &Layout) -> String {
    let line = |one: &Waiting| {
        let (wait, next) = if one.urls == 1 { ("waits", "It goes") } else { ("wait", "The next go") };
        let why = match one.why {
            WaitsFor::Allowance => "as many as a day allows have been announced (per_day)",
            WaitsFor::Pause => "announced too short a time ago (pause_minutes)",
            WaitsFor::Time => {
                let urls = count(one.urls, "URL", "URLs");
                return format!(
                    "  {urls} {wait}: a round has taken as long as it may (round_minutes). {} with the next idle-atlas announce\n",
                    if one.urls == 1 { "It goes" } else { "They go" }
                );
            }
        };
        let (urls, until) = (count(one.urls, "URL", "URLs"), instant(one.until, &layout.zone));
        format!("  {urls} {wait}: {why}. {next} at {until} or later\n")
    };
    all.iter().map(line).collect()
}

/// What is not announced yet because the live site does not serve it.
fn not_live(told: &EngineReport, report: &LiveReport, layout: &Layout) -> String {
    let (noun, nouns) = if told.of_files { ("file waits", "files wait") } else { ("URL waits", "URLs wait") };
    let mut out = String::new();
    if report.waiting > 0 {
        let waiting = count(report.waiting, noun, nouns);
        let since = match report.is_overdue {
            true => format!(" {WARN}For more than a day{WARN:#}, since {}.", instant(report.since, &layout.zone)),
            false => String::new(),
        };
        out += &format!("  {waiting} until the live site serves what was built.{since}\n");
    }
    if report.given_up > 0 {
        out += &format!("  {} given up after a day.\n", count(report.given_up, "URL is", "URLs are"));
    }
    for seen in &report.seen {
        out += &format!("    {} {}\n", layout.urls(&seen.address), seen.words);
    }
    if report.misses_key_file {
        out += "  The key file is written into the web root by: idle-atlas announce --key-file\n";
    }
    if report.waiting > 0 {
        out += &format!(
            "  {FAINT}Deploy, then look again: idle-atlas announce. Not to look: wait_until_live = false in its [[engine]]{FAINT:#}\n"
        );
    }
    out
}

/// What is said of an engine that was never told anything.
fn of_baseline(urls: u64) -> String {
    let (are, them) =
        if urls == 1 { ("1 URL is".to_owned(), "it") } else { (format!("{} URLs are", grouped(urls)), "them") };
    format!(
        "{are} the baseline, and only changes are announced from here on. To announce {them} once: idle-atlas announce --all\n"
    )
}

fn switched_off(name: &str) -> String {
    format!("{STRONG}{name}{STRONG:#}: {FAINT}switched off (on = false); what changes is kept for it{FAINT:#}\n")
}

/// What an engine that has given up being told is said to be.
const RETIRED: &str = "has given up being told in this way; it learns from robots.txt and from its console. Nothing is kept for it. \
                       Its [[engine]] table can go";

fn one(told: &EngineReport, layout: &Layout) -> String {
    let mut out = format!("{STRONG}{}{STRONG:#}: ", told.engine);
    let (noun, nouns) = if told.of_files { ("file", "files") } else { ("URL", "URLs") };
    let is_kept = |kept| format!("{} kept", count(kept, &format!("{noun} is"), &format!("{nouns} are")));
    if let Some(problem) = &told.problem {
        let kept = if told.kept > 0 { format!("  {} for it.\n", is_kept(told.kept)) } else { String::new() };
        return out + &format!("{WARN}not told{WARN:#}: {problem}\n{kept}");
    }
    if told.retired {
        let status = told.messages.last().and_then(|message| message.status);
        let answered = status.map(|status| format!(" It answers {status}.")).unwrap_or_default();
        return out + &format!("{FAINT}{RETIRED}.{answered}{FAINT:#}\n");
    }
    if let (Some(alone), true) = (told.left_alone, told.messages.is_empty()) {
        let (until, kept) = (instant(alone.until, &layout.zone), is_kept(told.kept));
        return out
            + &match alone.is_asked {
                true => format!("asked for no messages until {until}; {kept} until then.\n"),
                false => format!(
                    "did not answer, or failed, the last time; {kept}, and it is tried again after {until}. To try at once: idle-atlas announce --engine {}\n",
                    told.engine
                ),
            };
    }
    if let Some(report) = told.not_live.as_ref().filter(|_| told.messages.is_empty()) {
        return out + "nothing is announced yet.\n" + &not_live(told, report, layout);
    }
    if told.messages.is_empty() && !told.waiting.is_empty() {
        return out + "nothing to announce now.\n" + &waiting(&told.waiting, layout);
    }
    if told.messages.is_empty() {
        let known = told.baseline.map_or("it knows about every change.\n".to_owned(), of_baseline);
        return out + &format!("{GOOD}nothing to announce{GOOD:#}; {known}");
    }
    let parts = [
        (told.taken, "accepted"),
        (told.refused, "refused"),
        (told.kept, if told.by_hand { "not sent" } else { "kept for the next time" }),
    ];
    let parts: Vec<String> = parts
        .iter()
        .filter(|(number, _)| *number > 0)
        .map(|(number, word)| format!("{} {word}", grouped(*number)))
        .collect();
    let changes = told.changes;
    let kinds = [
        (changes.added, "added"),
        (changes.changed, "changed"),
        (changes.removed, "removed"),
        (changes.redirected, "redirected"),
    ];
    let kinds: Vec<String> = kinds
        .iter()
        .filter(|(number, _)| *number > 0)
        .map(|(number, word)| format!("{} {word}", grouped(*number)))
        .collect();
    let all = told.taken + told.refused + told.kept;
    out += &format!("{} to announce ({}); {}.\n", count(all, noun, nouns), kinds.join(", "), parts.join(", "));
    if !layout.brief {
        out.push('\n');
    }
    for message in &told.messages {
        let status = message.status.map_or("–".to_owned(), |status| status.to_string());
        let style = if message.outcome == "done" { GOOD } else { WARN };
        out += &format!("  {style}{status}{style:#}  {}: {}\n", count(message.urls, noun, nouns), message.words);
        let examples = message.examples.len().min(layout.shown(usize::MAX));
        for url in message.examples.iter().take(examples) {
            out += &format!("       {}\n", layout.urls(url));
        }
        let more = message.urls.saturating_sub(examples as u64);
        if more > 0 {
            out += &format!("       and {} more\n", grouped(more));
        }
    }
    out += &waiting(&told.waiting, layout);
    if let Some(report) = &told.not_live {
        out += &not_live(told, report, layout);
    }
    if told.kept > 0 && told.by_hand {
        out += "\nWhat was chosen by hand is not kept: give the command again.\n";
    } else if told.kept > 0 {
        let when =
            told.left_alone.map_or(String::new(), |alone| format!(" after {}", instant(alone.until, &layout.zone)));
        out += &format!("\nNothing is lost: the next idle-atlas announce{when} sends what is kept.\n");
        let misses_key = |message: &Announced| told.via == "indexnow" && message.status == Some(KEY_NOT_FOUND);
        if told.messages.iter().any(misses_key) {
            out += &layout.next("idle-atlas announce --key-file, then idle-atlas announce");
        }
    } else if told.via == "indexnow" && told.refused == 0 && told.changes.added == all && !layout.brief {
        out += &format!(
            "\n{FAINT}Not every engine takes part in IndexNow; the largest learns from robots.txt and its own console.{FAINT:#}\n"
        );
    }
    out
}

/// The text of `announce --dry-run`.
pub fn plans(plans: &[AnnouncePlan], off: &[&str], layout: &Layout) -> String {
    let shown = layout.shown(10);
    let mut out = layout.host();
    for (nth, plan) in plans.iter().enumerate() {
        out += if nth > 0 { "\n" } else { "" };
        if plan.retired {
            out += &format!("{STRONG}{}{STRONG:#}: {FAINT}{RETIRED}.{FAINT:#}\n", plan.engine);
            continue;
        }
        if plan.tell.is_empty() {
            let known = plan.baseline.map_or(".\n".to_owned(), |baseline| format!("; {}", of_baseline(baseline)));
            out += &format!("{STRONG}{}{STRONG:#}: nothing to announce{known}", plan.engine);
            continue;
        }
        let when = plan.left_alone.map_or(String::new(), |alone| {
            let why = if alone.is_asked { "it asked for no messages until then" } else { "it failed the last time" };
            format!(", but not before {}: {why}", instant(alone.until, &layout.zone))
        });
        out += &format!(
            "{STRONG}{}{STRONG:#}: would be told of {}{when}\n",
            plan.engine,
            match plan.of_files {
                true => count(plan.urls, "file", "files"),
                false => count(plan.urls, "URL", "URLs"),
            }
        );
        if !plan.has_key {
            out += &format!("  {WARN}It has no key yet:{WARN:#} idle-atlas announce --key-file makes one\n");
        }
        for one in plan.tell.iter().take(shown) {
            let sign = match one.change {
                Change::Added => "+",
                Change::Changed => "~",
                Change::Removed => "−",
                Change::Redirected => "→",
            };
            out += &format!("  {sign} {}\n", layout.urls(&one.url));
        }
        let listed = plan.tell.len().min(shown) as u64;
        if plan.urls > listed {
            out += &format!("  and {} more: --verbose\n", grouped(plan.urls - listed));
        }
        out += &waiting(&plan.waiting, layout);
    }
    off.iter().for_each(|name| out += &switched_off(name));
    let next = match (plans.iter().any(|plan| !plan.has_key), plans.iter().any(|plan| !plan.tell.is_empty())) {
        (true, _) => layout.next("idle-atlas announce --key-file"),
        (false, true) => layout.next("idle-atlas announce"),
        (false, false) => String::new(),
    };
    out + &format!("\n{FAINT}Nothing was announced.{FAINT:#}\n{next}")
}

/// The text of `announce --key-file`.
pub fn key_files(files: &[KeyFile], former: Option<&str>, next: &str, layout: &Layout) -> String {
    let mut out = String::new();
    for file in files {
        let word = if file.written { "Wrote" } else { "There already:" };
        out += &format!("{word} the key file for {}: {}\n", file.engine, file.path);
        out += &format!("Engines must find it at {STRONG}{}{STRONG:#}: publish the web root.\n", file.address);
    }
    if let Some(former) = former {
        out += &format!("{former} stays for two weeks after the renewal, and is used until the new one is live.\n");
    }
    out + "\n" + &layout.next(next)
}
