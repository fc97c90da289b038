//! Single pages with what engines did with each: `uptake --list`, and the lines in `why`.

use atlas_core::uptake::standing::PageState;
use atlas_store::uptake::PageUptake;

use crate::screen::{FAINT, GOOD, Layout, STRONG, WARN, count, grouped, instant};
use crate::view::found::blank_or;
use crate::view::grid::Grid;

/// What engines did with one page, for `why`.
pub fn of_page(page: &PageUptake, layout: &Layout) -> String {
    let at = |seconds: i64| instant(seconds, &layout.zone);
    let mut out = String::new();
    let mut line = |name: &str, value: &str| out += &format!("  {name:<11} {value}\n");
    if let Some(seconds) = page.told {
        line("told", &at(seconds));
    }
    match (page.first_visit, page.last_visit) {
        (Some(first), Some(last)) => {
            let times = count(u64::from(page.visits), "time", "times");
            let status = page.status.map_or(String::new(), |status| format!(", answered {status}"));
            let by = page.crawlers.join(", ");
            line("fetched", &format!("{times} by {by}; first {}, last {}{status}", at(first), at(last)));
        }
        _ => line("fetched", "never, as far as the access logs tell"),
    }
    let reason = page.reason.as_ref().map_or(String::new(), |reason| format!(": “{reason}”"));
    let since = page.picked_up_since.map_or(String::new(), |since| format!(", since {} at the latest", at(since)));
    match page.state {
        PageState::PickedUp => line("uptake", &format!("{GOOD}picked up{GOOD:#}{since}")),
        PageState::NotPickedUp => line("uptake", &format!("{WARN}not picked up{WARN:#}{reason}")),
        PageState::Waiting => line("uptake", &format!("waiting: new or changed a short time ago{reason}")),
        PageState::Fetched | PageState::NeverFetched | PageState::Unknown => {}
    }
    out
}

/// The text of `uptake --list`.
pub fn list(pages: &[PageUptake], all: u64, layout: &Layout) -> String {
    let mut out = format!("{STRONG}{}{STRONG:#}", count(all, "page", "pages"));
    if (pages.len() as u64) < all {
        out += &format!("; {} shown", grouped(pages.len() as u64));
    }
    let mut grid = Grid::new(&["state", "?section", "?>visits", "?last", "?>status", "?reason", "url"]);
    for page in pages {
        grid.row([
            page.state.words().to_owned(),
            page.section.clone(),
            blank_or(u64::from(page.visits)),
            page.last_visit.map_or("–".to_owned(), |at| instant(at, &layout.zone)),
            page.status.map_or("–".to_owned(), |status| status.to_string()),
            page.reason.clone().unwrap_or_else(|| "–".to_owned()),
            layout.urls(&page.url).into_owned(),
        ]);
    }
    out + "\n\n"
        + &layout.host()
        + &grid.without_blank_columns().text(layout)
        + &format!("\n{FAINT}Everything about one URL: idle-atlas why URL{FAINT:#}\n")
}

/// The same as CSV, with or without a header.
pub fn csv(pages: &[PageUptake], with_header: bool) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let at = |seconds: Option<i64>| {
        let instant = seconds.and_then(|at| jiff::Timestamp::from_second(at).ok());
        instant.map_or(String::new(), |at| at.to_string())
    };
    let header = [
        "url",
        "section",
        "state",
        "reason",
        "changed",
        "told",
        "visits",
        "first_visit",
        "last_visit",
        "status",
        "crawlers",
        "picked_up_since",
        "words",
        "linked_from",
    ];
    let number = |number: Option<u32>| number.map_or(String::new(), |number| number.to_string());
    let rows = pages.iter().map(|page| {
        [
            page.url.clone(),
            page.section.clone(),
            page.state.words().replace(' ', "-"),
            page.reason.clone().unwrap_or_default(),
            at(page.changed),
            at(page.told),
            page.visits.to_string(),
            at(page.first_visit),
            at(page.last_visit),
            page.status.map_or(String::new(), |status| status.to_string()),
            page.crawlers.join("|"),
            at(page.picked_up_since),
            number(page.words),
            number(page.linked_from),
        ]
    });
    for row in with_header.then(|| header.map(str::to_owned)).into_iter().chain(rows) {
        // Writing into memory does not fail.
        let _ = writer.write_record(row);
    }
    writer.into_inner().map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default()
}
