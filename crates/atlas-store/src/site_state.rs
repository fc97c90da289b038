//! The state of the whole site, as its report shows it: files and how full they are, sections, the age of content, and
//! what came and went.

use std::collections::BTreeMap;

use atlas_core::lastmod::Lastmod;
use atlas_core::placement::{FileKind, child_name};
use atlas_core::rfc3339;
use jiff::tz::TimeZone;
use serde::Serialize;

use crate::destination::{MainFile, Names};
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered};
use crate::model::{Fact, FileRow, RunRow};
use crate::page_texts::{PageText, each_page_of, of_segment, tags_of};

/// How many runs are told.
const MOST_RUNS: usize = 2_000;
/// A day, in seconds.
const DAY: i64 = 86_400;
/// The ages of content, in days.
const AGES: [Option<u32>; 6] = [Some(7), Some(30), Some(90), Some(365), Some(3 * 365), None];

/// The state of the whole site.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SiteState {
    /// Sections, by name.
    pub sections: Vec<SectionState>,
    /// Sitemap files.
    pub files: Vec<SitemapFileState>,
    /// Pages by the age of their content, by their written dates.
    pub ages: Vec<ContentAge>,
    /// Pages without a date.
    pub undated: u64,
    /// Runs, oldest first.
    pub runs: Vec<RunRow>,
}

/// A section.
#[derive(Debug, Clone, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SectionState {
    /// Its name.
    pub section: String,
    /// Its pages.
    pub pages: u64,
    /// Its pictures.
    pub images: u64,
    /// Its videos.
    pub videos: u64,
    /// Its files.
    pub files: u64,
    /// Its newest date.
    pub newest: Option<Lastmod>,
}

/// A sitemap file.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SitemapFileState {
    /// Its address.
    pub address: String,
    /// Its section.
    pub section: String,
    /// What it is for: pages, images, videos or news.
    pub kind: String,
    /// Its entries.
    pub entries: u64,
    /// The most entries that it may get.
    pub most_entries: u64,
    /// Its size, unpacked, in bytes.
    pub bytes: u64,
    /// The most bytes that it may get.
    pub most_bytes: u64,
    /// How full it is, in percent: by entries or bytes, whichever is more.
    pub percent_full: u64,
    /// When it last changed, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub changed: i64,
    /// Some of its entries.
    pub some: Vec<SampleEntry>,
}

/// An entry of a file.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SampleEntry {
    /// Its URL.
    pub url: String,
    /// Its date.
    pub lastmod: Option<String>,
    /// The number of its pictures.
    pub images: usize,
    /// The number of its videos.
    pub videos: usize,
    /// Its first picture.
    pub image: Option<String>,
    /// Where its first video is.
    pub video: Option<String>,
}

/// Pages of an age.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ContentAge {
    /// Their date is less than so many days ago; `None`: any time before.
    pub under_days: Option<u32>,
    /// How many.
    pub pages: u64,
}

/// The state of the site at an instant, in seconds since 1970, with at most `samples` entries altogether.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn site_state(ledger: &dyn Ledger, names: &Names, now: i64, samples: usize) -> Result<SiteState, StoreError> {
    let remembered = ledger.remembered()?;
    let form = names.form(remembered.files.len(), ledger.fact(Fact::MainFile)?.is_some());
    let mut sections: BTreeMap<&str, SectionState> = BTreeMap::new();
    let mut files = Vec::new();
    let per_file = samples.checked_div(remembered.files.len()).unwrap_or(0);
    for file in &remembered.files {
        let section = sections.entry(&file.section).or_default();
        add(section, file);
        let mut state = state_of(file, names, form);
        state.some = sample(ledger, file, per_file.max(usize::from(samples > 0)))?;
        files.push(state);
    }
    let spent: usize = files.iter().map(|file| file.some.len()).sum();
    // Very many files: the first of them keep theirs.
    if spent > samples {
        let mut left = samples;
        for file in &mut files {
            file.some.truncate(left);
            left -= file.some.len();
        }
    }
    let (ages, undated) = ages(ledger, &remembered, now)?;
    let mut runs = ledger.runs(MOST_RUNS)?;
    runs.reverse();
    let sections = sections.into_iter().map(|(name, state)| SectionState { section: name.to_owned(), ..state });
    Ok(SiteState { sections: sections.collect(), files, ages, undated, runs })
}

fn add(section: &mut SectionState, file: &FileRow) {
    section.files += 1;
    let is_pages = file.kind == FileKind::Pages;
    section.pages += if is_pages { u64::from(file.urls()) } else { 0 };
    for segment in &file.segments {
        section.images += segment.facts.images;
        section.videos += segment.facts.videos;
        let newest = segment.facts.newest.filter(|_| is_pages);
        if newest.is_some_and(|date| section.newest.is_none_or(|known| known.seconds() < date.seconds())) {
            section.newest = newest;
        }
    }
}

fn state_of(file: &FileRow, names: &Names, form: MainFile) -> SitemapFileState {
    let name = match form {
        MainFile::Urlset => names.main.clone(),
        MainFile::Index => names.listed_name(&child_name(&file.section, file.kind, file.number), form),
    };
    let (entries, bytes) = (u64::from(file.urls()), file.digest.size);
    let (most_entries, most_bytes) = (u64::from(file.limits.urls), file.limits.bytes);
    let share = |part: u64, of: u64| (part * 100).div_ceil(of.max(1));
    SitemapFileState {
        address: format!("{}{name}", names.address),
        section: file.section.clone(),
        kind: file.kind.to_string(),
        entries,
        most_entries,
        bytes,
        most_bytes,
        percent_full: share(entries, most_entries).max(share(bytes, most_bytes)).min(100),
        changed: file.digest.changed,
        some: Vec::new(),
    }
}

/// The last entries of a file, which are its newest.
fn sample(ledger: &dyn Ledger, file: &FileRow, most: usize) -> Result<Vec<SampleEntry>, StoreError> {
    let mut some: Vec<SampleEntry> = Vec::new();
    for segment in file.segments.iter().rev() {
        if some.len() >= most {
            break;
        }
        let whole = ledger.whole(file.id, segment.number, true)?;
        let tags = tags_of(&whole.entries, segment)?;
        let map = |page: &PageText<'_>| {
            Some(SampleEntry {
                url: page.url.to_owned(),
                lastmod: page.lastmod.map(str::to_owned),
                images: page.images,
                videos: page.videos,
                image: page.image.map(str::to_owned),
                video: page.video.map(str::to_owned),
            })
        };
        let of_it = of_segment((&tags, 0), &whole.body, segment.size, &map)?;
        some.extend(of_it.into_iter().rev().take(most - some.len()));
    }
    Ok(some)
}

/// Pages by their age, and how many have no date.
fn ages(ledger: &dyn Ledger, remembered: &Remembered, now: i64) -> Result<(Vec<ContentAge>, u64), StoreError> {
    let mut ages: Vec<ContentAge> =
        AGES.iter().map(|under_days| ContentAge { under_days: *under_days, pages: 0 }).collect();
    let mut undated = 0;
    let date = |page: &PageText<'_>| {
        Some(page.lastmod.and_then(|date| Lastmod::read(date, &TimeZone::UTC)).map(|date| date.seconds()))
    };
    each_page_of(ledger, remembered, None, date, |date: Option<i64>| match date {
        None => undated += 1,
        Some(date) => {
            let days = (now - date) / DAY;
            let fits = |age: &&mut ContentAge| age.under_days.is_none_or(|under| days < i64::from(under));
            if let Some(age) = ages.iter_mut().find(fits) {
                age.pages += 1;
            }
        }
    })?;
    ages.retain(|age| age.pages > 0);
    Ok((ages, undated))
}
