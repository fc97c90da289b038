//! Inspecting files: robots.txt, indexes, sitemap files and their compressed copies.

use std::collections::{HashMap, HashSet, VecDeque};

use jiff::tz::TimeZone;
use serde::Serialize;

use super::codes::{
    BEFORE_DECLARATION, BYTE_ORDER_MARK, CHILD_ELSEWHERE, COPY_DIFFERS, FILE_BARRED, FILE_BROKEN, FILE_MISSING,
    FindingKind, INDEX_BEHIND, INDEX_IN_INDEX, LASTMOD_FORM, LASTMOD_FUTURE, LASTMOD_NO_DATE, LOC_MISSING, LOC_NO_URL,
    LOC_TWICE, NEWS_TOO_MANY, NOT_DECLARED, NOT_WELL_FORMED, NOTHING_IN_IT, OTHER_ROOT, OUT_OF_REACH, ROBOTS_ELSEWHERE,
    ROBOTS_MISSING, ROBOTS_TOO_LARGE, SITE_SHUT, TOO_MANY_BYTES, TOO_MANY_FILES, TOO_MANY_URLS,
};
use crate::address::{self, Address};
use crate::derive::news::MOST_NEWS;
use crate::format::{Document, RawSitemap, ReadError, read};
use crate::lastmod::{self, Lastmod};
use crate::number::count;
use crate::placement::{MOST_BYTES, MOST_FILES, MOST_URLS, is_packed, packed_name};
use crate::report::Finding;
use crate::robots::{ROBOTS_LIMIT, Robots, sitemap_lines};

/// A file to fetch, and where it was named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileRequest {
    /// Its address.
    pub address: String,
    /// The index that names it, with the `lastmod` stated there.
    named_by: Option<(String, Option<String>)>,
}

impl FileRequest {
    /// Whether the name says that the file is compressed.
    pub fn is_gzip(&self) -> bool {
        is_packed(&self.address)
    }
}

/// The result of fetching a file; a file whose name ends in `.gz` is unpacked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FetchResult {
    /// Its bytes, unpacked. For a file that is too large, one byte more than the limit is enough.
    Bytes(Vec<u8>),
    /// There is no such file.
    Missing,
    /// The caller cannot look there.
    OutOfReach,
    /// It could not be read or unpacked, and why.
    Broken(String),
}

/// One file that was read.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct FileSeen {
    /// Its address.
    pub address: String,
    /// Whether it is an index.
    pub is_index: bool,
    /// The number of `url` elements, or of `sitemap` elements in an index.
    pub entries: u64,
    /// Pictures.
    pub images: u64,
    /// Videos.
    pub videos: u64,
    /// News articles.
    pub news: u64,
    /// URLs that robots.txt forbids to fetch.
    pub barred: u64,
    /// Unpacked size in bytes.
    pub bytes: u64,
    /// The newest `lastmod` in it.
    pub newest: Option<Lastmod>,
}

/// The result of an inspection.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Report {
    /// The files that were read, in order.
    pub files: Vec<FileSeen>,
    /// The findings, errors first.
    pub findings: Vec<Finding>,
}

/// An inspection under way.
#[derive(Debug)]
pub struct Inspection {
    pub(super) now: Lastmod,
    pub(super) waiting: VecDeque<FileRequest>,
    pub(super) asked: HashSet<String>,
    pub(super) seen: HashMap<u64, u32>,
    pub(super) robots: Robots,
    /// The origin whose robots.txt declares the sitemaps. They may list its URLs from any host.
    pub(super) origin: String,
    /// The address of the main file, if there is a configuration.
    pub(super) main: Option<String>,
    pub(super) report: Report,
    /// The index of every finding in the report, by its file and code.
    found: HashMap<String, HashMap<&'static str, usize>>,
}

impl Inspection {
    /// Begins an inspection at this instant, against which future dates are judged.
    pub fn new(now: Lastmod) -> Self {
        Self {
            now,
            waiting: VecDeque::new(),
            asked: HashSet::new(),
            seen: HashMap::new(),
            robots: Robots::default(),
            origin: String::new(),
            main: None,
            report: Report { files: Vec::new(), findings: Vec::new() },
            found: HashMap::new(),
        }
    }

    /// Takes robots.txt, which declares the sitemaps. `expected` is the main file of the configuration.
    pub fn robots(&mut self, robots_address: &str, fetched: &FetchResult, expected: Option<&str>) {
        self.main = expected.map(str::to_owned);
        let bytes: &[u8] = match fetched {
            FetchResult::Bytes(bytes) => bytes,
            FetchResult::OutOfReach => {
                self.find(&OUT_OF_REACH, robots_address, None, || {
                    "the robots.txt of the host is not below this web root, so it was not checked".to_owned()
                });
                &[]
            }
            FetchResult::Missing => {
                self.find(&ROBOTS_MISSING, robots_address, None, || "there is no robots.txt".to_owned());
                &[]
            }
            FetchResult::Broken(why) => {
                self.find(&FILE_BROKEN, robots_address, None, || format!("robots.txt cannot be read: {why}"));
                &[]
            }
        };
        if bytes.len() > ROBOTS_LIMIT {
            let size = bytes.len().div_ceil(1024);
            self.find(&ROBOTS_TOO_LARGE, robots_address, None, || format!("robots.txt has {size} KiB"));
        }
        self.robots = Robots::read(bytes);
        address::origin(robots_address).clone_into(&mut self.origin);
        if let Some(barred) = self.robots.barred("*", "/") {
            self.find(&SITE_SHUT, robots_address, Some(barred.line as u64), || {
                format!("“Disallow: {}” shuts all engines out of the home page", barred.pattern)
            });
        }
        let declared = sitemap_lines(bytes);
        for (line, text) in &declared {
            match Address::parse(text) {
                Ok(address) => self.want(FileRequest { address: address.as_str().to_owned(), named_by: None }),
                Err(why) => self.find(&LOC_NO_URL, robots_address, Some(*line as u64), || format!("Sitemap: {why}")),
            }
        }
        match expected {
            Some(main) if !declared.iter().any(|(_, text)| text == main) => {
                if !matches!(fetched, FetchResult::Missing | FetchResult::OutOfReach) {
                    self.find(&NOT_DECLARED, robots_address, None, || format!("no line “Sitemap: {main}”"));
                }
                self.want(FileRequest { address: main.to_owned(), named_by: None });
            }
            None if declared.is_empty() && !matches!(fetched, FetchResult::OutOfReach) => {
                self.find(&NOT_DECLARED, robots_address, None, || "no “Sitemap:” line in it".to_owned());
            }
            _ => {}
        }
    }

    /// Takes note of a robots.txt where no engine looks for it.
    pub fn robots_elsewhere(&mut self, address: &str) {
        let root = format!("{}/robots.txt", self.origin);
        self.find(&ROBOTS_ELSEWHERE, address, None, || format!("engines read {root} alone"));
    }

    fn want(&mut self, wanted: FileRequest) {
        if self.asked.insert(wanted.address.clone()) {
            self.waiting.push_back(wanted);
        }
    }

    /// The next file to fetch.
    pub fn next_wanted(&mut self) -> Option<FileRequest> {
        self.waiting.pop_front()
    }

    /// Takes a file that was requested.
    pub fn file(&mut self, wanted: &FileRequest, fetched: &FetchResult) {
        let address = wanted.address.as_str();
        let own_host = address::origin(address) == self.origin;
        if let Some(barred) = self.robots.barred("*", address::path(address)).filter(|_| own_host) {
            self.find(&FILE_BARRED, address, None, || {
                format!("robots.txt line {} bars it: “Disallow: {}”", barred.line, barred.pattern)
            });
        }
        let is_main = self.main.as_deref() == Some(address);
        let by = || match &wanted.named_by {
            Some((index, _)) => format!("listed in {index}"),
            None if is_main => "it is the main file of this site".to_owned(),
            None => "declared in robots.txt".to_owned(),
        };
        match fetched {
            FetchResult::Bytes(bytes) => self.bytes(wanted, bytes),
            FetchResult::OutOfReach => {
                self.find(&OUT_OF_REACH, address, None, || {
                    format!("not below this web root, so it was not checked; {}", by())
                });
            }
            FetchResult::Missing => {
                self.find(&FILE_MISSING, address, None, || format!("there is no such file; {}", by()))
            }
            FetchResult::Broken(why) => self.find(&FILE_BROKEN, address, None, || format!("{why}; {}", by())),
        }
    }

    fn bytes(&mut self, wanted: &FileRequest, bytes: &[u8]) {
        let address = wanted.address.as_str();
        if bytes.len() as u64 > MOST_BYTES {
            self.find(&TOO_MANY_BYTES, address, None, || "more than 52,428,800 bytes".to_owned());
            return;
        }
        if bytes.starts_with(b"\xef\xbb\xbf") {
            self.find(&BYTE_ORDER_MARK, address, None, || "it begins with a byte-order mark".to_owned());
        }
        let file = self.report.files.len() as u32;
        self.report.files.push(FileSeen {
            address: address.to_owned(),
            is_index: false,
            entries: 0,
            images: 0,
            videos: 0,
            news: 0,
            barred: 0,
            bytes: bytes.len() as u64,
            newest: None,
        });
        let mut children = Vec::new();
        let outcome = read(bytes, |url| self.url(file, &url), |sitemap| children.push(sitemap));
        match outcome {
            Ok(Document::Urlset) => self.urlset_ends(wanted, file),
            Ok(Document::Index) if wanted.named_by.is_some() => {
                self.report.files[file as usize].is_index = true;
                self.find(&INDEX_IN_INDEX, address, None, || "an index is listed in an index".to_owned());
            }
            Ok(Document::Index) => {
                self.report.files[file as usize].is_index = true;
                self.index(file, children);
            }
            Err(why) => self.cannot_read(address, &why),
        }
    }

    fn cannot_read(&mut self, address: &str, why: &ReadError) {
        let (kind, line) = match why {
            ReadError::TextBeforeDeclaration => (&BEFORE_DECLARATION, Some(1)),
            ReadError::NotWellFormed { line, .. } => (&NOT_WELL_FORMED, Some(*line)),
            ReadError::OtherRoot(_) | ReadError::OtherNamespace => (&OTHER_ROOT, None),
        };
        self.find(kind, address, line, || why.to_string());
    }

    fn urlset_ends(&mut self, wanted: &FileRequest, file: u32) {
        let address = wanted.address.as_str();
        let seen = self.report.files[file as usize].clone();
        if seen.entries == 0 {
            self.find(&NOTHING_IN_IT, address, None, || "it has no url element".to_owned());
        }
        self.all_barred(file);
        if seen.news > u64::from(MOST_NEWS) {
            self.find(&NEWS_TOO_MANY, address, None, || count(seen.news, "article", "articles"));
        }
        if seen.entries > u64::from(MOST_URLS) {
            self.find(&TOO_MANY_URLS, address, None, || count(seen.entries, "URL", "URLs"));
        }
        let stated = wanted.named_by.as_ref().and_then(|(index, stated)| Some((index, stated.as_deref()?)));
        if let Some((index, text)) = stated
            && let Some(stated) = Lastmod::read(text, &TimeZone::UTC)
            && let Some(newest) = seen.newest
            && newest.epoch_day() > stated.epoch_day()
        {
            self.find(&INDEX_BEHIND, index, None, || {
                format!("gives {text} for {address}, which has a page of {newest}")
            });
        }
    }

    fn index(&mut self, file: u32, children: Vec<RawSitemap>) {
        let address = self.report.files[file as usize].address.clone();
        self.report.files[file as usize].entries = children.len() as u64;
        if children.is_empty() {
            self.find(&NOTHING_IN_IT, &address, None, || "it has no sitemap element".to_owned());
        }
        if children.len() > MOST_FILES {
            self.find(&TOO_MANY_FILES, &address, None, || count(children.len() as u64, "file", "files"));
        }
        let folder = Address::trusted(address.as_str()).folder().to_owned();
        for child in children {
            let line = Some(child.line);
            let Some(loc) = child.loc.filter(|loc| !loc.is_empty()) else {
                self.find(&LOC_MISSING, &address, line, || "a sitemap without loc".to_owned());
                continue;
            };
            if let Some(text) = &child.lastmod {
                self.date(&address, line, text);
            }
            let parsed = match Address::parse(&loc) {
                Ok(parsed) => parsed,
                Err(why) => {
                    self.find(&LOC_NO_URL, &address, line, || why.to_string());
                    continue;
                }
            };
            if !parsed.as_str().starts_with(&folder) {
                self.find(&CHILD_ELSEWHERE, &address, line, || format!("{parsed} is not below {folder}"));
            }
            if self.asked.contains(parsed.as_str()) {
                self.find(&LOC_TWICE, &address, line, || format!("{parsed} is listed more than once"));
            }
            let named_by = Some((address.clone(), child.lastmod));
            self.want(FileRequest { address: parsed.as_str().to_owned(), named_by });
        }
    }

    pub(super) fn date(&mut self, file: &str, line: Option<u64>, text: &str) -> Option<Lastmod> {
        let Some(date) = Lastmod::read(text, &TimeZone::UTC) else {
            self.find(&LASTMOD_NO_DATE, file, line, || format!("“{text}” is not a date"));
            return None;
        };
        if !lastmod::is_schema_form(text) {
            self.find(&LASTMOD_FORM, file, line, || format!("“{text}” is not in a format that the schema allows"));
        }
        // One day of grace: the day may have begun in another zone.
        if date.epoch_day() > self.now.epoch_day() + 1 {
            self.find(&LASTMOD_FUTURE, file, line, || format!("{text} lies in the future"));
        }
        Some(date)
    }

    /// Compares a file with the compressed copy beside it.
    pub fn copies(&mut self, address: &str, file: &[u8], copy: &FetchResult) {
        match copy {
            FetchResult::Bytes(unpacked) if unpacked == file => {}
            FetchResult::Bytes(_) => {
                self.find(&COPY_DIFFERS, address, None, || "its .gz copy has other contents".to_owned())
            }
            FetchResult::Broken(why) => self.find(&FILE_BROKEN, &packed_name(address), None, || why.clone()),
            FetchResult::Missing | FetchResult::OutOfReach => {}
        }
    }

    /// Ends the inspection and returns its result.
    pub fn finish(mut self) -> Report {
        self.report.findings.sort_by_key(|finding| finding.severity);
        self.report
    }

    pub(super) fn find(&mut self, kind: &FindingKind, file: &str, line: Option<u64>, message: impl FnOnce() -> String) {
        let known = self.found.get(file).and_then(|by_code| by_code.get(kind.code));
        if let Some(&known) = known {
            self.report.findings[known].count += 1;
            return;
        }
        let finding = Finding {
            code: kind.code,
            severity: kind.severity,
            file: file.to_owned(),
            line,
            count: 1,
            message: message(),
            mend: self.mend(kind, file),
        };
        self.found.entry(file.to_owned()).or_default().insert(kind.code, self.report.findings.len());
        self.report.findings.push(finding);
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::check::codes::ALL_KINDS;

    const MAIN: &str = "https://www.marrowvale.example/sitemap.xml";
    const ROBOTS: &str = "https://www.marrowvale.example/robots.txt";

    fn inspect(robots: &str, files: &[(&str, &str)]) -> Report {
        let now = Lastmod::read("2026-11-23T12:00:00Z", &TimeZone::UTC).unwrap();
        let mut inspection = Inspection::new(now);
        inspection.robots(ROBOTS, &FetchResult::Bytes(robots.as_bytes().to_vec()), None);
        while let Some(wanted) = inspection.next_wanted() {
            let known = files.iter().find(|(name, _)| wanted.address.ends_with(name));
            let fetched = known.map_or(FetchResult::Missing, |(_, text)| FetchResult::Bytes(text.as_bytes().to_vec()));
            inspection.file(&wanted, &fetched);
        }
        inspection.finish()
    }

    fn codes(report: &Report) -> Vec<&str> {
        report.findings.iter().map(|finding| finding.code).collect()
    }

    fn urlset(inside: &str) -> String {
        format!("<urlset xmlns=\"{}\">{inside}</urlset>", crate::format::SITEMAP)
    }

    fn index(inside: &str) -> String {
        format!("<sitemapindex xmlns=\"{}\">{inside}</sitemapindex>", crate::format::SITEMAP)
    }

    fn declared() -> String {
        format!("User-agent: *\nDisallow: /staff/\nSitemap: {MAIN}\n")
    }

    #[rstest]
    #[case::good("<loc>https://www.marrowvale.example/a</loc><lastmod>2026-11-01</lastmod>", &[])]
    #[case::no_loc("", &["loc-missing"])]
    #[case::relative("<loc>/a</loc>", &["loc-no-url"])]
    #[case::raw("<loc>https://www.marrowvale.example/â</loc>", &["loc-no-url"])]
    #[case::host("<loc>https://marrowvale.example/a</loc>", &["loc-other-host"])]
    #[case::scheme("<loc>http://www.marrowvale.example/a</loc>", &["loc-other-host"])]
    #[case::barred("<loc>https://www.marrowvale.example/staff/a</loc>", &["all-barred", "loc-barred"])]
    #[case::no_date("<loc>https://www.marrowvale.example/a</loc><lastmod>soon</lastmod>", &["lastmod-no-date"])]
    #[case::form("<loc>https://www.marrowvale.example/a</loc><lastmod>2026-11</lastmod>", &["lastmod-form"])]
    #[case::future("<loc>https://www.marrowvale.example/a</loc><lastmod>2027-01-01</lastmod>", &["lastmod-future"])]
    #[case::hint("<loc>https://www.marrowvale.example/a</loc><priority>7</priority>", &["hint-unknown"])]
    #[case::word("<loc>https://www.marrowvale.example/a</loc><changefreq>often</changefreq>", &["hint-unknown"])]
    fn what_is_wrong_with_a_url(#[case] inside: &str, #[case] wanted: &[&str]) {
        let report = inspect(&declared(), &[("sitemap.xml", &urlset(&format!("<url>{inside}</url>")))]);
        assert_eq!(codes(&report), wanted, "{:#?}", report.findings);
    }

    #[rstest]
    #[case::nothing(urlset(""), "nothing-in-it")]
    #[case::broken("<urlset".into(), "not-well-formed")]
    #[case::blank_line(format!("\n<?xml version=\"1.0\"?>{}", urlset("")), "before-declaration")]
    #[case::web_page("<html/>".into(), "other-root")]
    #[case::many(urlset(&"<url><loc>https://www.marrowvale.example/a</loc></url>".repeat(50_001)), "too-many-urls")]
    #[case::large(" ".repeat(52_428_801), "too-many-bytes")]
    #[case::twice(urlset(&"<url><loc>https://www.marrowvale.example/a</loc></url>".repeat(3)), "loc-twice")]
    fn what_is_wrong_with_a_file(#[case] file: String, #[case] wanted: &str) {
        let report = inspect(&declared(), &[("sitemap.xml", &file)]);
        assert!(codes(&report).contains(&wanted), "{:#?}", report.findings);
    }

    #[test]
    fn an_index_and_its_files() {
        let child = |name: &str, date: &str| {
            format!("<sitemap><loc>https://www.marrowvale.example/{name}</loc><lastmod>{date}</lastmod></sitemap>")
        };
        let all = [
            child("a.xml", "2026-10-01"),
            child("gone.xml", "2026-10-01"),
            child("inner.xml", "2026-10-01"),
            "<sitemap><loc>https://cdn.example/b.xml</loc></sitemap>".to_owned(),
        ]
        .concat();
        let one = "<url><loc>https://www.marrowvale.example/x</loc><lastmod>2026-11-02</lastmod></url>";
        let report = inspect(
            &declared(),
            &[
                ("sitemap.xml", &index(&all)),
                ("a.xml", &urlset(one)),
                ("inner.xml", &index(&child("c.xml", "2026-10-01"))),
            ],
        );
        let mut found = codes(&report);
        found.sort_unstable();
        assert_eq!(found, ["child-elsewhere", "file-missing", "file-missing", "index-behind", "index-in-index"]);
        let entries: Vec<u64> = report.files.iter().map(|file| file.entries).collect();
        assert_eq!(entries, [4, 1, 0]);
    }

    #[test]
    fn robots_txt_that_blocks_the_site_or_is_silent() {
        assert_eq!(codes(&inspect("User-agent: *\nDisallow: /\n", &[])), ["site-shut", "not-declared"]);
        assert_eq!(codes(&inspect("", &[])), ["not-declared"]);
    }

    #[test]
    fn a_copy_that_differs() {
        let mut inspection = Inspection::new(Lastmod::from_epoch_day(20_000).unwrap());
        inspection.copies(MAIN, b"a", &FetchResult::Bytes(b"b".to_vec()));
        inspection.copies(MAIN, b"a", &FetchResult::Bytes(b"a".to_vec()));
        inspection.copies(MAIN, b"a", &FetchResult::Broken("cut off".into()));
        assert_eq!(codes(&inspection.finish()), ["copy-differs", "file-broken"]);
    }

    #[test]
    fn codes_are_unique() {
        let codes: HashSet<&str> = ALL_KINDS.iter().map(|kind| kind.code).collect();
        assert_eq!(codes.len(), ALL_KINDS.len());
    }
}
