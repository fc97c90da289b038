//! Judging the entries of one file.

use jiff::tz::TimeZone;
use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed};

use super::codes::{
    ALTERNATE_LANGUAGE, ALTERNATE_NO_URL, ALTERNATE_NOT_ITSELF, ALTERNATE_TWICE, CHILD_ELSEWHERE, DISALLOWED,
    ELEMENT_ORDER, ELEMENT_TWICE, ELEMENT_UNKNOWN, FindingKind, HINT_UNKNOWN, LASTMOD_FORM, LASTMOD_FUTURE,
    LASTMOD_NO_DATE, LOC_MISSING, LOC_NO_URL, LOC_OUT_OF_SCOPE, NAMESPACE, NAMESPACE_UNKNOWN, OTHER_HOST, TOO_LONG,
    WITHDRAWN,
};
use super::findings::{Findings, Place, excerpt};
use super::judge::Judge;
use super::listed::{ListedPage, MediaKind, PageSample};
use super::request::FileRequest;
use super::returned::Unreturned;
use super::seen::{Child, DateTally, FileSeen, Form};
use crate::address::{self, Address};
use crate::entry::Changefreq;
use crate::format::{Oddity, OddityKind, RawSitemap, RawUrl, SitemapVisitor, VideoElement};
use crate::language;
use crate::lastmod::{self, Lastmod};
use crate::number::grouped;
use crate::placement::{FileKind, parts_of};

/// The most pictures and videos of one page that are visited.
const MOST_VISITED: usize = 20;

/// A file that is being judged.
pub(super) struct FileJudge<'j, 'k> {
    pub(super) judge: &'j Judge<'k>,
    address: &'j str,
    /// The folder that the file speaks for.
    scope: String,
    is_news: bool,
    /// The number of lines before what is read.
    skipped: u64,
    pub(super) findings: Findings<'k>,
    pub(super) seen: FileSeen,
    pub(super) children: Vec<Child>,
    pub(super) keys: Vec<(u64, u32)>,
    pub(super) unreturned: Unreturned,
    pub(super) dates: DateTally,
    pub(super) listed: Vec<ListedPage>,
    pub(super) weights: Weights,
    /// The last date, which is often the next one, too.
    last_date: (String, Option<Lastmod>),
}

/// What makes a file heavy, in bytes.
#[derive(Debug, Default)]
pub(super) struct Weights {
    urls: u64,
    media: u64,
    alternates: u64,
}

impl Weights {
    /// The size of a file, and which part of it is the weight.
    pub(super) fn words(&self, size: u64) -> String {
        let parts = [
            (self.urls, "URLs and dates"),
            (self.media, "pictures and videos"),
            (self.alternates, "links to translations"),
        ];
        let all = parts.iter().map(|(bytes, _)| bytes).sum::<u64>().max(1);
        let (most, words) = parts.into_iter().max_by_key(|(bytes, _)| *bytes).unwrap_or_default();
        format!("{} MiB, mostly {words} ({} % of the text)", grouped(size >> 20), most * 100 / all)
    }
}

impl<'j, 'k> FileJudge<'j, 'k> {
    pub(super) fn new(
        judge: &'j Judge<'k>,
        wanted: &'j FileRequest,
        skipped: u64,
        bytes: u64,
        findings: Findings<'k>,
    ) -> Self {
        let address = wanted.address.as_str();
        Self {
            judge,
            address,
            scope: Address::trusted(address).folder().to_owned(),
            is_news: is_file_of_news(address),
            skipped,
            findings,
            seen: FileSeen {
                address: address.to_owned(),
                form: Form::Urlset,
                entries: 0,
                images: 0,
                videos: 0,
                news: 0,
                barred: 0,
                bytes,
                milliseconds: None,
                newest: None,
            },
            children: Vec::new(),
            keys: Vec::new(),
            unreturned: Unreturned::default(),
            dates: DateTally::default(),
            listed: Vec::new(),
            weights: Weights::default(),
            last_date: (String::new(), None),
        }
    }

    /// Called after the last entry.
    pub(super) fn end(&mut self) {
        self.judge.sample.trim(&mut self.listed);
    }

    pub(super) fn find(&mut self, kind: &'static FindingKind, line: u64, loc: &str, what: impl FnOnce() -> String) {
        let place = Place::file(self.address).at(line);
        let loc = address::shown(loc);
        let place = if loc.is_empty() { place } else { place.about(&loc) };
        self.findings.add(kind, place, what);
    }

    fn odd(&mut self, oddities: &[Oddity], loc: &str) {
        for Oddity { line, name, kind } in oddities {
            let line = line + self.skipped;
            let (kind, what) = match kind {
                OddityKind::Misplaced => (&NAMESPACE, format!("{name} is not in its namespace")),
                OddityKind::Unknown => (&ELEMENT_UNKNOWN, format!("{name} is not an element of the protocol")),
                OddityKind::Foreign => {
                    (&NAMESPACE_UNKNOWN, format!("{name} is in a namespace that engines do not read"))
                }
                OddityKind::Withdrawn => (&WITHDRAWN, format!("{name} was withdrawn")),
                OddityKind::OutOfOrder => (&ELEMENT_ORDER, format!("{name} comes too late")),
                OddityKind::Repeated => (&ELEMENT_TWICE, format!("{name} is there more than once")),
            };
            self.find(kind, line, loc, || what);
        }
    }

    /// Reads a date and says what is wrong with it.
    pub(super) fn date(&mut self, line: u64, loc: &str, text: &str) -> Option<Lastmod> {
        if self.last_date.0 == text && !text.is_empty() {
            return self.last_date.1;
        }
        let Some(date) = Lastmod::read(text, &TimeZone::UTC) else {
            self.find(&LASTMOD_NO_DATE, line, loc, || format!("“{}” is not a date", excerpt(text)));
            return None;
        };
        let is_feed = self.address.ends_with(".rss") || date_of_mail(text);
        let is_right = is_feed || lastmod::is_schema_form(text);
        if !is_right {
            self.find(&LASTMOD_FORM, line, loc, || format!("“{text}” is not in a form that the schema allows"));
        }
        // One day of grace: the day may have begun in another zone.
        let is_possible = date.epoch_day() <= self.judge.now.epoch_day() + 1;
        if !is_possible {
            self.find(&LASTMOD_FUTURE, line, loc, || format!("{text} lies in the future"));
        }
        if is_right && is_possible {
            self.last_date.0.clear();
            self.last_date.0.push_str(text);
            self.last_date.1 = Some(date);
        }
        Some(date)
    }

    fn loc(&mut self, line: u64, url: &RawUrl<'_>, loc: &str) {
        let home = self.judge.home.as_ref();
        let parsed;
        // Most URLs are plain ones of the site, which need no parsing.
        let address = match home.and_then(|home| home.plain(loc)) {
            Some(plain) => plain,
            None => {
                let ascii = loc.bytes().all(|byte| byte.is_ascii_graphic());
                let Some(address) = Address::parse(loc).ok().filter(|_| ascii) else {
                    self.find(&LOC_NO_URL, line, loc, || "not an absolute, percent-encoded URL".to_owned());
                    return;
                };
                parsed = address;
                parsed.as_str()
            }
        };
        if loc.len() > address::LONGEST {
            self.find(&TOO_LONG, line, loc, || format!("{} characters", grouped(loc.len() as u64)));
        }
        let (origin, own) = (address::origin(address), address::origin(self.address));
        let is_declared_here = origin == self.judge.origin && (own != self.judge.origin || self.judge.anywhere);
        if is_declared_here {
            // Declared by the robots.txt of the host whose URLs it lists, or it is unknown where it will be served.
        } else if origin != own {
            self.find(&OTHER_HOST, line, loc, || format!("not on {own}"));
        } else if !address.starts_with(&self.scope) {
            self.find(&LOC_OUT_OF_SCOPE, line, loc, || "not in the folder of the sitemap".to_owned());
        }
        if origin == self.judge.origin
            && let Some(barred) = self.judge.barred(address::path(address))
        {
            self.seen.barred += 1;
            self.find(&DISALLOWED, line, loc, || barred);
        }
        // The pictures, videos or news of a page may be in files of their own, beside the page itself.
        let part = [!url.images.is_empty(), !url.videos.is_empty(), url.news.is_some() || self.is_news];
        let part = part.iter().fold(0, |bits, has| bits << 1 | u64::from(*has));
        self.keys.push((xxh3_64_with_seed(address.as_bytes(), part), self.seen.entries as u32 - 1));
        if self.judge.sample != PageSample::None {
            self.list(line, url, address);
        }
    }

    /// Keeps a URL that is to be visited.
    fn list(&mut self, line: u64, url: &RawUrl<'_>, address: &str) {
        let pictures = url.images.iter().map(|image| (MediaKind::Picture, image.to_string()));
        let of = |kind, element: VideoElement| {
            url.videos.iter().filter_map(move |video| Some((kind, video.text(element)?.to_owned())))
        };
        let thumbnails = of(MediaKind::Thumbnail, VideoElement::Thumbnail);
        let videos = of(MediaKind::Video, VideoElement::Content).chain(of(MediaKind::Player, VideoElement::Player));
        let media = pictures.chain(thumbnails).chain(videos).take(MOST_VISITED).collect();
        let key = xxh3_64(address.as_bytes());
        self.listed.push(ListedPage { url: address.to_owned(), file: self.address.to_owned(), line, media, key });
        // From time to time, so that a large file takes no more memory than the sample.
        if let PageSample::Some(most) = self.judge.sample
            && self.listed.len() > 4 * most + 1000
        {
            self.judge.sample.trim(&mut self.listed);
        }
    }

    fn hints(&mut self, line: u64, url: &RawUrl<'_>, loc: &str) {
        if let Some(word) = &url.changefreq
            && !Changefreq::ALL.iter().any(|one| one.as_str() == word)
        {
            self.find(&HINT_UNKNOWN, line, loc, || format!("changefreq “{}”", excerpt(word)));
        }
        if let Some(text) = &url.priority
            && !text.parse().is_ok_and(|number: f64| (0.0..=1.0).contains(&number))
        {
            self.find(&HINT_UNKNOWN, line, loc, || format!("priority “{}”", excerpt(text)));
        }
    }

    fn translations(&mut self, line: u64, url: &RawUrl<'_>, loc: &str) {
        if url.alternates.is_empty() {
            return;
        }
        for (at, one) in url.alternates.iter().enumerate() {
            if let Err(why) = language::tag(&one.language) {
                self.find(&ALTERNATE_LANGUAGE, line, loc, || why.to_string());
            }
            let target = Address::parse(&one.url).ok().filter(|_| one.url.bytes().all(|byte| byte.is_ascii_graphic()));
            let Some(target) = target else {
                self.find(&ALTERNATE_NO_URL, line, loc, || format!("href “{}”", excerpt(&one.url)));
                continue;
            };
            let before = &url.alternates[..at];
            let is_twice = |other: &&language::Alternate<'_>| {
                other.language.eq_ignore_ascii_case(&one.language) && other.url != one.url
            };
            if let Some(other) = before.iter().find(is_twice) {
                self.find(&ALTERNATE_TWICE, line, loc, || {
                    format!("hreflang {} names both {} and {}", one.language, other.url, one.url)
                });
            }
            if target.as_str() != loc && !before.iter().any(|other| other.url == one.url) {
                self.unreturned.link(loc, target.as_str(), line);
            }
        }
        if !url.alternates.iter().any(|one| one.url == loc) {
            self.find(&ALTERNATE_NOT_ITSELF, line, loc, || "it is not among its own translations".to_owned());
        }
    }

    fn weigh(&mut self, url: &RawUrl<'_>) {
        let length = |text: &Option<std::borrow::Cow<'_, str>>| text.as_ref().map_or(0, |text| text.len() as u64);
        self.weights.urls += length(&url.loc) + length(&url.lastmod);
        self.weights.media += url.images.iter().map(|image| image.len() as u64).sum::<u64>();
        let of_video = url.videos.iter().flat_map(|video| &video.elements).map(|element| element.text.len() as u64);
        self.weights.media += of_video.sum::<u64>();
        self.weights.alternates += url.alternates.iter().map(|one| one.url.len() as u64).sum::<u64>();
    }
}

impl<'a> SitemapVisitor<'a> for FileJudge<'_, '_> {
    fn url(&mut self, url: RawUrl<'a>) {
        self.seen.entries += 1;
        self.seen.images += url.images.len() as u64;
        self.seen.videos += url.videos.len() as u64;
        let line = url.line + self.skipped;
        let loc = url.loc.as_deref().unwrap_or("");
        self.odd(&url.oddities, loc);
        if loc.is_empty() {
            return self.find(&LOC_MISSING, line, "", || "a url without loc".to_owned());
        }
        self.weigh(&url);
        self.loc(line, &url, loc);
        if let Some(text) = &url.lastmod
            && let Some(date) = self.date(line, loc, text)
        {
            self.dates.add(date);
            if self.seen.newest.is_none_or(|known| known.seconds() < date.seconds()) {
                self.seen.newest = Some(date);
            }
        }
        self.hints(line, &url, loc);
        self.translations(line, &url, loc);
        self.media(line, &url, loc);
    }

    fn sitemap(&mut self, sitemap: RawSitemap<'a>) {
        self.seen.entries += 1;
        let line = sitemap.line + self.skipped;
        let loc = sitemap.loc.as_deref().unwrap_or("");
        self.odd(&sitemap.oddities, loc);
        if loc.is_empty() {
            return self.find(&LOC_MISSING, line, "", || "a sitemap without loc".to_owned());
        }
        if let Some(text) = &sitemap.lastmod {
            self.date(line, loc, text);
        }
        let address = match Address::parse(loc) {
            Ok(address) => address,
            Err(why) => return self.find(&LOC_NO_URL, line, loc, || why.to_string()),
        };
        if !address.as_str().starts_with(&self.scope) && !self.judge.anywhere {
            let what = format!("not below {}", self.scope);
            self.find(&CHILD_ELSEWHERE, line, loc, || what);
        }
        let lastmod = sitemap.lastmod.map(std::borrow::Cow::into_owned);
        self.children.push(Child { line, address: address.into_string(), lastmod });
    }

    fn oddity(&mut self, oddity: Oddity) {
        self.odd(&[oddity], "");
    }
}

/// Whether a text is a date as in mail headers and RSS, which are right in a feed.
fn date_of_mail(text: &str) -> bool {
    text.bytes().next().is_some_and(|byte| byte.is_ascii_alphabetic())
}

/// Whether a file holds news, by the names that this tool gives. If nothing is news, such a file lists the newest
/// articles instead.
fn is_file_of_news(sitemap: &str) -> bool {
    let name = sitemap.rsplit('/').next().unwrap_or_default();
    parts_of(name).is_some_and(|(_, kind, _)| kind == FileKind::News)
}
