//! The output of `why`.

use atlas_core::address::shown;
use atlas_core::choose::Reason;
use atlas_core::choose::{Step, Verdict};
use atlas_core::contribution::Contribution;
use atlas_core::entry::DatePolicy;
use atlas_core::language::Alternate;
use atlas_core::lastmod::Lastmod;
use atlas_store::build::Explained;
use atlas_store::model::{Announced, NEVER};
use serde::Serialize;

use super::grid::Grid;
use crate::config::Settings;
use crate::screen::{BAD, FAINT, GOOD, Layout, STRONG, instant};

/// Everything that is known about one URL.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct UrlReport {
    pub url: String,
    pub decision: Option<Decision>,
    pub sources: Vec<SourceWord>,
    pub fields: Vec<Winner>,
    pub lastmod: Option<Lastmod>,
    pub lastmod_from: &'static str,
    pub file: Option<String>,
    pub other_files: Vec<String>,
    pub alternates: Vec<Alternate<'static>>,
    pub structured_data: StructuredData,
    pub content_changed: Option<Lastmod>,
    pub changed_in_run: Option<u32>,
    pub announcements: Vec<Announced>,
    /// Similar URLs, if no source knows this one.
    pub nearest: Vec<String>,
}

/// The decision, and the reasons for it.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct Decision {
    pub kept: bool,
    pub section: Option<String>,
    pub date_policy: DatePolicy,
    pub reason: Option<&'static str>,
    pub words: Option<&'static str>,
    pub steps: Vec<Step>,
}

/// The value of a field, and the source it comes from. A list has one for each item.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct Winner {
    pub field: &'static str,
    pub value: String,
    pub source: String,
}

/// Structured data for the videos of a page.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct StructuredData {
    /// Whether the page has a `VideoObject` of its own.
    pub on_the_page: bool,
    /// How that could be improved.
    pub differences: Vec<String>,
    /// The structured data for its templates to include.
    pub objects: Vec<serde_json::Value>,
}

impl StructuredData {
    fn new(explained: &Explained) -> Self {
        Self {
            on_the_page: explained.merged.as_ref().is_some_and(|said| !said.stated_videos.is_empty()),
            differences: explained.structured_differences.clone(),
            objects: explained.structured.as_ref().map(|one| one.objects.clone()).unwrap_or_default(),
        }
    }

    fn text(&self) -> String {
        match (self.on_the_page, &self.differences[..], &self.objects[..]) {
            (true, [], _) => "  VideoObject on the page, as it should be\n".to_owned(),
            (true, differences, _) => format!("  VideoObject on the page; {}\n", differences.join("; ")),
            (false, _, []) => String::new(),
            (false, ..) => {
                "  VideoObject not on the page; to include: idle-atlas why URL --structured-data\n".to_owned()
            }
        }
    }
}

/// What one source says.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct SourceWord {
    pub source: String,
    #[serde(flatten)]
    pub said: Contribution<'static>,
}

impl UrlReport {
    pub fn new(settings: &Settings, url: &str, explained: Explained, announcements: Vec<Announced>) -> Self {
        let structured_data = StructuredData::new(&explained);
        let mut files = explained.files.iter().map(|name| format!("{}{name}", settings.folder_address()));
        let decision = explained.verdict.map(|(verdict, steps)| match verdict {
            Verdict::Kept(kept) => {
                let section = explained.section.clone();
                Decision { kept: true, section, date_policy: kept.date_policy, reason: None, words: None, steps }
            }
            Verdict::LeftOut(reason) => {
                let (code, words) = (Some(reason.code()), Some(reason.words()));
                let date_policy = DatePolicy::Usual;
                Decision { kept: false, section: None, date_policy, reason: code, words, steps }
            }
        });
        let merged = explained.merged.as_ref();
        let observed = explained.remembered.map(|entry| entry.observed).filter(|day| *day != NEVER);
        let seen = observed.and_then(Lastmod::from_epoch_day);
        let policy = decision.as_ref().map_or(DatePolicy::Usual, |decision| decision.date_policy);
        let declared = merged.is_some_and(|said| said.modified.is_some()) && policy != DatePolicy::Seen;
        let lastmod_from = match explained.lastmod {
            None if policy == DatePolicy::None => "no date is written: date_policy",
            None if policy == DatePolicy::Declared => "no date is declared, and no other is written: date_policy",
            None if declared => "the declared date is in the future or before 1990",
            None => "no date is declared, and no change to its content has been seen yet",
            Some(_) if merged.is_some_and(|said| said.archive.is_some()) => "derived from its entries",
            Some(_) if declared => "declared by the page or source",
            date if date == seen => "the day on which its content was seen to change",
            Some(_) => "its publication date; no later change has been seen",
        };
        let winner = |(field, value): (&'static str, String)| {
            let says = |(_, said): &&(String, Contribution<'static>)| said.words().contains(&(field, value.clone()));
            let source = explained.said.iter().find(says).map_or(String::new(), |(source, _)| source.clone());
            Winner { field, value, source }
        };
        let fields = merged.map_or_else(Vec::new, |merged| merged.words().into_iter().map(winner).collect());
        Self {
            url: shown(url).into_owned(),
            fields,
            decision,
            sources: explained.said.iter().cloned().map(|(source, said)| SourceWord { source, said }).collect(),
            lastmod: explained.lastmod,
            lastmod_from,
            file: files.next(),
            other_files: files.collect(),
            structured_data,
            alternates: explained.alternates,
            content_changed: seen,
            changed_in_run: explained.remembered.map(|entry| entry.changed),
            announcements,
            nearest: explained.nearest,
        }
    }

    /// Whether any source knows it.
    pub fn is_known(&self) -> bool {
        !self.sources.is_empty()
    }
}

/// The text of `why`.
pub fn why(answer: &UrlReport, layout: &Layout) -> String {
    let mut out = format!("{STRONG}{}{STRONG:#}\n\n", answer.url);
    let Some(decision) = &answer.decision else {
        let remembered = match &answer.file {
            Some(file) => format!(" It is in {file} as of the last build, and will be removed by the next.\n"),
            None => String::new(),
        };
        out += &format!("No source knows this URL.{remembered}\n");
        if answer.nearest.is_empty() {
            return out + &format!("{FAINT}To see what is known: idle-atlas survey --list{FAINT:#}\n");
        }
        out += match &answer.nearest[..] {
            [_] => "A similar URL:\n",
            _ => "Similar URLs:\n",
        };
        for url in &answer.nearest {
            out += &format!("  {url}{}\n", difference(&answer.url, url));
        }
        return out;
    };
    out += &match &decision.section {
        Some(section) => format!("  {GOOD}listed{GOOD:#}, in section {section}\n"),
        None => {
            let (reason, words) = (decision.reason.unwrap_or(""), decision.words.unwrap_or(""));
            let advice = Reason::named(reason).map_or("", Reason::advice);
            format!("  {BAD}left out{BAD:#}: {reason} ({words})\n  what to do  {advice}\n")
        }
    };
    if decision.kept {
        let lastmod = answer.lastmod.map_or("–".to_owned(), |date| date.to_string());
        out += &format!("  lastmod     {lastmod} ({})\n", answer.lastmod_from);
    }
    let until = if decision.kept { "" } else { ", until the next build" };
    for (at, file) in answer.file.iter().chain(&answer.other_files).enumerate() {
        out += &format!("  {:<11} {file}{until}\n", if at == 0 { "file" } else { "" });
    }
    if answer.file.is_none() && decision.kept {
        out += "  file        none yet: the next build lists it\n";
    }
    for (at, one) in answer.alternates.iter().enumerate() {
        out += &format!("  {:<11} {:<9} {}\n", if at == 0 { "languages" } else { "" }, one.language, one.url);
    }
    out += &answer.structured_data.text();
    if let Some(day) = answer.content_changed {
        out += &format!("  content     seen to change on {day}\n");
    }
    if let Some(run) = answer.changed_in_run {
        let baseline = if run == 1 { ", the baseline" } else { "" };
        out += &format!("  changed     last in run {run}{baseline}\n");
    }

    out += "\nSteps, in order\n";
    let width = decision.steps.iter().map(|step| step.question.len()).max().unwrap_or(0);
    for step in &decision.steps {
        let mark = if step.decisive { "→" } else { " " };
        out += &format!("{mark} {:<width$}  {}\n", step.question, step.answer);
    }
    match &answer.sources[..] {
        [only] => out += &format!("\nFrom {}\n{}", only.source, said(&only.said)),
        several => {
            out += "\nFields and their sources\n";
            out += &fields(answer, layout);
            for word in several {
                out += &format!("\nFrom {}\n{}", word.source, said(&word.said));
            }
        }
    }
    for one in &answer.announcements {
        out += &format!("\nAnnounced to {} on {}: {}\n", one.engine, instant(one.at, &layout.zone), one.words);
    }
    out
}

/// How two spellings of a URL differ, if a word can say it.
fn difference(asked: &str, known: &str) -> String {
    let scheme = |url: &str| url.split_once("://").map_or("", |(scheme, _)| scheme).to_owned();
    let bare = |url: &str| url.split_once("://").map_or(url, |(_, rest)| rest).to_owned();
    let host = |url: &str| bare(url).split('/').next().unwrap_or("").to_owned();
    let path = |url: &str| bare(url).split_once('/').map_or(String::new(), |(_, path)| path.to_owned());
    let without = |path: &str| path.trim_end_matches('/').to_owned();
    let mut words = Vec::new();
    if scheme(asked) != scheme(known) {
        words.push(format!("with {}", scheme(known)));
    }
    if host(asked) != host(known) {
        words.push(format!("on {}", host(known)));
    }
    match (path(asked), path(known)) {
        (one, other) if one == other => {}
        (one, other) if without(&one) == without(&other) => {
            words.push(if other.ends_with('/') { "with a slash at the end" } else { "without the slash" }.to_owned());
        }
        (one, other) if without(&one).to_lowercase() == without(&other).to_lowercase() => {
            words.push("with different capitals".to_owned());
        }
        _ => {}
    }
    if words.is_empty() { String::new() } else { format!("  ({})", words.join(", ")) }
}

/// Each field with its value and the source of that value; lists have one line per item.
fn fields(answer: &UrlReport, layout: &Layout) -> String {
    let mut grid = Grid::new(&["field", "source", "value"]);
    for Winner { field, value, source } in &answer.fields {
        grid.row([field.replace('_', " "), source.clone(), value.clone()]);
    }
    grid.text(layout)
}

fn said(said: &Contribution<'_>) -> String {
    let words = said.words();
    if words.is_empty() {
        return "  its URL, and nothing else\n".to_owned();
    }
    let mut out = String::new();
    for group in words.chunk_by(|one, other| one.0 == other.0) {
        let more = match group.len() {
            1 => String::new(),
            length => format!(" and {} more", length - 1),
        };
        out += &format!("  {:<15} {}{more}\n", group[0].0.replace('_', " "), group[0].1);
    }
    out
}
