//! Inspecting the entries of a sitemap file.

use xxhash_rust::xxh3::xxh3_64_with_seed;

use super::codes::{
    ALL_BARRED, ALTERNATE_LANGUAGE, ALTERNATE_NOT_ITSELF, HINT_UNKNOWN, LOC_BARRED, LOC_MISSING, LOC_NO_URL,
    LOC_OTHER_HOST, LOC_OUT_OF_SCOPE, LOC_TOO_LONG, LOC_TWICE, NAMESPACE, NEWS_TOO_OLD, TOO_MANY_IMAGES,
    VIDEO_INCOMPLETE,
};
use super::files::Inspection;
use crate::address::{self, Address};
use crate::derive::news::NEWS_SECONDS;
use crate::entry::Changefreq;
use crate::format::{RawNews, RawUrl};
use crate::language;
use crate::number::count;
use crate::page::MOST_IMAGES;
use crate::placement::{FileKind, parts_of};

impl Inspection {
    pub(super) fn url(&mut self, file: u32, url: &RawUrl) {
        let seen = &mut self.report.files[file as usize];
        seen.entries += 1;
        seen.images += url.images.len() as u64;
        seen.videos += url.videos.len() as u64;
        let sitemap = seen.address.clone();
        let line = Some(url.line);
        let loc = url.loc.as_deref().unwrap_or("");
        if let Some(name) = &url.misplaced {
            self.find(&NAMESPACE, &sitemap, line, || format!("{name} is not in its namespace, at {loc}"));
        }
        if loc.is_empty() {
            self.find(&LOC_MISSING, &sitemap, line, || "a url without loc".to_owned());
            return;
        }
        self.loc(file, &sitemap, url, loc);
        if let Some(text) = &url.lastmod
            && let Some(date) = self.date(&sitemap, line, text)
        {
            let newest = &mut self.report.files[file as usize].newest;
            if newest.is_none_or(|known| known.seconds() < date.seconds()) {
                *newest = Some(date);
            }
        }
        let word_known =
            url.changefreq.as_ref().is_none_or(|word| Changefreq::ALL.iter().any(|one| one.as_str() == word));
        let number_known =
            url.priority.as_ref().is_none_or(|text| text.parse().is_ok_and(|n: f64| (0.0..=1.0).contains(&n)));
        if !word_known || !number_known {
            let text = if word_known { &url.priority } else { &url.changefreq };
            self.find(&HINT_UNKNOWN, &sitemap, line, || format!("“{}” of {loc}", text.as_deref().unwrap_or("")));
        }
        if url.images.len() > MOST_IMAGES {
            self.find(&TOO_MANY_IMAGES, &sitemap, line, || format!("more than 1,000 pictures of {loc}"));
        }
        self.news(file, &sitemap, url, loc);
        self.alternates(&sitemap, url, loc);
        for video in &url.videos {
            if let Some(part) = video.lacks(loc).first() {
                self.find(&VIDEO_INCOMPLETE, &sitemap, line, || format!("a video of {loc} has no {}", part.words()));
            }
        }
    }

    fn news(&mut self, file: u32, sitemap: &str, url: &RawUrl, loc: &str) {
        if url.news == RawNews::default() {
            return;
        }
        self.report.files[file as usize].news += 1;
        let published = url.news.published.as_deref().and_then(|text| self.date(sitemap, Some(url.line), text));
        if let Some(published) = published.filter(|date| self.now.seconds() - date.seconds() >= NEWS_SECONDS) {
            self.find(&NEWS_TOO_OLD, sitemap, Some(url.line), || format!("{loc} was published on {published}"));
        }
    }

    fn alternates(&mut self, sitemap: &str, url: &RawUrl, loc: &str) {
        let line = Some(url.line);
        for one in &url.alternates {
            if let Err(why) = language::tag(&one.language) {
                self.find(&ALTERNATE_LANGUAGE, sitemap, line, || format!("{why}, at {loc}"));
            }
        }
        if !url.alternates.is_empty() && !url.alternates.iter().any(|one| one.url == loc) {
            self.find(&ALTERNATE_NOT_ITSELF, sitemap, line, || format!("{loc} is not among its own alternates"));
        }
    }

    fn loc(&mut self, file: u32, sitemap: &str, url: &RawUrl, loc: &str) {
        let line = Some(url.line);
        let ascii = loc.bytes().all(|byte| byte.is_ascii_graphic());
        let Some(address) = Address::parse(loc).ok().filter(|_| ascii) else {
            self.find(&LOC_NO_URL, sitemap, line, || format!("“{loc}” is not an absolute, percent-encoded URL"));
            return;
        };
        if loc.len() > address::LONGEST {
            self.find(&LOC_TOO_LONG, sitemap, line, || format!("{} characters: {}…", loc.len(), &loc[..80]));
        }
        let cross_submitted = address::origin(sitemap) != self.origin && address.origin() == self.origin;
        if cross_submitted {
            // Declared by the robots.txt of the host whose URLs it lists.
        } else if address.origin() != address::origin(sitemap) {
            self.find(&LOC_OTHER_HOST, sitemap, line, || loc.to_owned());
        } else if !address.as_str().starts_with(Address::trusted(sitemap).folder()) {
            self.find(&LOC_OUT_OF_SCOPE, sitemap, line, || loc.to_owned());
        }
        if self.robots.barred("*", address.path()).is_some() {
            self.report.files[file as usize].barred += 1;
            self.find(&LOC_BARRED, sitemap, line, || loc.to_owned());
        }
        // The pictures, videos or news of a page may be in files of their own, beside the page itself.
        let is_news = url.news != RawNews::default() || is_file_of_news(sitemap);
        let part = [!url.images.is_empty(), !url.videos.is_empty(), is_news];
        let part = part.iter().fold(0, |bits, has| bits << 1 | u64::from(*has));
        if let Some(before) = self.seen.insert(xxh3_64_with_seed(address.as_str().as_bytes(), part), file) {
            let before = self.report.files[before as usize].address.clone();
            let place = if before == sitemap { "above in this file".to_owned() } else { format!("in {before} too") };
            self.find(&LOC_TWICE, sitemap, line, || format!("{loc} stands {place}"));
        }
    }
}

impl Inspection {
    /// Whether robots.txt forbids every URL of a file, such as those of a section.
    pub(super) fn all_barred(&mut self, file: u32) {
        let seen = &self.report.files[file as usize];
        let (sitemap, entries) = (seen.address.clone(), seen.entries);
        if entries > 0 && seen.barred == entries {
            let urls = count(entries, "URL", "URLs");
            self.find(&ALL_BARRED, &sitemap, None, || {
                format!("robots.txt shuts engines out of {urls}, which is all of them")
            });
        }
    }
}

/// Whether a file holds news, by the names that this tool gives. If nothing is news, such a file lists the newest
/// articles instead.
fn is_file_of_news(sitemap: &str) -> bool {
    let name = sitemap.rsplit('/').next().unwrap_or_default();
    parts_of(name).is_some_and(|(_, kind, _)| kind == FileKind::News)
}
