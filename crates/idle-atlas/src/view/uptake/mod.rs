//! The output of `uptake`.

pub mod pages;

use atlas_core::uptake::difference::Difference;
use atlas_core::uptake::export::Subject;
use atlas_core::uptake::standing::{Delay, Standings};
use atlas_store::uptake::{CrawlerUptake, Delays, Overview, ReasonUptake, Searches, SectionUptake, WorthLooking};

use super::found::blank_or;
use super::grid::Grid;
use crate::screen::{FAINT, GOOD, Layout, STRONG, WARN, count, grouped, instant};

/// How many rows of a table are shown without `--verbose`.
const FEW: usize = 8;

/// A subject in words.
pub fn subject(subject: Subject) -> &'static str {
    match subject {
        Subject::Pages => "pages",
        Subject::Images => "pictures",
        Subject::Videos => "videos",
        Subject::SitemapFiles => "sitemap files",
    }
}

/// A number that may be unknown.
fn maybe(number: Option<u64>) -> String {
    number.map_or("–".to_owned(), grouped)
}

/// How long something took: `40 minutes`, `3 days`.
pub fn lasting(seconds: u64) -> String {
    let (number, one, many) = match seconds {
        0..90 => (seconds, "second", "seconds"),
        90..5_400 => (seconds.div_ceil(60), "minute", "minutes"),
        5_400..172_800 => (seconds.div_ceil(3_600), "hour", "hours"),
        _ => (seconds.div_ceil(86_400), "day", "days"),
    };
    count(number, one, many)
}

/// A title and its table.
fn part(title: &str, grid: Grid, layout: &Layout) -> String {
    format!("\n{STRONG}{title}{STRONG:#}\n\n{}", grid.without_blank_columns().text(layout))
}

/// What is not shown of a list.
fn more(shown: usize, all: usize) -> String {
    match all.saturating_sub(shown) {
        0 => String::new(),
        rest => format!("  {FAINT}and {} more: --verbose{FAINT:#}\n", grouped(rest as u64)),
    }
}

/// The columns of standings.
const STANDINGS: [&str; 7] =
    [">submitted", "?>fetched", "?>picked up", "?>waiting", "?>not picked up", "?>never fetched", "?>errors"];

fn cells(standings: &Standings) -> [String; 7] {
    let Standings { submitted, fetched, picked_up, waiting, not_picked_up, never_fetched, answered_with_error, .. } =
        standings;
    [
        grouped(*submitted),
        maybe(*fetched),
        maybe(*picked_up),
        blank_or(*waiting),
        maybe(*not_picked_up),
        maybe(*never_fetched),
        answered_with_error.map_or("–".to_owned(), blank_or),
    ]
}

fn table(first: &str) -> Grid {
    let mut header = vec![first];
    header.extend(&STANDINGS);
    Grid::new(&header)
}

fn row(grid: &mut Grid, name: &str, standings: &Standings) {
    grid.row([vec![name.to_owned()], cells(standings).to_vec()].concat());
}

/// The first line: what most want to know.
pub fn headline(overview: &Overview) -> String {
    let totals = &overview.totals;
    let submitted = count(totals.submitted, "page", "pages");
    match (totals.picked_up, totals.fetched) {
        (Some(picked_up), _) => {
            let not = totals.not_picked_up.unwrap_or(0);
            let waiting = match totals.waiting {
                0 => String::new(),
                waiting => format!(", {} waiting", grouped(waiting)),
            };
            format!("{submitted} submitted: {} picked up, {} not{waiting}", grouped(picked_up), grouped(not))
        }
        (None, _) if totals.not_picked_up.is_some() => {
            let not = totals.not_picked_up.unwrap_or(0);
            format!("{submitted} submitted: {} not picked up; of the others, no export tells", grouped(not))
        }
        (None, Some(fetched)) => format!(
            "{submitted} submitted: {} fetched by crawlers, {} not",
            grouped(fetched),
            grouped(totals.submitted.saturating_sub(fetched))
        ),
        (None, None) => format!("{submitted} submitted; nothing is known of what engines did"),
    }
}

/// The text of `uptake`.
pub fn overview(overview: &Overview, layout: &Layout) -> String {
    let totals = &overview.totals;
    let mut out = format!("{STRONG}{}{STRONG:#}\n\n{}", headline(overview), layout.host());
    let mut grid = table("");
    row(&mut grid, "pages", totals);
    if overview.images.standings.submitted > 0 {
        row(&mut grid, "pictures", &overview.images.standings);
    }
    if overview.videos.standings.submitted > 0 {
        row(&mut grid, "videos", &overview.videos.standings);
    }
    out += &grid.without_blank_columns().text(layout);
    out += &elsewhere(overview);
    if overview.logs.is_none() && overview.exports.is_empty() {
        return out
            + "\nGive it an access log of your server, and what an engine's console exports:\n"
            + &layout.next("idle-atlas uptake access.log pages.csv --engine NAME");
    }
    if layout.brief {
        return out
            + &reasons(&overview.reasons, layout)
            + &differences(&overview.differences, overview.thin_words)
            + &crawlers(overview, layout);
    }
    if overview.sections.len() > 1 {
        let mut grid = table("section");
        overview.sections.iter().for_each(|one| row(&mut grid, &one.section, &one.pages));
        out += &part("By section", grid, layout);
        if layout.verbose {
            out += &media_by_section(overview, layout);
        }
    }
    if overview.ages.len() > 1 {
        let mut grid = table("last changed");
        overview.ages.iter().for_each(|one| row(&mut grid, &age(one.under_days), &one.pages));
        out += &part("By age", grid, layout);
    }
    out += &reasons(&overview.reasons, layout);
    out += &differences(&overview.differences, overview.thin_words);
    out += &worth(overview, layout);
    out += &crawlers(overview, layout);
    out += &delays(overview);
    out += &sitemap_files(overview, layout);
    out += &not_listed(overview, layout);
    out += &overview.searches.iter().map(|one| searches(one, layout)).collect::<String>();
    out += &known(overview, layout);
    let next = match (overview.worth_looking_at.first(), totals.not_picked_up.unwrap_or(0)) {
        (Some(page), _) => format!("idle-atlas why {}", layout.urls(&page.url)),
        (None, 1..) => "idle-atlas uptake --list --state not-picked-up".to_owned(),
        (None, 0) => "idle-atlas report".to_owned(),
    };
    out + "\n" + &layout.next(&next)
}

/// Pictures and videos by section.
fn media_by_section(overview: &Overview, layout: &Layout) -> String {
    let of = |title: &str, standings: fn(&SectionUptake) -> &Standings| {
        let sections: Vec<_> = overview.sections.iter().filter(|one| standings(one).submitted > 0).collect();
        if sections.is_empty() {
            return String::new();
        }
        let mut grid = table("section");
        sections.into_iter().for_each(|one| row(&mut grid, &one.section, standings(one)));
        part(title, grid, layout)
    };
    of("Pictures by section", |one| &one.images) + &of("Videos by section", |one| &one.videos)
}

/// The name of an age.
pub fn age(under_days: Option<u32>) -> String {
    under_days.map_or("before that".to_owned(), |days| format!("under {days} days ago"))
}

fn elsewhere(overview: &Overview) -> String {
    let (images, videos) = (overview.images.elsewhere, overview.videos.elsewhere);
    let mut parts = Vec::new();
    parts.extend((images > 0).then(|| count(images, "picture", "pictures")));
    parts.extend((videos > 0).then(|| count(videos, "video", "videos")));
    match (parts.is_empty(), &overview.logs) {
        (false, Some(_)) => {
            let parts = parts.join(" and ");
            format!("\n  {FAINT}On hosts whose access logs are not here: {parts}.{FAINT:#}\n")
        }
        _ => String::new(),
    }
}

fn reasons(reasons: &[ReasonUptake], layout: &Layout) -> String {
    let mut out = String::new();
    let not: Vec<&ReasonUptake> = reasons.iter().filter(|one| !one.means_picked_up && one.urls > 0).collect();
    if !not.is_empty() {
        out += &format!("\n{STRONG}Why not, by the engine's own word, and does it matter?{STRONG:#}\n");
    }
    for one in not {
        let urls = count(one.urls, "URL", "URLs");
        out += &format!("\n  {STRONG}{}{STRONG:#} ({}): {urls}\n", one.reason, one.engine);
        for known in &one.known {
            let mark = if known.on_purpose { format!("{GOOD}fine{GOOD:#}") } else { format!("{WARN}look{WARN:#}") };
            out += &format!("    {mark}  {}: {}\n", grouped(known.urls), known.words);
            if !known.on_purpose {
                out += &examples(&known.examples, layout);
            }
        }
        if one.unexplained > 0 {
            out += &format!("    {WARN}look{WARN:#}  {}: nothing here explains it\n", grouped(one.unexplained));
            out += &examples(&one.examples, layout);
        }
    }
    let taken: Vec<String> = reasons
        .iter()
        .filter(|one| one.means_picked_up && one.urls > 0)
        .map(|one| format!("“{}” ({})", one.reason, grouped(one.urls)))
        .collect();
    if !taken.is_empty() {
        out += &format!("\n  {FAINT}Taken to mean picked up: {}.{FAINT:#}\n", taken.join(", "));
    }
    out
}

fn examples(urls: &[String], layout: &Layout) -> String {
    let few = urls.len().min(layout.shown(3));
    let lines: String = urls[..few].iter().map(|url| format!("            {}\n", layout.urls(url))).collect();
    lines + &more(few, urls.len()).replace("  ", "            ")
}

/// A difference in words: “6 of 7 not picked up have under 100 words; of 61 picked up, 2”.
pub fn difference(one: &Difference, thin_words: u32) -> String {
    format!(
        "of {} not picked up, {} {}; of {} picked up, {}",
        grouped(one.of_not_picked_up),
        grouped(one.not_picked_up),
        one.one.words(thin_words, one.not_picked_up != 1),
        grouped(one.of_picked_up),
        grouped(one.picked_up)
    )
}

fn differences(differences: &[Difference], thin_words: u32) -> String {
    if differences.is_empty() {
        return String::new();
    }
    let lines = differences.iter().map(|one| format!("  {}\n", difference(one, thin_words)));
    format!("\n{STRONG}What sets them apart{STRONG:#}\n\n{}", lines.collect::<String>())
}

/// What is known of a page, in words.
fn about(page: &WorthLooking, thin_words: u32, layout: &Layout) -> String {
    let mut parts: Vec<String> = page.reason.iter().map(|reason| format!("“{reason}”")).collect();
    parts.extend(page.traits.iter().map(|one| one.words(thin_words, false)));
    if let (Some(status), Some(at)) = (page.status, page.last_visit) {
        let times = count(u64::from(page.visits), "visit", "visits");
        parts.push(format!("{times}, last {} ({status})", instant(at, &layout.zone)));
    }
    parts.join("; ")
}

fn worth(overview: &Overview, layout: &Layout) -> String {
    let pages = &overview.worth_looking_at;
    if pages.is_empty() {
        return String::new();
    }
    let few = pages.len().min(layout.shown(FEW));
    let lines = pages[..few].iter().map(|page| {
        format!("  {}\n      {FAINT}{}{FAINT:#}\n", layout.urls(&page.url), about(page, overview.thin_words, layout))
    });
    let lines: String = lines.collect();
    format!("\n{STRONG}Most worth looking at{STRONG:#}\n\n{lines}{}", more(few, pages.len()))
}

/// Whether a crawler is what it says, and counts.
pub fn crawler_state(one: &CrawlerUptake) -> &'static str {
    match (one.verified, one.addresses_known, one.counts) {
        (true, _, _) => "verified",
        (false, true, _) => "not from its engine",
        (false, false, true) => "unverified",
        (false, false, false) => "not counted",
    }
}

fn crawlers(overview: &Overview, layout: &Layout) -> String {
    if overview.crawlers.is_empty() {
        return match overview.logs {
            Some(_) => format!("\n{WARN}No crawler{WARN:#} came, as far as the access logs tell.\n"),
            None => String::new(),
        };
    }
    let mut grid = Grid::new(&[
        "crawler",
        "",
        ">requests",
        ">pages",
        "?>pictures",
        "?>videos",
        "?>sitemaps",
        "?>robots.txt",
        "?>errors",
        "?first",
        "last",
    ]);
    let few = overview.crawlers.len().min(layout.shown(FEW));
    for one in &overview.crawlers[..few] {
        let at = |seconds: Option<i64>| seconds.map_or("–".to_owned(), |at| instant(at, &layout.zone));
        grid.row([
            one.token.clone(),
            crawler_state(one).to_owned(),
            grouped(one.requests),
            one.pages.map_or("–".to_owned(), grouped),
            blank_or(one.image_requests),
            blank_or(one.video_requests),
            blank_or(one.sitemap_requests),
            blank_or(one.robots_requests),
            blank_or(one.errors),
            at(one.first),
            at(one.last),
        ]);
    }
    let mut out = part("Crawlers", grid, layout) + &more(few, overview.crawlers.len());
    let is_named = overview.crawlers.iter().any(|one| !one.counts);
    if !is_named && overview.crawlers.iter().all(|one| !one.addresses_known) {
        out += &format!(
            "\n  {FAINT}Every crawler counts. Name those that matter, and their addresses, under [[crawler]].{FAINT:#}\n"
        );
    }
    if layout.brief {
        return out;
    }
    let mut grid = Grid::new(&["what engines' crawlers asked for", ">requests", ">share", "?"]);
    for one in &overview.crawl {
        let note = if one.is_spent { format!("{WARN}not listed{WARN:#}") } else { String::new() };
        grid.row([one.kind.words().to_owned(), grouped(one.requests), format!("{:.1} %", one.percent), note]);
    }
    out += &part("Where their requests went", grid, layout);
    out
}

/// What took how long, in words, as far as it is known.
pub fn named_delays(delays: &Delays) -> impl Iterator<Item = (&'static str, Delay)> {
    let all = [
        ("from a change to its announcement", delays.change_to_announcement),
        ("from its announcement to a fetch", delays.announcement_to_fetch),
        ("from that fetch to being picked up", delays.fetch_to_pick_up),
    ];
    all.into_iter().filter_map(|(words, delay)| Some((words, delay?)))
}

fn delays(overview: &Overview) -> String {
    let line = |(words, delay): (&str, Delay)| {
        let (median, nine_tenths) = (lasting(delay.median), lasting(delay.nine_tenths));
        let pages = count(delay.of, "page", "pages");
        format!("  {words:<36}half within {median}, nine tenths within {nine_tenths} ({pages})\n")
    };
    let lines: String = named_delays(&overview.delays).map(line).collect();
    if lines.is_empty() { lines } else { format!("\n{STRONG}How long it takes{STRONG:#}\n\n{lines}") }
}

fn sitemap_files(overview: &Overview, layout: &Layout) -> String {
    let files = &overview.sitemap_files;
    if files.is_empty() {
        return String::new();
    }
    let mut grid = Grid::new(&["sitemap file", "?>entries", "?>read", "?last", "?>status", "?what consoles say"]);
    let few = files.len().min(layout.shown(12));
    for file in &files[..few] {
        let consoles = file.consoles.iter().map(|one| {
            let mut parts = Vec::new();
            parts.extend(one.read.map(|at| format!("read {}", instant(at, &layout.zone))));
            parts.extend(one.found.map(|found| match one.held {
                Some(held) if held != found => format!("found {} of the {} in it then", grouped(found), grouped(held)),
                Some(_) => format!("found all {}", grouped(found)),
                None => format!("found {}", grouped(found)),
            }));
            parts.extend(one.in_index.map(|number| format!("{} in the index", grouped(number))));
            parts.extend(one.words.clone());
            format!("{}: {}", one.engine, parts.join(", "))
        });
        let consoles: Vec<String> = consoles.collect();
        grid.row([
            layout.urls(&file.address).into_owned(),
            maybe(file.entries),
            if overview.logs.is_some() { grouped(file.requests) } else { "–".to_owned() },
            file.last_read.map_or("–".to_owned(), |at| instant(at, &layout.zone)),
            file.status.map_or("–".to_owned(), |status| status.to_string()),
            if consoles.is_empty() { "–".to_owned() } else { consoles.join("; ") },
        ]);
    }
    let unread = match overview.sitemap_is_unread() {
        true => format!(
            "\n  {WARN}No crawler has read any of them.{WARN:#} Are they declared in robots.txt, or submitted in a console?\n"
        ),
        false => String::new(),
    };
    part("Sitemap files", grid, layout) + &more(few, files.len()) + &unread
}

fn not_listed(overview: &Overview, layout: &Layout) -> String {
    let mut out = String::new();
    let fetched = overview.totals.fetched_not_listed.unwrap_or(0);
    if fetched > 0 {
        let few = overview.fetched_not_listed.len().min(layout.shown(5));
        let title = count(fetched, "URL was fetched and is not listed", "URLs were fetched and are not listed");
        let lines = overview.fetched_not_listed[..few].iter().map(|one| {
            format!(
                "  {}  {FAINT}{}{FAINT:#}\n",
                layout.urls(&one.url),
                count(u64::from(one.requests), "request", "requests")
            )
        });
        out += &format!("\n{STRONG}{title}{STRONG:#}\n\n{}", lines.collect::<String>());
        out += &more(few, fetched as usize);
    }
    let picked_up = overview.totals.picked_up_not_listed.unwrap_or(0);
    if picked_up > 0 {
        let few = overview.picked_up_not_listed.len().min(layout.shown(5));
        let title = count(picked_up, "URL is picked up and is not listed", "URLs are picked up and are not listed");
        let lines = overview.picked_up_not_listed[..few].iter().map(|url| format!("  {}\n", layout.urls(url)));
        out += &format!("\n{STRONG}{title}{STRONG:#}\n\n{}", lines.collect::<String>());
        out += &more(few, picked_up as usize);
    }
    out
}

fn searches(one: &Searches, layout: &Layout) -> String {
    let mut out = format!(
        "\n{STRONG}Searches, by {} ({} to {}){STRONG:#}\n\n  shown {}, clicked {} in the last numbers; {} of the listed {} were never shown\n",
        one.engine,
        one.days.0,
        one.days.1,
        grouped(one.shown),
        grouped(one.clicked),
        grouped(one.never_shown),
        subject(one.of)
    );
    let few = one.never_shown_examples.len().min(layout.shown(3));
    out +=
        &one.never_shown_examples[..few].iter().map(|url| format!("      {}\n", layout.urls(url))).collect::<String>();
    if !one.moved.is_empty() {
        let mut grid = Grid::new(&["moved since the numbers before", ">shown", ">position"]);
        for moved in &one.moved {
            let position = moved.position.map_or("–".to_owned(), |(then, now)| format!("{then:.1} to {now:.1}"));
            let shown = format!("{} to {}", grouped(u64::from(moved.shown.0)), grouped(u64::from(moved.shown.1)));
            grid.row([layout.urls(&moved.url).into_owned(), shown, position]);
        }
        out += "\n";
        out += &grid.text(layout);
    }
    out
}

fn known(overview: &Overview, layout: &Layout) -> String {
    let mut lines = Vec::new();
    if let Some(logs) = &overview.logs {
        let at = |at: Option<i64>| at.map_or("?".to_owned(), |at| instant(at, &layout.zone));
        let broken = match logs.broken {
            0 => String::new(),
            broken => format!(", {} of which could not be read", grouped(broken)),
        };
        lines.push(format!(
            "access logs: {}{broken}, from {} to {}",
            count(logs.lines, "line", "lines"),
            at(logs.from),
            at(logs.to)
        ));
    }
    for one in &overview.exports {
        let since = one.since_before.as_ref().map_or(String::new(), |since| {
            format!(
                "; since {}: {} came, {} went",
                instant(since.before, &layout.zone),
                grouped(since.came),
                grouped(since.went)
            )
        });
        let rows = count(one.rows, "row", "rows");
        lines.push(format!("{}, {}: {rows} of {}{since}", one.engine, subject(one.of), instant(one.at, &layout.zone)));
    }
    let lines: String = lines.iter().map(|line| format!("  {line}\n")).collect();
    format!("\n{STRONG}What this rests on{STRONG:#}\n\n{lines}")
}
