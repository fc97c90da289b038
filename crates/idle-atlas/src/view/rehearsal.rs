//! The output of `announce --rehearse`.

use std::collections::BTreeMap;
use std::fmt::Write;

use atlas_io::engines::EngineReport;
use atlas_io::test_engine::PickedUp;
use serde::Serialize;

use super::announce;
use super::grid::Grid;
use crate::screen::{FAINT, GOOD, Layout, STRONG, WARN, count, grouped};

/// What a test engine was told, and what it has seen.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct Rehearsal {
    pub site: String,
    /// The folder that was served to it, if the site is not reached on this machine.
    pub folder: Option<String>,
    pub told: Vec<EngineReport>,
    pub seen: PickedUp,
}

pub fn rehearsal(rehearsal: &Rehearsal, layout: &Layout) -> String {
    let Rehearsal { site, folder, told, seen } = rehearsal;
    let from = folder.as_ref().map_or(String::new(), |folder| format!(", from the folder {folder}"));
    let mut out = format!(
        "A test engine on this machine was told what engines would be told of {site}, and read the site{from}.\n{FAINT}Nothing has left this machine, and nothing was recorded.{FAINT:#}\n\n"
    );
    if told.is_empty() {
        out += "The configuration names no engine, so it was told nothing.\n";
    }
    out += &announce::told(told, &[], layout);
    out += &format!("\n{STRONG}What it has seen{STRONG:#}\n\n{}", seen_by_engine(seen, layout));
    if folder.is_some() && seen.not_picked_up.iter().any(|one| one.reason == "gone") {
        out += "\nPages that an application serves are not in that folder. To rehearse with its server: [site] reached_at = \"http://127.0.0.1:8080\"\n";
    }
    out
}

/// What an engine has seen of a site.
pub fn seen_by_engine(seen: &PickedUp, layout: &Layout) -> String {
    let urls: usize = seen.sitemaps.iter().filter(|file| !file.address.is_empty()).map(|file| file.urls).sum();
    let mut out = format!(
        "  robots.txt     {}\n  sitemap files  {}, with {}\n",
        seen.robots,
        count(seen.sitemaps.len() as u64, "file", "files"),
        count(urls as u64, "address", "addresses")
    );
    for file in seen.sitemaps.iter().filter(|file| file.trouble.is_some()) {
        let why = file.trouble.as_deref().unwrap_or_default();
        let _ = writeln!(out, "                 {WARN}{}{WARN:#}: {why}", layout.urls(&file.address));
    }
    let (found, missing) = (seen.found as u64, seen.not_picked_up.len() as u64);
    let _ = writeln!(
        out,
        "  picked up      {GOOD}{}{GOOD:#} of {}",
        grouped(seen.picked_up.len() as u64),
        count(found, "page", "pages")
    );
    if missing == 0 {
        return out;
    }
    let mut reasons: BTreeMap<&str, Vec<(&str, &str)>> = BTreeMap::new();
    for one in &seen.not_picked_up {
        reasons.entry(one.reason).or_default().push((&one.url, &one.why));
    }
    let mut reasons: Vec<_> = reasons.into_values().collect();
    reasons.sort_by_key(|urls| std::cmp::Reverse(urls.len()));
    let mut grid = Grid::new(&[">not picked up", "why", "for example"]);
    for urls in &reasons {
        for (nth, (url, why)) in urls.iter().take(layout.shown(1)).enumerate() {
            let number = if nth == 0 { grouped(urls.len() as u64) } else { String::new() };
            grid.row([number, (*why).to_owned(), layout.urls(url).to_string()]);
        }
    }
    out + &format!("\n{}", grid.text(layout))
}

/// What the console of the test engine exports: pages, and sitemap files, each as CSV.
pub fn exports(seen: &PickedUp, now: &str) -> [String; 2] {
    let pages = seen.picked_up.iter().map(|url| [url.as_str(), "Picked up"]);
    let others = seen.not_picked_up.iter().map(|one| [one.url.as_str(), one.why.as_str()]);
    let counts: Vec<String> = seen.sitemaps.iter().map(|file| file.urls.to_string()).collect();
    let files = seen.sitemaps.iter().zip(&counts).map(|(file, urls)| [file.address.as_str(), now, urls]);
    [
        csv_of([["URL", "State"]].into_iter().chain(pages).chain(others)),
        csv_of([["Sitemap", "Last read", "Found"]].into_iter().chain(files)),
    ]
}

fn csv_of<'r, const N: usize>(rows: impl Iterator<Item = [&'r str; N]>) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    for row in rows {
        // Writing into memory does not fail.
        let _ = writer.write_record(row);
    }
    writer.into_inner().map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default()
}
