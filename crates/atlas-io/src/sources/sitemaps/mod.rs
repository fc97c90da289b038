//! The source `sitemap`: an existing sitemap of another tool, as an index, a `urlset` or text, compressed or not, by
//! path or URL. Pictures, videos, translations, hints and dates are taken over, so that a site can change its tool and
//! lose nothing. A sitemap from which the site has moved gives only dates.

mod finding;

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;
use std::path::PathBuf;
use std::time::Duration;

use atlas_core::address::{Address, Site};
use atlas_core::contribution::Contribution;
use atlas_core::entry::Priority;
use atlas_core::fingerprint;
use atlas_core::format::{RawUrl, RawVideo, read, read_lines};
use atlas_core::language::Alternate;
use atlas_core::lastmod::Lastmod;
use atlas_core::number::count;
use atlas_core::placement::packed_name;
use atlas_core::report::Problem;
use atlas_store::arrival::{BLOCK_BYTES, Block};
use atlas_store::build::is_own_file;
use atlas_store::error::StoreError;
use atlas_store::source::{Gathering, Source};
use jiff::tz::TimeZone;

#[cfg(feature = "object-stores")]
use crate::object::ObjectFile;
use crate::reading::input::{self, Input};
use crate::sources::failed;

pub use self::finding::find_old_sitemaps;

/// The most unpacked bytes of one file: twice what the protocol allows, so that a file slightly over the limit loses
/// nothing.
const LARGEST: u64 = 104_857_600;

/// What a sitemap of another tool is read for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SitemapPurpose {
    /// It names entries, as any source does.
    Entries,
    /// It names entries, but this tool has overwritten it: its dates hold only until something newer is known.
    Overwritten,
    /// The site has moved from it: it gives dates to entries that other sources name, and names none.
    Dates,
}

/// A sitemap, or several.
#[derive(Debug, Clone)]
pub struct OldSitemap {
    /// Where to read it from, and the same as typed by the user.
    pub files: Vec<(Input, String)>,
    /// The site.
    pub site: Site,
    /// The section of its entries.
    pub section: Option<String>,
    /// The zone of dates without one.
    pub timezone: TimeZone,
    /// What it is read for.
    pub purpose: SitemapPurpose,
    /// Whether its hints are taken over. Most old sitemaps have them by habit, and engines ignore them.
    pub hints: bool,
    /// The time limit for fetching each file.
    pub wait: Duration,
}

impl Source for OldSitemap {
    fn name(&self) -> String {
        match &self.files[..] {
            [] => "old sitemap".to_owned(),
            [(_, shown), ..] => format!("sitemap {shown}"),
        }
    }

    fn settings(&self) -> u64 {
        fingerprint::settings("")
    }

    fn is_old_sitemap(&self) -> bool {
        true
    }

    fn is_moved_from(&self) -> bool {
        self.purpose == SitemapPurpose::Dates
    }

    fn reads(&self) -> Option<Vec<PathBuf>> {
        self.files.iter().map(|(input, _)| input.file().map(Path::to_owned)).collect()
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        match (self.purpose, &self.files[..]) {
            (SitemapPurpose::Overwritten, [(_, shown), ..]) => gathering.remark(format!(
                "the overwritten sitemap: URLs that only it has are listed until you delete {shown}"
            )),
            (SitemapPurpose::Dates, []) => gathering.remark(
                "there is no sitemap of another tool in the web root or in robots.txt; name one with “file”, or take this source out".to_owned(),
            ),
            _ => {}
        }
        self.files.iter().try_for_each(|file| self.whole(file, gathering))
    }
}

impl OldSitemap {
    /// Reads a file, and if it is an index, the files that it lists.
    fn whole(&self, index: &(Input, String), gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let failed = |why: String| failed(self.name(), why);
        for child in self.file(&index.0, &index.1, gathering).map_err(failed)? {
            let (input, shown) = Self::child(index, &child);
            match self.file(&input, &shown, gathering) {
                Ok(below) if below.is_empty() => {}
                Ok(_) => gathering.problem(Problem {
                    file: shown,
                    line: None,
                    message: "an index within an index, which no engine reads; it is skipped".to_owned(),
                    passed_over: true,
                }),
                // It may list most of the site, so nothing may be written without it.
                Err(why) => return Err(failed(why)),
            }
        }
        Ok(())
    }

    /// Reads one file; returns the files it lists, if it is an index.
    fn file(&self, input: &Input, shown: &str, gathering: &mut Gathering<'_>) -> Result<Vec<String>, String> {
        let cannot_read = |error: std::io::Error| format!("cannot read {shown}: {error}{}", input::mend(&error));
        let mut bytes = Vec::new();
        let reader = input.open(self.wait, gathering.stop()).map_err(cannot_read)?;
        reader.take(LARGEST + 1).read_to_end(&mut bytes).map_err(cannot_read)?;
        if bytes.len() as u64 > LARGEST {
            return Err(format!("{shown} is longer than {LARGEST} bytes"));
        }
        if self.is_moved_from() && is_own_file("sitemap.xml", &bytes, &self.site) {
            gathering.remark(format!(
                "{shown} is a sitemap of this tool by now, so it gives no dates; name a copy of the old one, or take this source out"
            ));
            return Ok(Vec::new());
        }
        let mut adding =
            Adding { source: self, shown, block: Block::new(gathering.decider()), unread: BTreeMap::new(), gathering };
        if bytes.starts_with(b"\xff\xfe") || bytes.starts_with(b"\xfe\xff") {
            return Err(format!("{shown} is in UTF-16; engines read only UTF-8, so save it as UTF-8"));
        }
        // Engines reject blank lines before the declaration, but that is no reason to lose what follows.
        let content = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(&bytes).trim_ascii_start();
        let mut children = Vec::new();
        if content.starts_with(b"<") {
            let document =
                read(content, |url| adding.url(url), |child| children.extend(child.loc.map(Cow::into_owned)));
            document.map_err(|why| format!("{shown}: {why}"))?;
        } else {
            read_lines(content).for_each(|url| adding.url(url));
        }
        adding.finish();
        Ok(children)
    }

    /// Where to find a file that an index lists: beside the index, if that is a local file.
    fn child((input, shown): &(Input, String), address: &str) -> (Input, String) {
        match input {
            Input::File(path) => {
                let name = file_name(address);
                let folder = path.parent().unwrap_or(Path::new(""));
                let packed = folder.join(packed_name(name));
                let beside = folder.join(name);
                let found = if !beside.exists() && packed.exists() { packed } else { beside };
                let shown = Path::new(shown).with_file_name(name).display().to_string();
                (Input::File(found), shown)
            }
            #[cfg(feature = "object-stores")]
            Input::Object(index) => {
                let name = file_name(address);
                let folder = index.address.key.rsplit_once('/').map_or("", |(folder, _)| folder);
                let key = if folder.is_empty() { name.to_owned() } else { format!("{folder}/{name}") };
                let beside = ObjectFile { bucket: index.bucket.clone(), address: index.address.at(&key) };
                let shown = beside.address.to_string();
                (Input::Object(beside), shown)
            }
            _ => (Input::Url(address.to_owned()), address.to_owned()),
        }
    }
}

/// The name of the file at an address.
fn file_name(address: &str) -> &str {
    address.split(['?', '#']).next().unwrap_or("").rsplit('/').next().unwrap_or("")
}

/// The entries of one file, being added.
struct Adding<'a, 'g> {
    source: &'a OldSitemap,
    shown: &'a str,
    block: Block,
    /// The elements that some entries have but that are not read: the line of the first, why, and how many there are.
    unread: BTreeMap<&'static str, (u64, String, u64)>,
    gathering: &'a mut Gathering<'g>,
}

impl Adding<'_, '_> {
    fn url(&mut self, url: RawUrl<'_>) {
        let line = url.line;
        let mut unread = Vec::new();
        let read = self.source.contribution(url, &mut unread);
        for (element, why) in unread {
            self.unread.entry(element).or_insert((line, why, 0)).2 += 1;
        }
        match read {
            Ok(contribution) => self.block.push(&contribution),
            Err(why) => {
                let message = format!("{why}; the entry is skipped");
                self.gathering.problem(Problem {
                    file: self.shown.to_owned(),
                    line: Some(line),
                    message,
                    passed_over: true,
                });
            }
        }
        if self.block.len() * 300 > BLOCK_BYTES {
            let full = std::mem::replace(&mut self.block, Block::new(self.gathering.decider()));
            self.gathering.push(full);
        }
    }

    fn finish(self) {
        self.gathering.push(self.block);
        for (line, why, entries) in self.unread.into_values() {
            let others = match entries - 1 {
                0 => String::new(),
                others => format!(", and likewise in {}", count(others, "more entry", "more entries")),
            };
            self.gathering.problem(Problem {
                file: self.shown.to_owned(),
                line: Some(line),
                message: format!("{why}{others}; it is not read"),
                passed_over: false,
            });
        }
    }
}

impl OldSitemap {
    /// What an element says. What cannot be read is added to `unread`, by its name and with the reason.
    fn contribution(
        &self,
        url: RawUrl<'_>,
        unread: &mut Vec<(&'static str, String)>,
    ) -> Result<Contribution<'static>, String> {
        unread.extend(url.misplaced().map(|name| ("", format!("{name} is not in its namespace"))));
        let loc = url.loc.ok_or("it has no loc")?;
        let address = Address::parse(&loc).map_err(|why| why.to_string())?;
        let news = url.news.unwrap_or_default();
        let mut date = |element, text: Option<Cow<'_, str>>| {
            let text = text?;
            let date = Lastmod::read(&text, &self.timezone);
            if date.is_none() {
                unread.push((element, format!("{element} “{text}” is not a date such as 2026-11-23")));
            }
            date
        };
        let (stated, published) = (date("lastmod", url.lastmod), date("news:publication_date", news.published));
        let place = |text: &str| self.site.address(text).ok();
        let mut address_of = |element, text: &str| {
            let address = self.site.address(text);
            address.map_err(|why| unread.push((element, format!("{element}: {why}")))).ok().map(Address::into_string)
        };
        let images = url.images.iter().filter_map(|image| Some(address_of("image:loc", image)?.into())).collect();
        let alternates = url.alternates.into_iter().filter_map(|one| {
            Some(Alternate { language: one.language, url: address_of("xhtml:link", &one.url)?.into() })
        });
        let alternates = alternates.collect();
        let changefreq = url.changefreq.filter(|_| self.hints).and_then(|text| {
            let wrong = |_| unread.push(("changefreq", format!("changefreq “{text}” is not a word of the protocol")));
            text.parse().map_err(wrong).ok()
        });
        let priority = url.priority.filter(|_| self.hints).and_then(|text| {
            let priority = text.trim().parse().ok().and_then(Priority::new);
            if priority.is_none() {
                unread.push(("priority", format!("priority “{text}” is not a number from 0.0 to 1.0")));
            }
            priority
        });
        let settle = |video: atlas_core::video::Video| video.settled(place, |text| Lastmod::read(text, &self.timezone));
        let url_of = address.into_string().into();
        if self.purpose == SitemapPurpose::Dates {
            return Ok(Contribution {
                url: url_of,
                recorded: stated,
                only_before_move: true,
                ..Contribution::default()
            });
        }
        let (modified, recorded) = match self.purpose {
            SitemapPurpose::Entries => (stated, None),
            SitemapPurpose::Overwritten | SitemapPurpose::Dates => (None, stated),
        };
        Ok(Contribution {
            url: url_of,
            modified,
            recorded,
            published,
            title: news.title.map(|title| Cow::Owned(title.into_owned())),
            language: news.language.map(|language| Cow::Owned(language.into_owned())),
            changefreq,
            priority,
            images,
            videos: url.videos.iter().map(RawVideo::to_video).map(settle).collect(),
            alternates,
            section: self.section.clone().map(Into::into),
            ..Contribution::default()
        })
    }
}
