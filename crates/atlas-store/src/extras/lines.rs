//! Entries as visitors see them, and the files made from them.

use std::borrow::Cow;
use std::sync::Arc;

use atlas_core::calendar::Calendar;
use atlas_core::choose::{Kept, Sections};
use atlas_core::contribution::Contribution;
use atlas_core::derive::structured;
use atlas_core::placement::text_file_name;
use atlas_core::visitor::{self, FeedFrame, Label, STYLESHEET, VisitorLine, Visitors, atom, rss, text_files};
use atlas_core::{address, output_policy, titles};
use rayon::prelude::*;

use super::extra_file::ExtraFile;
use super::settings::{ExtrasContext, ExtrasSettings, VisitorSettings};
use crate::arrival::{Arrivals, RowFlag, RowId};
use crate::ledger::Remembered;
use crate::settle::Settled;
use atlas_core::placement::{NEWEST_ATOM, NEWEST_RSS};

/// An entry that visitors see.
struct ShownEntry {
    named: RowId,
    row_id: RowId,
    prior: Option<u32>,
    kept: Kept,
    has_videos: bool,
}

/// All entries as visitors see them.
pub(crate) struct VisitorLines<'a> {
    lines: Vec<VisitorLine<'a>>,
    /// The lines of each section, by its index.
    sections: Vec<Vec<u32>>,
    /// Pages with videos that need structured data: file name and row.
    videos: Vec<(String, &'a [u8])>,
}

impl<'a> VisitorLines<'a> {
    /// Collects what is needed, which may be nothing.
    pub(crate) fn new(
        extras: &'a ExtrasSettings,
        arrivals: &'a Arrivals,
        settled: &'a Settled,
        remembered: &'a Remembered,
    ) -> Self {
        let blocks = if extras.wants_all() { arrivals.blocks() } else { 0 };
        let pages = (0..blocks).into_par_iter().flat_map_iter(|at| {
            let block = arrivals.block(at);
            let shown = settled.entry_rows.of_block(arrivals, at, &block).filter_map(|(entry_row, _)| {
                let has_videos = entry_row.summary.has(RowFlag::HasVideos);
                let kept = entry_row.summary.kept()?;
                Some(ShownEntry {
                    named: entry_row.named(),
                    row_id: entry_row.row_id,
                    prior: entry_row.prior,
                    kept,
                    has_videos,
                })
            });
            shown.collect::<Vec<_>>()
        });
        let mut pages: Vec<ShownEntry> = pages.collect();
        pages.par_sort_unstable_by_key(|shown| shown.named);
        let calendar = &arrivals.decider().chooser().calendar;
        let listed = if extras.wants_lines() { &pages[..] } else { &[] };
        let lines = listed.par_iter().map(|ShownEntry { row_id, prior, kept, .. }| {
            line(arrivals.held(*row_id), settled.observed(remembered, *prior), kept, calendar)
        });
        let mut lines: Vec<VisitorLine<'a>> = lines.collect();
        let titles = lines.par_iter().filter_map(|line| line.title);
        if let Some(name) = titles::common_ending(titles, lines.len()) {
            lines
                .par_iter_mut()
                .for_each(|line| line.title = line.title.map(|title| titles::without(title, Some(name))));
        }
        let mut sections = vec![Vec::new(); arrivals.decider().chooser().sections.list().len()];
        for (ShownEntry { kept, .. }, at) in listed.iter().zip(0u32..) {
            sections[usize::from(kept.section)].push(at);
        }
        let with_videos = pages.iter().filter(|shown| shown.has_videos && extras.structured_data);
        let videos = with_videos.filter_map(|shown| {
            let row = arrivals.held(shown.row_id);
            let contribution = Contribution::read(row);
            let name = structured::file_name(address::path(&contribution.url));
            // If the page's structured data was included from our file, it is not the page's own, and the file stays.
            let stands = || remembered.outputs.get(&data_name(&name)).is_some_and(|output| output.retired.is_none());
            (structured::is_wanted(&contribution) || structured::is_as_known(&contribution) && stands())
                .then_some((name, row))
        });
        let mut videos: Vec<(String, &[u8])> = videos.collect();
        videos.sort_unstable();
        // If two pages differ only in a character that file names cannot have, the first one gets the file.
        videos.dedup_by(|one, other| one.0 == other.0);
        Self { lines, sections, videos }
    }

    fn visitors<'b>(&'b self, settings: &'b VisitorSettings, sections: &Sections) -> Visitors<'b> {
        let VisitorSettings { title, language, template, entries_per_page } = settings;
        let sections = sections.list().iter().zip(&self.sections).map(|(section, lines)| {
            let label = Label { name: section.name.clone(), title: section.label() };
            (label, lines.iter().map(|at| &self.lines[*at as usize]).collect())
        });
        Visitors::new(sections.collect(), *entries_per_page, title, language, template)
    }

    /// The files made from the lines, including the stylesheet of the sitemaps.
    pub(crate) fn extra_files<'b>(
        &'b self,
        extras: &'b ExtrasSettings,
        context: ExtrasContext<'b>,
    ) -> Vec<ExtraFile<'b>> {
        let ExtrasContext { names, sections, timezone } = context;
        let mut extra_files = Vec::new();
        if let Some(style) = names.style {
            extra_files.push(ExtraFile::new(style, || STYLESHEET.as_bytes().to_vec()));
        }
        if let Some(settings) = &extras.visitors {
            let visitors = Arc::new(self.visitors(settings, sections));
            extra_files.extend(visitors.names().into_iter().enumerate().map(|(at, name)| {
                let visitors = visitors.clone();
                ExtraFile::new(names.name_in_web_root(&name), move || visitors.page(at).into_bytes())
            }));
        }
        if extras.text {
            extra_files.extend(text_files(&self.lines).into_iter().enumerate().map(|(at, (first, end))| {
                let urls = move || self.lines[first..end].iter().flat_map(|line| [line.url.as_bytes(), b"\n"]);
                ExtraFile::new(names.name_in_web_root(&text_file_name(at)), move || urls().collect::<Vec<_>>().concat())
            }));
        }
        if let Some(settings) = &extras.newest {
            let kinds: [(bool, &str, visitor::MakeFeed); 2] =
                [(settings.atom, NEWEST_ATOM, atom), (settings.rss, NEWEST_RSS, rss)];
            extra_files.extend(kinds.into_iter().filter(|(wanted, ..)| *wanted).map(|(_, name, make)| {
                let feed = FeedFrame {
                    title: settings.title.clone(),
                    site: names.site.clone(),
                    own: names.site.clone() + name,
                    hubs: settings.hubs.clone(),
                    // A browser would not load a stylesheet from another host.
                    style: names.style.filter(|_| names.in_web_root),
                    sections: settings.sections.clone(),
                };
                ExtraFile::new(names.name_in_web_root(name), move || make(&feed, &self.lines, settings.entries))
            }));
        }
        for (name, row) in &self.videos {
            let objects = structured::video_objects(&Contribution::read(row), timezone);
            extra_files
                .extend(objects.text().map(|text| ExtraFile::new(data_name(name), move || text.clone().into_bytes())));
        }
        extra_files
    }
}

/// The name in the ledger of a file of structured data.
fn data_name(name: &str) -> String {
    format!("data:{name}")
}

fn line<'a>(row: &'a [u8], observed: Option<i32>, kept: &Kept, calendar: &Calendar) -> VisitorLine<'a> {
    let contribution = Contribution::read(row);
    let (lastmod, published) =
        (output_policy::lastmod(&contribution, observed, kept.date_policy, calendar), contribution.published);
    let mut line = VisitorLine::new(borrowed(Some(contribution.url)).unwrap_or_default());
    line.title = borrowed(contribution.title).map(str::trim).filter(|title| !title.is_empty());
    line.description = borrowed(contribution.description);
    line.language = borrowed(contribution.language);
    (line.lastmod, line.published) = (lastmod, published);
    line.is_list |= contribution.archive.is_some();
    line.section = kept.section;
    line
}

/// The text if it is borrowed from its row; `None` if it had to be repaired because the row was damaged.
fn borrowed<'a>(text: Option<Cow<'a, str>>) -> Option<&'a str> {
    match text {
        Some(Cow::Borrowed(text)) => Some(text),
        _ => None,
    }
}
