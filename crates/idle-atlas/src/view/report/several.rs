//! The page over several sites: a table of all of them, and what a page of its own would say of each.

use std::path::Path;

use jiff::tz::TimeZone;

use super::parts::{Cell, Headings, table, text};
use super::{ReportPage, SiteReport, document};
use crate::screen::{count, grouped, instant};

/// What the page says of one site.
pub struct SitePart {
    site: String,
    pages: u64,
    updated: Option<String>,
    errors: u64,
    todo: Vec<String>,
    html: String,
}

impl SitePart {
    /// The site with this number, counted from 1.
    pub fn of(report: &SiteReport, nth: usize, zone: &TimeZone) -> Self {
        let page = ReportPage { report, zone, headings: Headings::among(nth) };
        Self {
            site: report.site.clone(),
            pages: report.state.sections.iter().map(|section| section.pages).sum(),
            updated: report.state.runs.last().map(|run| page.day(run.at)),
            errors: report.errors(),
            todo: report.next.iter().map(|step| step.what.clone()).collect(),
            html: page.head() + &page.parts(),
        }
    }
}

/// A site without its scheme, and without the slash at its end.
fn host(site: &str) -> &str {
    site.split_once("://").map_or(site, |(_, rest)| rest).trim_end_matches('/')
}

/// The page. A site of which there is no report has the reason instead. `at` is the instant of the page, in seconds
/// since 1970.
pub fn page_of_several(sites: &[(&Path, Result<SitePart, String>)], at: i64, zone: &TimeZone) -> String {
    let read = || sites.iter().filter_map(|(_, part)| part.as_ref().ok());
    let pages: u64 = read().map(|part| part.pages).sum();
    let unwell =
        sites.iter().filter(|(_, part)| part.as_ref().map_or(true, |part| !part.todo.is_empty())).count() as u64;
    let all = count(sites.len() as u64, "site", "sites");
    let state = match unwell {
        0 => "<strong class=\"good\">Everything is in order.</strong> There is nothing to do.".to_owned(),
        1 => "<strong>1 site needs a look</strong>; the others are in order.".to_owned(),
        some if some == sites.len() as u64 => "<strong>Each of them needs a look.</strong>".to_owned(),
        some => format!("<strong>{} sites need a look</strong>; the others are in order.", grouped(some)),
    };
    let rows = sites.iter().zip(1..).map(|((path, part), nth)| match part {
        Ok(part) => {
            let todo = match &part.todo[..] {
                [] => "<span class=\"good\">in order</span>".to_owned(),
                [one] => text(one),
                [first, rest @ ..] => {
                    format!("{} <span class=\"faint\">and {} more</span>", text(first), grouped(rest.len() as u64))
                }
            };
            vec![
                Cell::url(format!("<a href=\"#site-{nth}\">{}</a>", text(host(&part.site)))),
                Cell::number(part.pages),
                Cell::words(part.updated.as_deref().unwrap_or("–")),
                Cell::number(part.errors),
                Cell::html(todo),
            ]
        }
        Err(why) => vec![
            Cell::url(text(&path.display().to_string())),
            Cell::maybe(None),
            Cell::words("–"),
            Cell::maybe(None),
            Cell::html(format!("<span class=\"bad\">{}</span>", text(why))),
        ],
    });
    let overview = table(&["site", "#pages", "brought up to date", "#errors", "what to do"], rows);
    let parts = sites.iter().zip(1..).filter_map(|((_, part), nth)| Some((part.as_ref().ok()?, nth)));
    let parts = parts.map(|(part, nth)| {
        format!(
            "<details class=site><summary>{}<span class=faint>{}</span></summary>\n<div id=\"site-{nth}\">\n{}</div></details>\n",
            text(host(&part.site)),
            count(part.pages, "page", "pages"),
            part.html
        )
    });
    let at = instant(at, zone);
    let body = format!(
        "<header>\n<h1>The state of {all}</h1>\n<p class=\"faint\">{at}</p>\n<p class=\"lead\">Together the sites tell search engines about {}. {state}</p>\n</header>\n<main>\n{overview}\n<h2>Site by site</h2>\n<p class=\"faint\">Each opens to what a page of its own would say.</p>\n{}</main>\n",
        count(pages, "page", "pages"),
        parts.collect::<String>()
    );
    document(&all, &body, &at)
}
