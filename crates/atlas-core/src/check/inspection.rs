//! The inspection of a site: which file to fetch next, and what is wrong when all are together.

use std::collections::{BTreeMap, BTreeSet, HashSet, VecDeque};

use serde::Serialize;
use xxhash_rust::xxh3::{xxh3_64, xxh3_64_with_seed};

use super::codes::{
    ALTERNATE_NOT_IN, ALTERNATE_NOT_RETURNED, DATES_ALL_SAME, DUPLICATE, FILE_BROKEN, INDEX_IN_INDEX, INDEX_LOOP,
    LOC_NO_URL, NOT_DECLARED, OUT_OF_REACH, ROBOTS_ELSEWHERE, ROBOTS_MISSING, ROBOTS_NOT_TEXT, ROBOTS_TOO_LARGE,
    SITE_SHUT, UNLISTED_FILE,
};
use super::fetched::{FetchResult, FetchedFile};
use super::file::read_any;
use super::findings::{Collected, Findings, Place};
use super::judge::Judge;
use super::listed::{ListedPage, PageSample};
use super::met::MetBefore;
use super::request::{FileRequest, Origin};
use super::returned::Unreturned;
use super::seen::{Child, DateTally, FEW_DATES, FileSeen, JudgedFile};
use crate::accepted::Accepted;
use crate::address::{self, Address, Site};
use crate::format::{Oddity, RawSitemap, RawUrl, SitemapVisitor};
use crate::lastmod::Lastmod;
use crate::number::count;
use crate::placement::plain_name;
use crate::report::{Finding, Severity};
use crate::robots::{ROBOTS_LIMIT, Robots, sitemap_lines};

/// How many indexes within each other are read. The protocol allows one.
const DEEPEST: usize = 3;
/// The most files of one inspection: a full index, and others.
const MOST_FILES: usize = 60_000;

/// Where sitemaps usually are, for sites that declare none.
pub const USUAL_PLACES: [&str; 6] =
    ["sitemap.xml", "sitemap_index.xml", "sitemap-index.xml", "sitemap.xml.gz", "sitemap.txt", "sitemaps/sitemap.xml"];

/// The result of an inspection.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The files that were read, in order.
    pub files: Vec<FileSeen>,
    /// The findings, the worst first.
    pub findings: Vec<Finding>,
    /// How many findings of each code there are beyond those in the list.
    pub more: BTreeMap<&'static str, u64>,
    /// How many findings are known, and not in the list.
    pub accepted: u64,
    /// How many findings there are of each severity.
    pub counts: BTreeMap<Severity, u64>,
    /// How many pages were visited, if any were wanted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pages: Option<PagesVisited>,
}

impl Report {
    /// A report of findings alone.
    pub fn of_findings(findings: Findings<'_>) -> Self {
        let collected = findings.finish();
        let counts = Severity::ALL.into_iter().map(|severity| (severity, collected.count(severity))).collect();
        let Collected { findings, more, accepted } = collected;
        Self { files: Vec::new(), findings, more, accepted, counts, pages: None }
    }
}

/// How many pages were visited.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PagesVisited {
    /// The listed URLs that were to be visited.
    pub wanted: u64,
    /// Those that were visited.
    pub visited: u64,
    /// Those that robots.txt forbids this tool to visit.
    pub not_allowed: u64,
    /// The pictures and videos that were asked for.
    pub media: u64,
    /// Whether it was interrupted.
    pub interrupted: bool,
}

/// An inspection under way.
#[derive(Debug)]
pub struct Inspection<'k> {
    judge: Judge<'k>,
    waiting: VecDeque<FileRequest>,
    asked: HashSet<String>,
    met: MetBefore,
    files: Vec<FileSeen>,
    findings: Findings<'k>,
    unreturned: Unreturned,
    dates: DateTally,
    listed: Vec<ListedPage>,
    pages: Option<PagesVisited>,
    /// Whether any file is wanted that is not a guess.
    is_any_named: bool,
    /// Whether nothing may be fetched, because robots.txt cannot be read.
    shut: bool,
}

impl<'k> Inspection<'k> {
    /// Begins an inspection at this instant, against which dates are judged; `known` are the findings that the
    /// webmaster accepts, and `sample` says which of the listed URLs the caller wants to visit.
    pub fn new(now: Lastmod, known: &'k Accepted, sample: PageSample) -> Self {
        Self {
            judge: Judge {
                now,
                known,
                robots: Robots::default(),
                tokens: vec!["*".to_owned()],
                shut_by: Vec::new(),
                origin: String::new(),
                home: None,
                main: None,
                sample,
                anywhere: false,
            },
            waiting: VecDeque::new(),
            asked: HashSet::new(),
            met: MetBefore::new(),
            files: Vec::new(),
            findings: Findings::new(known),
            unreturned: Unreturned::default(),
            dates: DateTally::default(),
            listed: Vec::new(),
            pages: None,
            is_any_named: false,
            shut: false,
        }
    }

    /// Names crawlers whose rules in robots.txt count, besides those for all.
    pub fn heed(&mut self, tokens: &[String]) {
        self.judge.tokens.extend_from_slice(tokens);
    }

    /// Takes findings that were collected elsewhere.
    pub fn take_findings(&mut self, findings: Findings<'k>) {
        self.findings.append(findings);
    }

    /// Where further findings go.
    pub fn findings(&mut self) -> &mut Findings<'k> {
        &mut self.findings
    }

    /// The rules of robots.txt.
    pub fn rules(&self) -> &Robots {
        &self.judge.robots
    }

    fn set_origin(&mut self, address: &str) {
        address::origin(address).clone_into(&mut self.judge.origin);
        self.judge.home = Site::parse(&self.judge.origin).ok();
    }

    /// Takes robots.txt, which declares the sitemaps. `main` is the main file of the configuration. Without one, and
    /// without a Sitemap line, the usual places are wanted.
    pub fn robots(&mut self, robots_address: &str, fetched: &FetchedFile, main: Option<&str>) {
        self.judge.main = main.map(str::to_owned);
        self.set_origin(robots_address);
        let place = Place::file(robots_address);
        if let Some(answer) = &fetched.answer {
            self.shut = !answer.judge_robots(robots_address, &mut self.findings);
        }
        let mut bytes: &[u8] = match &fetched.result {
            FetchResult::Bytes(bytes) => bytes,
            FetchResult::OutOfReach => {
                let what = "the robots.txt of the host is not below this web root, so it was not checked";
                self.findings.add(&OUT_OF_REACH, place, || what.to_owned());
                &[]
            }
            FetchResult::Missing => {
                self.findings.add(&ROBOTS_MISSING, place, || "there is no robots.txt".to_owned());
                &[]
            }
            FetchResult::Broken(why) => {
                self.findings.add(&FILE_BROKEN, place, || format!("robots.txt cannot be read: {why}"));
                &[]
            }
            FetchResult::Failed => &[],
        };
        if is_page(bytes) {
            self.findings.add(&ROBOTS_NOT_TEXT, place, || "what is served there is a web page".to_owned());
            bytes = &[];
        }
        if bytes.len() > ROBOTS_LIMIT {
            let size = bytes.len().div_ceil(1024);
            self.findings.add(&ROBOTS_TOO_LARGE, place, || format!("robots.txt has {size} KiB"));
        }
        self.judge.robots = Robots::read(bytes);
        for token in &self.judge.tokens {
            let Some(barred) = self.judge.robots.barred(token, "/") else { continue };
            if self.judge.shut_by.contains(&barred.line) {
                continue;
            }
            self.judge.shut_by.push(barred.line);
            let whom = if token == "*" { "all engines" } else { token };
            self.findings.add(&SITE_SHUT, place.at(barred.line as u64), || {
                format!("“Disallow: {}” shuts {whom} out of the home page", barred.pattern)
            });
        }
        let declared = sitemap_lines(bytes);
        for (line, text) in &declared {
            match Address::parse(text) {
                Ok(address) => self.want(FileRequest::named(address.as_str(), Origin::Declared)),
                Err(why) => self.findings.add(&LOC_NO_URL, place.at(*line as u64), || format!("Sitemap: {why}")),
            }
        }
        let is_read = matches!(fetched.result, FetchResult::Bytes(_) | FetchResult::Broken(_));
        match main {
            Some(main) if !declared.iter().any(|(_, text)| text == main) => {
                if is_read {
                    self.findings.add(&NOT_DECLARED, place, || format!("no line “Sitemap: {main}”"));
                }
                self.start_at(main);
            }
            None if declared.is_empty() => {
                if is_read {
                    self.findings.add(&NOT_DECLARED, place, || "no “Sitemap:” line in it".to_owned());
                }
                let places = USUAL_PLACES.map(|name| format!("{}/{name}", self.judge.origin));
                places.iter().for_each(|place| self.want(FileRequest::named(place, Origin::Guessed)));
            }
            _ => {}
        }
    }

    /// Takes robots.txt for its rules alone.
    pub fn rules_from(&mut self, robots_address: &str, fetched: &FetchedFile) {
        self.set_origin(robots_address);
        if let FetchResult::Bytes(bytes) = &fetched.result
            && !is_page(bytes)
        {
            self.judge.robots = Robots::read(bytes);
        }
    }

    /// Wants a file that nothing but the caller names.
    pub fn start_at(&mut self, address: &str) {
        self.want(FileRequest::named(address, Origin::Named));
    }

    /// Inspects a single file: what it lists may be anywhere on `origin`, since it is unknown where it will be served.
    pub fn single(&mut self, address: &str) {
        self.set_origin(address);
        self.judge.anywhere = true;
        self.start_at(address);
    }

    /// Takes note of a robots.txt where no engine looks for it.
    pub fn robots_elsewhere(&mut self, address: &str) {
        let root = format!("{}/robots.txt", self.judge.origin);
        self.findings.add(&ROBOTS_ELSEWHERE, Place::file(address), || format!("engines read {root} alone"));
    }

    /// Whether anything led to a file so far. A compressed copy belongs to its file.
    pub fn leads_to(&self, address: &str) -> bool {
        self.asked.contains(address) || self.asked.contains(plain_name(address))
    }

    /// Takes note of a sitemap file that lies beside the others, and to which nothing led.
    pub fn lies_there(&mut self, address: &str) {
        let what = || "no index lists it, and robots.txt does not declare it".to_owned();
        self.findings.add(&UNLISTED_FILE, Place::file(address), what);
    }

    /// Whether there is no sitemap: none was read, and nothing named one.
    pub fn found_nothing(&self) -> bool {
        self.files.is_empty() && !self.is_any_named && !self.shut
    }

    fn want(&mut self, wanted: FileRequest) {
        self.is_any_named |= !wanted.is_guess();
        if self.asked.len() < MOST_FILES && self.asked.insert(wanted.address.clone()) {
            self.waiting.push_back(wanted);
        }
    }

    /// The next file to fetch. None, if engines may not fetch anything.
    pub fn next_wanted(&mut self) -> Option<FileRequest> {
        if self.shut { None } else { self.waiting.pop_front() }
    }

    /// The judge of files, which may judge several at once.
    pub fn judge(&self) -> &Judge<'k> {
        &self.judge
    }

    /// Takes the verdict on a file that was requested. They have to be taken in the order of the requests.
    pub fn take(&mut self, wanted: &FileRequest, judged: JudgedFile<'k>) {
        let JudgedFile { findings, seen, children, keys, unreturned, dates, listed, bytes } = judged;
        self.findings.append(findings);
        let Some(seen) = seen else { return };
        let is_index = seen.is_index();
        let file = self.files.len() as u32;
        self.files.push(seen);
        if is_index {
            self.index(wanted, children);
        }
        self.duplicates(file, &keys, &bytes);
        self.unreturned.append(unreturned, file);
        self.dates.append(&dates);
        self.listed.extend(listed);
    }

    fn index(&mut self, wanted: &FileRequest, children: Vec<Child>) {
        let address = wanted.address.as_str();
        let place = Place::file(address);
        if let Some(outer) = wanted.trail.last() {
            self.findings.add(&INDEX_IN_INDEX, Place::file(outer).about(address), || {
                "this is an index, listed in an index".to_owned()
            });
        }
        let trail = || wanted.trail.iter().cloned().chain([address.to_owned()]).collect::<Vec<_>>();
        let mut listed = HashSet::new();
        for child in children {
            let place = place.at(child.line).about(&child.address);
            if child.address == address || wanted.trail.contains(&child.address) {
                self.findings.add(&INDEX_LOOP, place, || "it leads back to an index that leads here".to_owned());
            } else if wanted.trail.len() >= DEEPEST {
                self.findings.add(&INDEX_LOOP, place, || {
                    format!("not read: {} are within each other", count(DEEPEST as u64 + 1, "index", "indexes"))
                });
            } else if !listed.insert(child.address.clone()) {
                self.findings.add(&DUPLICATE, place, || "listed more than once in this index".to_owned());
            } else {
                self.want(FileRequest {
                    address: child.address,
                    trail: trail(),
                    stated: child.lastmod,
                    origin: Origin::Listed,
                });
            }
        }
    }

    /// Says which entries of a file were met before. The file is read again for their URLs, which is rarely needed.
    fn duplicates(&mut self, file: u32, keys: &[(u64, u32)], bytes: &[u8]) {
        let mut again: BTreeMap<u32, u32> = BTreeMap::new();
        for &(key, nth) in keys {
            if let Some(before) = self.met.meet(key, file) {
                again.insert(nth, before);
            }
        }
        if again.is_empty() {
            return;
        }
        let mut finder = Again { nth: 0, wanted: again, found: Vec::new() };
        // It was read before, so what is wrong with it is known.
        let _ = read_any(bytes, &mut finder);
        let address = self.files[file as usize].address.clone();
        for (line, url, before) in finder.found {
            let place = Place::file(&address).at(line).about(&url);
            let files = &self.files;
            self.findings.add(&DUPLICATE, place, || match before == file {
                true => "stands above in this file, too".to_owned(),
                false => format!("stands in {}, too", files[before as usize].address),
            });
        }
    }

    /// Whether a URL is listed in any file.
    fn is_listed(&self, hash_of_each_part: impl Fn(u64) -> u64) -> bool {
        (0..8).any(|part| self.met.has(hash_of_each_part(part)))
    }

    /// The translations that do not name the page that names them.
    fn translations(&mut self) {
        let unreturned = std::mem::take(&mut self.unreturned);
        for link in unreturned.left() {
            let file = self.files[link.file as usize].address.clone();
            let Some((page, translation)) = link.addresses.as_deref() else { continue };
            let is_listed = self.is_listed(|part| xxh3_64_with_seed(translation.as_bytes(), part));
            let place = Place::file(&file).at(link.line).about(page);
            if is_listed {
                self.findings
                    .add(&ALTERNATE_NOT_RETURNED, place, || format!("{translation} does not name it in return"));
            } else if address::origin(translation) == self.judge.origin {
                self.findings.add(&ALTERNATE_NOT_IN, place, || format!("{translation} is in no sitemap"));
            }
        }
    }

    /// The URLs to visit, as far as the sample wants them.
    pub fn listed(&mut self) -> Vec<ListedPage> {
        let mut seen = BTreeSet::new();
        let mut listed = std::mem::take(&mut self.listed);
        listed.retain(|one| seen.insert(xxh3_64(one.url.as_bytes())));
        self.judge.sample.draw(listed)
    }

    /// Why nothing was read at an address where a file was wanted; `None` if something was.
    pub fn nothing_at(&self, address: &str) -> Option<String> {
        let is_read = self.files.iter().any(|file| file.address == address && (file.entries > 0 || file.is_index()));
        if is_read {
            return None;
        }
        self.findings.first_about(address)
    }

    /// Takes note of how many pages were visited.
    pub fn visited(&mut self, pages: PagesVisited) {
        self.pages = Some(pages);
    }

    /// The files that were read so far.
    pub fn files(&self) -> &[FileSeen] {
        &self.files
    }

    /// Ends the inspection and returns its result.
    pub fn finish(mut self) -> Report {
        self.translations();
        if let Some(same) = self.dates.same.filter(|_| self.dates.number >= FEW_DATES && !self.dates.differ) {
            let number = self.dates.number;
            let file = self.files.first().map(|file| file.address.clone()).unwrap_or_default();
            let what = || format!("all {} are {same}", count(number, "date", "dates"));
            self.findings.add(&DATES_ALL_SAME, Place::file(&file), what);
        }
        Report { files: self.files, pages: self.pages, ..Report::of_findings(self.findings) }
    }
}

/// Finds the entries with certain numbers.
struct Again {
    nth: u32,
    wanted: BTreeMap<u32, u32>,
    found: Vec<(u64, String, u32)>,
}

impl<'a> SitemapVisitor<'a> for Again {
    fn url(&mut self, url: RawUrl<'a>) {
        if let Some(before) = self.wanted.get(&self.nth) {
            self.found.push((url.line, url.loc.unwrap_or_default().into_owned(), *before));
        }
        self.nth += 1;
    }

    fn sitemap(&mut self, _: RawSitemap<'a>) {}

    fn oddity(&mut self, _: Oddity) {}
}

/// Whether bytes are those of a web page.
fn is_page(bytes: &[u8]) -> bool {
    let head = bytes.trim_ascii_start();
    let begins = |word: &[u8]| head.len() >= word.len() && head[..word.len()].eq_ignore_ascii_case(word);
    begins(b"<!doctype html") || begins(b"<html")
}
