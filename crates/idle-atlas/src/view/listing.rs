//! Lists of entries, as a table or as CSV.

use atlas_store::diagnostics::Listed;

use super::found::blank_or;
use super::grid::Grid;
use crate::screen::{FAINT, Layout, STRONG, count as counted, grouped};

/// A table.
pub fn table(entries: &[Listed], count: u64, layout: &Layout) -> String {
    let mut out = format!("{STRONG}{}{STRONG:#}", counted(count, "entry", "entries"));
    if entries.len() as u64 == count {
        out += "\n\n";
    } else {
        out += &format!("; {} shown\n\n", grouped(entries.len() as u64));
    }
    if entries.is_empty() {
        return out + &format!("{FAINT}All of them, by section and by reason: idle-atlas survey{FAINT:#}\n");
    }
    let mut grid = Grid::new(&["listed", "lastmod", "?>pictures", "?>videos", "url"]);
    for entry in entries {
        let state = entry.uptake.map_or(String::new(), |state| format!(", {}", state.words()));
        grid.row([
            goes_in(entry) + &state,
            entry.lastmod.map_or("–".to_owned(), |date| date.to_string().chars().take(10).collect()),
            blank_or(entry.images as u64),
            blank_or(entry.videos as u64),
            layout.urls(&entry.url).into_owned(),
        ]);
    }
    out + &layout.host()
        + &grid.text(layout)
        + &format!("\n{FAINT}Everything about one URL: idle-atlas why URL{FAINT:#}\n")
}

fn goes_in(entry: &Listed) -> String {
    match (&entry.section, entry.reason) {
        (Some(section), _) => section.clone(),
        (None, Some(reason)) => format!("no: {}", reason.code()),
        (None, None) => "no".to_owned(),
    }
}

/// CSV: one line per entry, with or without a header.
pub fn csv(entries: &[Listed], with_header: bool) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let rows = entries.iter().map(|entry| {
        [
            entry.url.clone(),
            entry.section.clone().unwrap_or_default(),
            entry.reason.map_or(String::new(), |reason| reason.code().to_owned()),
            entry.lastmod.map_or(String::new(), |date| date.to_string()),
            entry.images.to_string(),
            entry.videos.to_string(),
            entry.title.clone().unwrap_or_default(),
            entry.sources.join("|"),
        ]
    });
    let header = ["url", "section", "reason", "lastmod", "images", "videos", "title", "sources"].map(str::to_owned);
    for row in with_header.then_some(header).into_iter().chain(rows) {
        // Writing into memory does not fail.
        let _ = writer.write_record(row);
    }
    writer.into_inner().map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default()
}
