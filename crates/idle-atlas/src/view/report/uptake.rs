//! The part of the report about what engines took.

use atlas_core::uptake::standing::Standings;
use atlas_store::uptake::Overview;
use jiff::tz::TimeZone;

use super::SiteReport;
use super::parts::{Cell, Headings, link, table, text};
use super::plot;
use crate::screen::{count, grouped, instant};
use crate::view::uptake::{age, crawler_state, difference, lasting, named_delays, subject};

/// The part; empty if nothing is known.
pub fn part(report: &SiteReport, zone: &TimeZone, headings: &Headings) -> String {
    let Some(uptake) = &report.uptake else { return String::new() };
    let part = UptakePage { report, uptake, zone, headings };
    let inside = [
        part.totals(),
        part.sections(),
        part.reasons(),
        part.differences(),
        part.worth(),
        part.searches(),
        part.crawlers(),
        part.delays(),
        part.consoles(),
        part.not_listed(),
        part.basis(),
    ];
    format!(
        "{}<p class=\"faint\">An engine sends a program, its crawler, to fetch pages. Of those that it has fetched, it picks up some into its index. Only these can be found by searching.</p>\n{}</section>\n",
        headings.part("uptake", "What engines took"),
        inside.concat()
    )
}

const HEADER: [&str; 7] =
    ["#submitted", "#fetched", "#picked up", "#waiting", "#not picked up", "#never fetched", "#errors"];

fn cells(name: &str, one: &Standings) -> Vec<Cell> {
    vec![
        Cell::words(name),
        Cell::number(one.submitted),
        Cell::maybe(one.fetched),
        Cell::maybe(one.picked_up),
        Cell::number(one.waiting),
        Cell::maybe(one.not_picked_up),
        Cell::maybe(one.never_fetched),
        Cell::maybe(one.answered_with_error),
    ]
}

fn standings(first: &str, rows: impl Iterator<Item = Vec<Cell>>) -> String {
    let header: Vec<&str> = [first].into_iter().chain(HEADER).collect();
    table(&header, rows)
}

struct UptakePage<'r> {
    report: &'r SiteReport,
    uptake: &'r Overview,
    zone: &'r TimeZone,
    headings: &'r Headings,
}

impl UptakePage<'_> {
    fn at(&self, seconds: Option<i64>) -> String {
        seconds.map_or("–".to_owned(), |at| instant(at, self.zone))
    }

    /// A link by its path, if it is on the site.
    fn page(&self, url: &str) -> String {
        link(url, url.strip_prefix(self.report.site.trim_end_matches('/')).unwrap_or(url))
    }

    fn totals(&self) -> String {
        let uptake = self.uptake;
        let mut rows = vec![cells("pages", &uptake.totals)];
        for (name, media) in [("pictures", &uptake.images), ("videos", &uptake.videos)] {
            if media.standings.submitted > 0 {
                rows.push(cells(name, &media.standings));
            }
        }
        let waiting = format!(
            "<p class=\"faint\">What is new, or was told less than {} ago, may wait.</p>",
            count(u64::from(uptake.patience_days), "day", "days")
        );
        standings("", rows.into_iter()) + &waiting
    }

    fn sections(&self) -> String {
        let uptake = self.uptake;
        let bar = |one: &Standings| {
            let (picked_up, not) = (one.picked_up.or(one.fetched).unwrap_or(0), one.not_picked_up.unwrap_or(0));
            let rest = one.submitted.saturating_sub(picked_up + not);
            let (taken, rest_is) = match one.picked_up {
                Some(_) => ("picked up", "waits"),
                None => ("fetched", "unknown"),
            };
            let label = format!("{} {taken}, {} not, {} others", grouped(picked_up), grouped(not), grouped(rest));
            plot::shares(&label, &[("", "taken", picked_up), ("", "not", not), ("", rest_is, rest)])
        };
        let rows = uptake.sections.iter().map(|one| vec![Cell::words(&one.section), Cell::html(bar(&one.pages))]);
        let name = if uptake.totals.picked_up.is_some() { "picked up" } else { "fetched" };
        let bars = table(&["section", &format!("pages {name}")], rows);
        let by_section = standings("section", uptake.sections.iter().map(|one| cells(&one.section, &one.pages)));
        let by_age = standings("last changed", uptake.ages.iter().map(|one| cells(&age(one.under_days), &one.pages)));
        let legend = "<p class=\"legend\"><span class=\"key taken\">yes</span><span class=\"key not\">no</span><span class=\"key waits\">waiting</span></p>";
        format!(
            "{}{bars}{legend}<details><summary>The numbers, by section and by age</summary>{by_section}{by_age}</details>\n",
            self.headings.within("By section")
        )
    }

    fn reasons(&self) -> String {
        let not = self.uptake.reasons.iter().filter(|one| !one.means_picked_up && one.urls > 0);
        let rows: Vec<Vec<Cell>> = not
            .map(|one| {
                let mut known: Vec<String> = Vec::new();
                for part in &one.known {
                    let (class, word) = if part.on_purpose { ("good", "fine") } else { ("warn", "look") };
                    known.push(format!(
                        "<span class=\"{class}\">{word}</span> {}: {}",
                        grouped(part.urls),
                        text(&part.words)
                    ));
                }
                if one.unexplained > 0 {
                    let urls: Vec<String> = one.examples.iter().take(3).map(|url| self.page(url)).collect();
                    known.push(format!(
                        "<span class=\"warn\">look</span> {}: nothing here explains it: {}",
                        grouped(one.unexplained),
                        urls.join(", ")
                    ));
                }
                vec![
                    Cell::words(&one.reason),
                    Cell::words(&one.engine),
                    Cell::number(one.urls),
                    Cell::html(known.join("<br>")),
                ]
            })
            .collect();
        if rows.is_empty() {
            return String::new();
        }
        let rows = table(&["what the engine says", "engine", "#URLs", "does it matter?"], rows.into_iter());
        self.headings.within("Why not, by the engine's own word") + &rows + "\n"
    }

    fn differences(&self) -> String {
        let all = &self.uptake.differences;
        if all.is_empty() {
            return String::new();
        }
        let items = all.iter().map(|one| format!("<li>{}</li>", text(&difference(one, self.uptake.thin_words))));
        let title = self.headings.within("What sets apart what was not picked up");
        format!("{title}<ul>{}</ul>\n", items.collect::<String>())
    }

    fn worth(&self) -> String {
        let pages = &self.uptake.worth_looking_at;
        if pages.is_empty() {
            return String::new();
        }
        let rows = pages.iter().map(|one| {
            let mut about: Vec<String> = one.reason.iter().map(|reason| format!("“{reason}”")).collect();
            about.extend(one.traits.iter().map(|one| one.words(self.uptake.thin_words, false)));
            let status = one.status.map_or(String::new(), |status| format!(", answered {status}"));
            let visits = match one.visits {
                0 => "never".to_owned(),
                visits => {
                    format!("{}, last {}{status}", count(u64::from(visits), "time", "times"), self.at(one.last_visit))
                }
            };
            vec![Cell::url(self.page(&one.url)), Cell::words(about.join("; ")), Cell::words(visits)]
        });
        self.headings.within("Most worth looking at") + &table(&["page", "what is known", "visited"], rows) + "\n"
    }

    fn searches(&self) -> String {
        let parts = self.uptake.searches.iter().map(|one| {
            let never = one.never_shown_examples.iter().take(5).map(|url| format!("<li>{}</li>", self.page(url)));
            let never: String = never.collect();
            let moved = one.moved.iter().map(|moved| {
                let position = moved.position.map_or("–".to_owned(), |(then, now)| format!("{then:.1} to {now:.1}"));
                let shown = format!("{} to {}", grouped(u64::from(moved.shown.0)), grouped(u64::from(moved.shown.1)));
                vec![Cell::url(self.page(&moved.url)), Cell::words(shown), Cell::words(position)]
            });
            let moved = match one.moved.is_empty() {
                true => String::new(),
                false => format!("<p>What moved most since the numbers before:</p>{}", table(&["page", "shown", "position"], moved)),
            };
            let (first, last) = &one.days;
            let title = self.headings.within(&format!("What searchers did, by {} ({first} to {last})", one.engine));
            format!(
                "{title}<p>By the last numbers, pages were shown {} and clicked {}. <strong>{}</strong> of the listed {} were never shown.</p><ul>{never}</ul>{moved}\n",
                count(one.shown, "time", "times"),
                count(one.clicked, "time", "times"),
                grouped(one.never_shown),
                subject(one.of)
            )
        });
        parts.collect()
    }

    fn crawlers(&self) -> String {
        if self.uptake.crawlers.is_empty() {
            return String::new();
        }
        let rows = self.uptake.crawlers.iter().take(20).map(|one| {
            vec![
                Cell::words(&one.token),
                Cell::words(crawler_state(one)),
                Cell::number(one.requests),
                Cell::maybe(one.pages),
                Cell::number(one.sitemap_requests),
                Cell::number(one.errors),
                Cell::words(self.at(one.last)),
            ]
        });
        let crawlers = table(&["crawler", "", "#requests", "#pages", "#sitemap files", "#errors", "last"], rows);
        let shares = self.uptake.crawl.iter().map(|one| {
            let words =
                if one.is_spent { format!("{} (not listed)", one.kind.words()) } else { one.kind.words().to_owned() };
            vec![Cell::words(words), Cell::number(one.requests), Cell::words(format!("{:.1} %", one.percent))]
        });
        let shares = table(&["what they asked for", "#requests", "share"], shares);
        let (came, went) =
            (self.headings.within("The crawlers that came"), self.headings.within("Where their requests went"));
        format!("{came}{crawlers}{went}{shares}\n")
    }

    fn delays(&self) -> String {
        let rows = named_delays(&self.uptake.delays).map(|(words, delay)| {
            let (half, most) = (lasting(delay.median), lasting(delay.nine_tenths));
            vec![Cell::words(words), Cell::words(half), Cell::words(most), Cell::number(delay.of)]
        });
        let rows: Vec<Vec<Cell>> = rows.collect();
        if rows.is_empty() {
            return String::new();
        }
        let rows = table(&["", "half within", "nine tenths within", "#pages"], rows.into_iter());
        self.headings.within("How long it takes") + &rows + "\n"
    }

    fn consoles(&self) -> String {
        let files = self.uptake.sitemap_files.iter().take(50);
        let rows = files.map(|file| {
            let consoles = file.consoles.iter().map(|one| {
                let found = one.found.map_or(String::new(), |found| match one.held {
                    Some(held) if held != found => {
                        format!(": found {} of the {} in it then", grouped(found), grouped(held))
                    }
                    _ => format!(": found {}", grouped(found)),
                });
                let read = one.read.map_or(String::new(), |at| format!(" read it {}", instant(at, self.zone)));
                let words = one.words.as_ref().map_or(String::new(), |words| format!(" ({words})"));
                format!("{}{read}{found}{words}", one.engine)
            });
            let consoles: Vec<String> = consoles.collect();
            vec![
                Cell::url(self.page(&file.address)),
                Cell::maybe(file.entries),
                Cell::number(file.requests),
                Cell::words(self.at(file.last_read)),
                Cell::words(consoles.join("; ")),
            ]
        });
        let rows = table(&["sitemap file", "#entries", "#read", "last read", "what consoles say"], rows);
        format!("<details><summary>Which sitemap files were read</summary>{rows}</details>\n")
    }

    fn not_listed(&self) -> String {
        let totals = &self.uptake.totals;
        let mut out = String::new();
        if let Some(number @ 1..) = totals.fetched_not_listed {
            let items = self.uptake.fetched_not_listed.iter().take(10).map(|one| {
                format!(
                    "<li>{} <span class=\"faint\">({})</span></li>",
                    self.page(&one.url),
                    grouped(u64::from(one.requests))
                )
            });
            let title = count(number, "URL was fetched and is not listed", "URLs were fetched and are not listed");
            out += &format!("<details><summary>{title}</summary><ul>{}</ul></details>\n", items.collect::<String>());
        }
        if let Some(number @ 1..) = totals.picked_up_not_listed {
            let items =
                self.uptake.picked_up_not_listed.iter().take(10).map(|url| format!("<li>{}</li>", self.page(url)));
            let title = count(number, "URL is picked up and is not listed", "URLs are picked up and are not listed");
            out += &format!("<details><summary>{title}</summary><ul>{}</ul></details>\n", items.collect::<String>());
        }
        out
    }

    fn basis(&self) -> String {
        let mut items = Vec::new();
        if let Some(logs) = &self.uptake.logs {
            items.push(format!(
                "access logs: {}, from {} to {}",
                count(logs.lines, "line", "lines"),
                self.at(logs.from),
                self.at(logs.to)
            ));
        }
        for one in &self.report.exports {
            let age = match one.days {
                0 => "of today".to_owned(),
                days => format!("{} old", count(days.unsigned_abs(), "day", "days")),
            };
            items.push(format!(
                "the export of {} about {}: {age}; look again {}",
                one.engine,
                one.of,
                if one.again <= self.report.at {
                    "now".to_owned()
                } else {
                    format!("on {}", &self.at(Some(one.again))[..10])
                }
            ));
        }
        let items: String = items.iter().map(|item| format!("<li>{}</li>", text(item))).collect();
        format!("{}<ul>{items}</ul>\n", self.headings.within("What this rests on"))
    }
}
