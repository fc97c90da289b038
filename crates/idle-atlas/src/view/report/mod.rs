//! The report: the state of the whole site on one HTML page that needs no network and no script.

mod plot;
mod parts;
mod uptake;
mod several;

use std::path::Path;

use atlas_core::report::Severity;
use atlas_store::consoles::ConsoleFiles;
use atlas_store::model::Announced;
use atlas_store::site_state::SiteState;
use atlas_store::uptake::Overview;
use jiff::tz::TimeZone;
use serde::Serialize;

use self::parts::{Cell, Headings, link, table, text};
pub use self::several::{SitePart, page_of_several};
use super::history::Health;
use super::uptake::headline;
use crate::screen::{Layout, count, grouped, instant, size};

/// How many sitemap files are shown.
const MOST_FILES: usize = 1_000;

const STYLE: &str = include_str!("page.css");

/// The state of the whole site.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct SiteReport {
    /// The URL of the site.
    pub site: String,
    /// The instant of the report, in seconds since 1970.
    #[serde(serialize_with = "atlas_core::rfc3339::seconds")]
    #[schemars(with = "String")]
    pub at: i64,
    /// What to do next, in order of worth.
    pub next: Vec<NextStep>,
    /// The different pictures that are listed.
    pub images: u64,
    /// The different videos that are listed.
    pub videos: u64,
    pub health: Health,
    pub state: SiteState,
    /// What is wrong with the sitemap files, by kind.
    pub findings: Vec<FindingCount>,
    /// The last announcements.
    pub announcements: Vec<Announced>,
    /// The address of the main file.
    pub main: String,
    /// Sitemap files to submit and to remove, by console.
    pub consoles: Vec<ConsoleFiles>,
    /// What engines took, if logs or exports tell.
    pub uptake: Option<Overview>,
    /// The exports, and when to look again.
    pub exports: Vec<ExportAge>,
}

impl SiteReport {
    /// The number of errors in the sitemap files.
    pub fn errors(&self) -> u64 {
        self.findings.iter().filter(|one| one.severity == Severity::Error).map(|one| one.count).sum()
    }
}

/// One thing to do.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct NextStep {
    /// What, in a sentence.
    pub what: String,
    /// Why it is worth it.
    pub why: String,
    /// The command that does it or tells more.
    pub command: String,
}

/// Findings of one kind.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct FindingCount {
    pub code: String,
    pub severity: Severity,
    pub what: String,
    pub mend: String,
    pub count: u64,
}

/// An export, and when the next is worth taking.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct ExportAge {
    pub engine: String,
    pub of: &'static str,
    #[serde(serialize_with = "atlas_core::rfc3339::seconds")]
    #[schemars(with = "String")]
    pub at: i64,
    /// Its age in days.
    pub days: i64,
    /// When to look again.
    #[serde(serialize_with = "atlas_core::rfc3339::seconds")]
    #[schemars(with = "String")]
    pub again: i64,
}

/// The page of one site.
pub fn page(report: &SiteReport, zone: &TimeZone) -> String {
    let page = ReportPage { report, zone, headings: Headings::alone() };
    let (head, parts) = (page.head(), page.parts());
    document(&report.site, &format!("{head}<main>\n{parts}</main>\n"), &instant(report.at, zone))
}

/// A whole document about this, which is made at this time.
pub(super) fn document(about: &str, body: &str, at: &str) -> String {
    format!(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<meta name=\"robots\" content=\"noindex\">\n<title>The state of {}</title>\n<style>\n{STYLE}</style>\n</head>\n<body>\n{body}\n<footer><p>Made by idle-atlas report on {at}. It needs no network and no script.</p></footer>\n</body>\n</html>\n",
        text(about)
    )
}

pub(super) struct ReportPage<'r> {
    pub(super) report: &'r SiteReport,
    pub(super) zone: &'r TimeZone,
    pub(super) headings: Headings,
}

impl ReportPage<'_> {
    /// All parts.
    pub(super) fn parts(&self) -> String {
        let took = uptake::part(self.report, self.zone, &self.headings);
        let parts = [self.next(), self.listed(), self.runs(), took, self.findings(), self.told(), self.files()];
        parts.concat()
    }

    fn at(&self, seconds: i64) -> String {
        instant(seconds, self.zone)
    }

    pub(super) fn day(&self, seconds: i64) -> String {
        self.at(seconds).chars().take(10).collect()
    }

    /// Words and numbers for somebody who has never heard of a sitemap.
    pub(super) fn head(&self) -> String {
        let report = self.report;
        let (state, sections) = (&report.state, &report.state.sections);
        let sum = |part: fn(&atlas_store::site_state::SectionState) -> u64| sections.iter().map(part).sum::<u64>();
        let (pages, images, videos) = (sum(|one| one.pages), report.images, report.videos);
        let mut media = Vec::new();
        media.extend((images > 0).then(|| count(images, "picture", "pictures")));
        media.extend((videos > 0).then(|| count(videos, "video", "videos")));
        let media = if media.is_empty() { String::new() } else { format!(", with {}", media.join(" and ")) };
        let all_well = match report.next.len() {
            0 => "<strong class=\"good\">Everything is in order.</strong> There is nothing to do.".to_owned(),
            number => format!(
                "<strong>{} to do</strong>; the most worthwhile comes first.",
                count(number as u64, "thing", "things")
            ),
        };
        let mut out = format!(
            "<header>\n{}\n<p class=\"faint\">{}</p>\n<p class=\"lead\">The site tells search engines about {}{media}. {all_well}</p>\n<p class=\"faint\">A site keeps a list of its pages for search engines, called a sitemap, so that they find what is new without looking everywhere. This page shows what is on the list, whether engines can read it, and what they have done with it.</p>\n",
            self.headings.site(&format!("The state of {}", link(&report.site, &report.site))),
            text(&self.at(report.at)),
            count(pages, "page", "pages")
        );
        let tile =
            |number: &str, words: &str, class: &str| format!("<li><b class=\"{class}\">{number}</b>{words}</li>");
        let mut tiles = tile(&grouped(pages), if pages == 1 { "page listed" } else { "pages listed" }, "");
        if let Some(uptake) = &report.uptake {
            let totals = &uptake.totals;
            if let Some(picked_up) = totals.picked_up {
                tiles += &tile(&grouped(picked_up), "picked up by an engine", "good");
                let not = totals.not_picked_up.unwrap_or(0);
                tiles +=
                    &tile(&grouped(not), "not picked up, though there was time", if not > 0 { "warn" } else { "" });
            }
            if let Some(fetched) = totals.fetched {
                tiles += &tile(&grouped(fetched), "visited by their crawlers", "");
            }
        }
        let last = state.runs.last();
        tiles += &last.map_or(String::new(), |run| tile(&self.day(run.at), "last brought up to date", ""));
        let number =
            |severity| report.findings.iter().filter(|one| one.severity == severity).map(|one| one.count).sum();
        let (errors, warnings): (u64, u64) = (number(Severity::Error), number(Severity::Warning));
        tiles += &match (errors, warnings) {
            (0, 0) => tile("none", "nothing is wrong with the files", "good"),
            (0, warnings) => tile(
                &grouped(warnings),
                if warnings == 1 { "warning about the files" } else { "warnings about the files" },
                "warn",
            ),
            (errors, _) => {
                tile(&grouped(errors), if errors == 1 { "error in the files" } else { "errors in the files" }, "bad")
            }
        };
        out += &format!("<ul class=\"tiles\">{tiles}</ul>\n</header>\n");
        let mut parts = vec![("next", "What to do"), ("listed", "What is listed"), ("runs", "What came and went")];
        if report.uptake.is_some() {
            parts.push(("uptake", "What engines took"));
        }
        parts.extend([("findings", "Can engines read it"), ("told", "Who was told"), ("files", "Sitemap files")]);
        let anchor = |id: &str| self.headings.anchor(id);
        let links: String =
            parts.iter().map(|(id, name)| format!("<li><a href=\"#{}\">{name}</a></li>", anchor(id))).collect();
        out + &format!("<nav aria-label=\"Parts\"><ul>{links}</ul></nav>\n")
    }

    fn next(&self) -> String {
        let mut out = self.headings.part("next", "What to do next");
        if self.report.next.is_empty() {
            return out + "<p>Nothing. Look again after the next change to the site.</p></section>\n";
        }
        let items = self.report.next.iter().map(|step| {
            format!(
                "<li><strong>{}</strong> {}<br><code>{}</code></li>",
                text(&step.what),
                text(&step.why),
                text(&step.command)
            )
        });
        out += &format!("<ol class=\"next\">{}</ol></section>\n", items.collect::<String>());
        out
    }

    fn listed(&self) -> String {
        let state = &self.report.state;
        let rows = state.sections.iter().map(|one| {
            vec![
                Cell::words(&one.section),
                Cell::number(one.pages),
                Cell::number(one.images),
                Cell::number(one.videos),
                Cell::number(one.files),
                Cell::words(
                    one.newest.map_or("–".to_owned(), |date| date.to_string().chars().take(10).collect::<String>()),
                ),
            ]
        });
        let sections = table(&["section", "#pages", "#pictures", "#videos", "#files", "newest page"], rows);
        let all: u64 = state.ages.iter().map(|age| age.pages).sum::<u64>() + state.undated;
        let mut ages: Vec<(String, u64)> = state.ages.iter().map(|age| (age_of(age.under_days), age.pages)).collect();
        if state.undated > 0 {
            ages.push(("no date".to_owned(), state.undated));
        }
        let rows = ages.iter().map(|(name, pages)| {
            let bar = plot::shares(
                &format!("{name}: {} of {}", grouped(*pages), grouped(all)),
                &[("", "taken", *pages), ("", "unknown", all - pages)],
            );
            vec![Cell::words(name), Cell::number(*pages), Cell::html(bar)]
        });
        let ages = table(&["dated", "#pages", "share"], rows);
        format!(
            "{}{sections}\n{}\n<p class=\"faint\">By the dates that the pages declare, or on which their content was seen to change.</p>\n{ages}</section>\n",
            self.headings.part("listed", "What is listed"),
            self.headings.within("How old the content is"),
        )
    }

    fn runs(&self) -> String {
        let runs = &self.report.state.runs;
        let (Some(first), Some(last)) = (runs.first(), runs.last()) else { return String::new() };
        let days = (self.day(first.at), self.day(last.at));
        let days = (days.0.as_str(), days.1.as_str());
        let points: Vec<(i64, u64)> = runs.iter().map(|run| (run.at, run.counts.entries)).collect();
        let times: Vec<i64> = runs.iter().map(|run| run.at).collect();
        // The first build brings everything; beside it nothing else would be seen.
        let after = usize::from(runs.len() > 1 && first.run == 1);
        let values = |part: fn(&atlas_store::model::RunCounts) -> u64| {
            runs[after..].iter().map(|run| part(&run.counts)).collect::<Vec<u64>>()
        };
        let series = [
            plot::Series { name: "added", class: "added", values: values(|counts| counts.added) },
            plot::Series { name: "changed", class: "changed", values: values(|counts| counts.changed) },
            plot::Series { name: "removed", class: "removed", values: values(|counts| counts.removed) },
        ];
        let entries = count(last.counts.entries, "entry", "entries");
        let label = format!(
            "From {} to {}, ending with {entries}",
            grouped(first.counts.entries),
            grouped(last.counts.entries)
        );
        let sum = |part: &plot::Series<'_>| grouped(part.values.iter().sum());
        let changes = format!("{} added, {} changed, {} removed", sum(&series[0]), sum(&series[1]), sum(&series[2]));
        let rows = runs.iter().rev().take(60).map(|run| {
            vec![
                Cell::words(run.run.to_string()),
                Cell::words(self.at(run.at)),
                Cell::number(run.counts.entries),
                Cell::number(run.counts.added),
                Cell::number(run.counts.changed),
                Cell::number(run.counts.removed),
                Cell::number(run.counts.files_written),
            ]
        });
        let rows = table(&["run", "when", "#entries", "#added", "#changed", "#removed", "#files written"], rows);
        format!(
            "{}<figure><figcaption>Listed entries over time</figcaption>{}</figure>\n<figure><figcaption>URLs that came, changed and went{}</figcaption>{}</figure>\n<details><summary>The last {} as a table</summary>{rows}</details></section>\n",
            self.headings.part("runs", "What came and went"),
            plot::steps(&label, &points, "entries", days),
            if after > 0 { ", after the first build" } else { "" },
            plot::bars(&changes, &times[after..], &series, "URLs", days),
            count(runs.len().min(60) as u64, "build", "builds"),
        )
    }

    fn findings(&self) -> String {
        let findings = &self.report.findings;
        let head = self.headings.part("findings", "Can engines read it?");
        if findings.is_empty() {
            return format!(
                "{head}<p><strong class=\"good\">Yes.</strong> Nothing is wrong with the sitemap files.</p></section>\n"
            );
        }
        let rows = findings.iter().map(|one| {
            let class = match one.severity {
                Severity::Error => "bad",
                Severity::Warning => "warn",
                Severity::Advice => "faint",
            };
            let severity = format!("<span class=\"{class}\">{}</span>", one.severity);
            vec![
                Cell::html(severity),
                Cell::number(one.count),
                Cell::html(format!("{}<br><span class=\"faint\">{}</span>", text(&one.what), text(&one.mend))),
                Cell::html(format!("<code>{}</code>", text(&one.code))),
            ]
        });
        format!("{head}{}</section>\n", table(&["", "#places", "what", "code"], rows))
    }

    fn told(&self) -> String {
        let report = self.report;
        let mut out = self.headings.part("told", "Who was told");
        if report.health.engines.is_empty() {
            out += "<p>No engine is told of changes. Engines find the sitemap through robots.txt, or because it was submitted in their consoles.</p>\n";
        } else {
            let rows = report.health.engines.iter().map(|engine| {
                let state = match (engine.on, engine.retired, engine.waiting) {
                    (false, ..) => "switched off".to_owned(),
                    (_, true, _) => "has given up being told".to_owned(),
                    (_, _, 0) => "knows about every change".to_owned(),
                    (_, _, waiting) => count(waiting, "announcement waits", "announcements wait"),
                };
                let last = engine.last_success.map_or("never".to_owned(), |at| self.at(at));
                vec![Cell::words(&engine.name), Cell::words(last), Cell::words(state)]
            });
            out += &table(&["engine", "last told", "state"], rows);
        }
        if !report.announcements.is_empty() {
            let rows = report.announcements.iter().map(|one| {
                let status = one.status.map_or("–".to_owned(), |status| status.to_string());
                let answer = format!("{} ({status})", one.words);
                vec![
                    Cell::words(self.at(one.at)),
                    Cell::words(&one.engine),
                    Cell::number(one.urls),
                    Cell::words(answer),
                ]
            });
            let rows = table(&["when", "engine", "#URLs", "answer"], rows);
            let number = count(report.announcements.len() as u64, "announcement", "announcements");
            out += &format!("<details><summary>The last {number} and the answers</summary>{rows}</details>\n");
        }
        out += &self.headings.within("Sitemap files in consoles");
        if report.consoles.is_empty() {
            out += &format!(
                "<p>Submit the main file once in the console of each engine that has one: {}</p>\n",
                link(&report.main, &report.main)
            );
        }
        for one in &report.consoles {
            let list = |title: &str, files: &[String]| match files {
                [] => String::new(),
                files => {
                    let items: String = files.iter().map(|file| format!("<li>{}</li>", link(file, file))).collect();
                    format!("<p>{title}</p><ul>{items}</ul>")
                }
            };
            let todo = list("Submit:", &one.submit) + &list("Remove:", &one.remove);
            let todo = if todo.is_empty() { "<p>Everything there is as it should be.</p>".to_owned() } else { todo };
            out += &format!("{}{todo}\n", self.headings.below(&one.console));
        }
        out + "</section>\n"
    }

    fn files(&self) -> String {
        let files = &self.report.state.files;
        let main = link(&self.report.main, &self.report.main);
        let mut out = format!(
            "{}<p>The main file is {main}. Each file opens to its entries, the newest first.</p>\n",
            self.headings.part("files", "Sitemap files")
        );
        for file in files.iter().take(MOST_FILES) {
            let name = file.address.rsplit('/').next().unwrap_or(&file.address);
            let full = format!("{} % full", file.percent_full);
            let rows = file.some.iter().map(|entry| {
                let date: String = entry.lastmod.as_deref().unwrap_or("–").chars().take(10).collect();
                let path = entry.url.strip_prefix(self.report.site.trim_end_matches('/')).unwrap_or(&entry.url);
                vec![
                    Cell::url(link(&entry.url, path)),
                    Cell::words(date),
                    Cell::linked_number(entry.images as u64, entry.image.as_deref()),
                    Cell::linked_number(entry.videos as u64, entry.video.as_deref()),
                ]
            });
            let shown = match (file.some.len() as u64) < file.entries {
                true => format!(
                    "<p class=\"faint\">{} of {} entries.</p>",
                    grouped(file.some.len() as u64),
                    grouped(file.entries)
                ),
                false => String::new(),
            };
            out += &format!(
                "<details class=file><summary><span class=name>{}</span><span>{}</span><span><span class=fill><i style=width:{}%></i></span><span class=faint>{full}</span></span><span class=faint>{}</span></summary><p>{} ({})</p>{}{shown}</details>\n",
                text(name),
                count(file.entries, "entry", "entries"),
                file.percent_full,
                text(&self.day(file.changed)),
                link(&file.address, "The file as it is served"),
                size(file.bytes),
                table(&["URL", "date", "#pictures", "#videos"], rows)
            );
        }
        if files.len() > MOST_FILES {
            let more = grouped((files.len() - MOST_FILES) as u64);
            out += &format!("<p class=\"faint\">And {more} more: idle-atlas report --json</p>\n");
        }
        out + "</section>\n"
    }
}

/// The name of an age of content.
fn age_of(under_days: Option<u32>) -> String {
    match under_days {
        Some(7) => "in the last week".to_owned(),
        Some(30) => "in the last month".to_owned(),
        Some(90) => "in the last three months".to_owned(),
        Some(365) => "in the last year".to_owned(),
        Some(days) => format!("in the last {} years", days / 365),
        None => "before that".to_owned(),
    }
}

/// What `report` says when it is done: with the file, if the site has one of its own.
pub fn written(report: &SiteReport, file: Option<&Path>, layout: &Layout) -> String {
    let written = |file: &Path| format!("{} written. Open it in a browser.\n\n", file.display());
    let mut out = file.map_or(String::new(), written);
    if let Some(uptake) = &report.uptake {
        out += &format!("  {}\n", headline(uptake));
    }
    out += &match report.next.first() {
        None => "  Everything is in order.\n".to_owned(),
        Some(first) => {
            let number = count(report.next.len() as u64, "thing", "things");
            format!("  {number} to do, first of all: {}\n\n{}", first.what, layout.next(&first.command))
        }
    };
    out
}
