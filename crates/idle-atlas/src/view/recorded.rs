//! The output of `why` from the ledger: what the last build recorded.

use atlas_core::address::{self, shown};
use atlas_core::announce::Change;
use atlas_core::language::Alternate;
use atlas_core::lastmod::Lastmod;
use atlas_store::build::{Recorded, RecordedState};
use atlas_store::model::{Announced, NEVER, RunRow};
use atlas_store::uptake::PageUptake;
use serde::Serialize;

use crate::config::Settings;
use crate::screen::{BAD, FAINT, GOOD, Layout, STRONG, count, cut, instant};

/// How many pictures or videos are listed before the others are only counted.
const MOST_MEDIA: usize = 5;
/// How many headings are listed.
const MOST_HEADINGS: usize = 12;
/// The longest heading that is shown whole.
const LONGEST_HEADING: usize = 60;

/// The longest path that is repeated in a command line to copy.
const LONGEST_REPEATED: usize = 60;

/// What the ledger knows of one URL.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct RecordedReport {
    pub url: String,
    /// The build that recorded it.
    pub as_of: RunRow,
    pub decision: Option<RecordedDecision>,
    pub sources: Vec<String>,
    pub file: Option<String>,
    pub other_files: Vec<String>,
    pub lastmod: Option<String>,
    pub changefreq: Option<String>,
    pub priority: Option<String>,
    pub images: Vec<String>,
    pub videos: Vec<String>,
    pub alternates: Vec<Alternate<'static>>,
    pub content_changed: Option<Lastmod>,
    pub page: Option<PageSeen>,
    /// What engines did with it, if logs or exports tell.
    pub uptake: Option<PageUptake>,
    pub changed_in_run: Option<u32>,
    /// Whether engines are told of it.
    pub announce: bool,
    /// The run in which it left, if it was listed once.
    pub left_in_run: Option<i64>,
    /// The section that it was in then.
    pub left_section: Option<String>,
    /// The title that it had then, if a source remembered its page.
    pub title: Option<String>,
    pub change: Option<Change>,
    pub announcements: Vec<Announced>,
    /// Listed URLs that differ from this one only in spelling, if no source named it.
    pub nearest: Vec<String>,
}

/// What the page itself is like, as its source last read it.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct PageSeen {
    /// The words of its content.
    pub words: u32,
    /// Its headings, each with its level.
    pub outline: Vec<(u8, String)>,
    /// The pages that link to it.
    pub linked_from: Vec<String>,
}

/// The decision of the last build.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct RecordedDecision {
    pub kept: bool,
    pub section: Option<String>,
    pub reason: Option<&'static str>,
    pub words: Option<&'static str>,
}

impl RecordedReport {
    pub fn new(settings: &Settings, url: &str, recorded: Recorded, announcements: Vec<Announced>) -> Self {
        let mut report = Self {
            url: shown(url).into_owned(),
            as_of: recorded.run,
            decision: None,
            sources: Vec::new(),
            file: None,
            other_files: Vec::new(),
            lastmod: None,
            changefreq: None,
            priority: None,
            images: Vec::new(),
            videos: Vec::new(),
            alternates: Vec::new(),
            content_changed: None,
            page: None,
            uptake: None,
            changed_in_run: None,
            announce: true,
            left_in_run: None,
            left_section: None,
            title: None,
            change: None,
            announcements,
            nearest: recorded.nearest,
        };
        match recorded.state {
            RecordedState::Listed(listed) => {
                let mut files = listed.files.iter().map(|name| format!("{}{name}", settings.folder_address()));
                (report.file, report.other_files) = (files.next(), files.collect());
                let section = Some(listed.section);
                report.decision = Some(RecordedDecision { kept: true, section, reason: None, words: None });
                report.sources = listed.sources;
                report.lastmod = listed.written.lastmod.map(Into::into);
                report.changefreq = listed.written.changefreq.map(Into::into);
                report.priority = listed.written.priority.map(Into::into);
                report.images = listed.written.images.into_iter().map(Into::into).collect();
                report.videos = listed.written.videos.iter().filter_map(|video| video.to_video().title).collect();
                report.alternates = listed.written.alternates;
                let observed = Some(listed.remembered.observed).filter(|day| *day != NEVER);
                report.content_changed = observed.and_then(Lastmod::from_epoch_day);
                report.changed_in_run = Some(listed.remembered.changed);
                report.announce = !listed.remembered.untold;
            }
            RecordedState::LeftOut(reason) => {
                let (reason, words) = (Some(reason.code()), Some(reason.words()));
                report.decision = Some(RecordedDecision { kept: false, section: None, reason, words });
            }
            RecordedState::Gone(run, gone) => {
                (report.left_in_run, report.left_section) = (Some(run), Some(gone.section));
                (report.title, report.change) = (gone.title, gone.change);
            }
            RecordedState::Unknown => {}
        }
        report
    }

    /// Whether any source named it.
    pub fn is_known(&self) -> bool {
        self.decision.is_some()
    }
}

/// The text.
pub fn recorded(answer: &RecordedReport, layout: &Layout) -> String {
    let mut out = format!("{STRONG}{}{STRONG:#}\n\n", answer.url);
    out += &match &answer.decision {
        Some(RecordedDecision { section: Some(section), .. }) => {
            format!("  {GOOD}listed{GOOD:#}, in section {section}\n")
        }
        Some(RecordedDecision { reason, words, .. }) => {
            format!("  {BAD}left out{BAD:#}: {} ({})\n", reason.unwrap_or_default(), words.unwrap_or_default())
        }
        None => match answer.left_in_run {
            Some(run) => {
                let section = answer.left_section.as_deref().unwrap_or_default();
                let why = match answer.change {
                    Some(Change::Redirected) => "it redirects elsewhere",
                    Some(_) => "no source named it any more, or its page is gone",
                    None => "its source is no longer configured, or engines are told nothing of it",
                };
                let title = answer.title.as_ref().map(|title| format!("  title       {title}\n")).unwrap_or_default();
                format!("  left section {section} in run {run}: {why}\n{title}")
            }
            None => "  No source named this URL.\n".to_owned(),
        },
    };
    let mut line = |name: &str, value: &str| out += &format!("  {name:<11} {value}\n");
    if answer.file.is_some() {
        line("lastmod", answer.lastmod.as_deref().unwrap_or("–"));
    }
    let hints = [("changefreq", &answer.changefreq), ("priority", &answer.priority)];
    hints
        .into_iter()
        .filter_map(|(name, value)| Some((name, value.as_deref()?)))
        .for_each(|(name, value)| line(name, value));
    let mut list = |name: &str, values: &[String]| {
        values.iter().enumerate().for_each(|(at, value)| line(if at == 0 { name } else { "" }, value));
    };
    let files: Vec<String> = answer.file.iter().chain(&answer.other_files).cloned().collect();
    list("file", &files);
    list(if answer.sources.len() == 1 { "source" } else { "sources" }, &answer.sources);
    list("pictures", &some(&answer.images, MOST_MEDIA));
    list("videos", &some(&answer.videos, MOST_MEDIA));
    let languages: Vec<String> =
        answer.alternates.iter().map(|one| format!("{:<9} {}", one.language, one.url)).collect();
    list("languages", &languages);
    if let Some(page) = &answer.page {
        let words = count(u64::from(page.words), "word", "words");
        let outline = page.outline.iter().map(|(level, text)| {
            format!("{}{}", "  ".repeat(usize::from(level.saturating_sub(1))), cut(text, LONGEST_HEADING))
        });
        list("page", &[words]);
        list("outline", &some(&outline.collect::<Vec<_>>(), MOST_HEADINGS));
        let from = match &page.linked_from[..] {
            [] => vec!["no page of the site".to_owned()],
            pages => some(pages, MOST_MEDIA),
        };
        list("linked from", &from);
    }
    if let Some(day) = answer.content_changed {
        line("content", &format!("seen to change on {day}"));
    }
    if let Some(run) = answer.changed_in_run {
        let baseline = if run == 1 { ", the baseline" } else { "" };
        line("changed", &format!("last in run {run}{baseline}"));
    }
    if !answer.announce {
        line("announce", "no: it is listed, and engines are told nothing of it");
    }
    if let Some(uptake) = &answer.uptake {
        out += &super::uptake::pages::of_page(uptake, layout);
    }
    for one in &answer.announcements {
        out += &format!("\nAnnounced to {} on {}: {}\n", one.engine, instant(one.at, &layout.zone), one.words);
    }
    if !answer.nearest.is_empty() {
        out += match &answer.nearest[..] {
            [_] => "\nA similar URL is listed:\n",
            _ => "\nSimilar URLs are listed:\n",
        };
        answer.nearest.iter().for_each(|url| out += &format!("  {url}\n"));
    }
    let RunRow { run, at, .. } = &answer.as_of;
    let path = address::path(&answer.url);
    let asked = if path.len() > LONGEST_REPEATED { "URL" } else { path };
    out + &format!(
        "\n{FAINT}As of run {run}, {}. To ask the sources now, and see each step: idle-atlas why {asked} --fresh{FAINT:#}\n",
        instant(*at, &layout.zone)
    )
}

/// The first of several values, and how many more there are.
fn some(values: &[String], most: usize) -> Vec<String> {
    let mut shown: Vec<String> = values.iter().take(most).cloned().collect();
    if values.len() > most {
        shown.push(format!("and {} more", values.len() - most));
    }
    shown
}
