//! The frontier of a crawl: which addresses of a site are still to be visited, and which are skipped because they never
//! end.
//!
//! A site may make up pages forever: calendars that always have a next month, filters in every combination, links that
//! grow by a folder each time. The limit on pages bounds memory, whatever the site does.

use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};

use serde::Serialize;
use xxhash_rust::xxh3::xxh3_64;

use crate::address::{Address, Site};
use crate::query::Parameters;

/// The most folders in a path.
const MOST_SEGMENTS: usize = 20;
/// How often the same folder may occur in one path.
const MOST_REPEATED: usize = 3;
/// The most queries of one path.
const MOST_QUERIES: u32 = 1000;
/// How many pages of the same shape may lead from one to the next.
const LONGEST_CHAIN: u32 = 200;
/// How many years ahead a calendar is worth following.
const YEARS_AHEAD: i16 = 2;

/// An address to visit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Visit {
    /// The address.
    pub address: Address,
    /// The number of links from the home page.
    pub depth: u32,
    /// How many pages of the same shape led to it, one after the other.
    chain: u32,
    policy: u64,
}

/// Why addresses are skipped.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Passed {
    /// The path has too many folders, or repeats one folder.
    EverDeeper,
    /// One path has too many queries.
    ManyQueries,
    /// It belongs to a calendar, years ahead.
    FarFuture,
    /// Each page leads to one more of the same shape.
    EndlessChain,
    /// It is farther from the home page than the limit.
    TooDeep,
    /// The limit on pages is reached.
    TooMany,
}

impl Passed {
    /// What it means, for the user.
    pub fn words(self) -> &'static str {
        match self {
            Self::EverDeeper => "their paths grow ever deeper",
            Self::ManyQueries => "one path with more than 1,000 different queries",
            Self::FarFuture => "a calendar that leads years ahead",
            Self::EndlessChain => "pages of one shape that each lead to one more, 200 times",
            Self::TooDeep => "they are more links from the home page than most_depth",
            Self::TooMany => "there are more pages than most_pages",
        }
    }
}

/// The limits of a crawl.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CrawlLimits {
    /// The most pages.
    pub pages: usize,
    /// The most links from the home page.
    pub depth: u32,
    /// The current year.
    pub year: i16,
}

/// The addresses that were found, and which of them are still to be visited.
#[derive(Debug)]
pub struct Frontier {
    site: Site,
    dropped: Parameters,
    limits: CrawlLimits,
    met: HashSet<u64>,
    waiting: VecDeque<Visit>,
    queries: HashMap<u64, u32>,
    passed: BTreeMap<Passed, (u64, String)>,
}

impl Frontier {
    /// A frontier that contains the home page. `dropped` are the query parameters that do not select another page.
    pub fn new(site: Site, dropped: Parameters, limits: CrawlLimits) -> Self {
        let home = Visit { address: site.root().clone(), depth: 0, chain: 0, policy: 0 };
        let met = HashSet::from([xxh3_64(home.address.as_str().as_bytes())]);
        Self {
            site,
            dropped,
            limits,
            met,
            waiting: VecDeque::from([home]),
            queries: HashMap::new(),
            passed: BTreeMap::new(),
        }
    }

    /// The next address to visit; those nearest to the home page come first.
    pub fn next_visit(&mut self) -> Option<Visit> {
        self.waiting.pop_front()
    }

    /// Puts an address back as the next to visit.
    pub fn put_back(&mut self, visit: Visit) {
        self.waiting.push_front(visit);
    }

    /// Puts an address back as the last to visit.
    pub fn put_last(&mut self, visit: Visit) {
        self.waiting.push_back(visit);
    }

    /// Whether there is nothing left to visit.
    pub fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }

    /// The number of addresses to visit.
    pub fn waiting(&self) -> usize {
        self.waiting.len()
    }

    /// The number of addresses skipped for each reason, with an example.
    pub fn passed(&self) -> &BTreeMap<Passed, (u64, String)> {
        &self.passed
    }

    /// The one address under which a page is known, without parameters and path marks that do not select another page.
    pub fn known_as(&self, address: &Address) -> Address {
        let cleaned = self.dropped.clean(address.as_str());
        match cleaned.find(";jsessionid=") {
            None if cleaned.len() == address.as_str().len() => address.clone(),
            None => Address::trusted(cleaned),
            Some(start) => {
                let end = cleaned[start..].find('?').map_or(cleaned.len(), |at| start + at);
                Address::trusted(format!("{}{}", &cleaned[..start], &cleaned[end..]))
            }
        }
    }

    /// Adds an address found on a page. Addresses of other sites and those found before are ignored. An address that
    /// means the site but is spelt differently is respelt as the site spells it.
    pub fn offer(&mut self, address: &Address, from: &Visit) {
        let respelt = self.site.respelt(address.as_str()).map(Address::trusted);
        let address = self.known_as(respelt.as_ref().unwrap_or(address));
        if !self.site.holds(address.as_str()) {
            return;
        }
        let key = xxh3_64(address.as_str().as_bytes());
        if self.met.contains(&key) {
            return;
        }
        let path = address.path();
        let policy = shape(path);
        let chain = if policy == from.policy { from.chain + 1 } else { 0 };
        let depth = from.depth + 1;
        if let Some(reason) = self.why_not(path, depth, chain) {
            let (count, _) = self.passed.entry(reason).or_insert_with(|| (0, address.as_str().to_owned()));
            *count += 1;
            return;
        }
        self.met.insert(key);
        self.waiting.push_back(Visit { address, depth, chain, policy });
    }

    fn why_not(&mut self, path: &str, depth: u32, chain: u32) -> Option<Passed> {
        if depth > self.limits.depth {
            return Some(Passed::TooDeep);
        }
        if self.met.len() >= self.limits.pages {
            return Some(Passed::TooMany);
        }
        if goes_ever_deeper(path) {
            return Some(Passed::EverDeeper);
        }
        if years(path).any(|year| year > self.limits.year + YEARS_AHEAD) {
            return Some(Passed::FarFuture);
        }
        if chain >= LONGEST_CHAIN {
            return Some(Passed::EndlessChain);
        }
        let (before, _) = path.split_once('?')?;
        let queries = self.queries.entry(xxh3_64(before.as_bytes())).or_default();
        *queries += 1;
        (*queries > MOST_QUERIES).then_some(Passed::ManyQueries)
    }
}

fn goes_ever_deeper(path: &str) -> bool {
    let path = path.split('?').next().unwrap_or("");
    let segments: Vec<&str> = path.split('/').filter(|segment| !segment.is_empty()).collect();
    let again = |segment: &&str| segments.iter().filter(|other| other == &segment).count() > MOST_REPEATED;
    segments.len() > MOST_SEGMENTS || segments.iter().any(again)
}

/// Years that occur in a path or query together with a month: `/2031/05/`, `?month=2031-05`.
fn years(path: &str) -> impl Iterator<Item = i16> + '_ {
    let bytes = path.as_bytes();
    (0..bytes.len().saturating_sub(6)).filter_map(move |at| {
        let before = at.checked_sub(1).map_or(b'/', |before| bytes[before]);
        let (year, mark, month) = (&bytes[at..at + 4], bytes[at + 4], &bytes[at + 5..at + 7]);
        let digits = year.iter().chain(month).all(u8::is_ascii_digit);
        let alone = !before.is_ascii_alphanumeric() && matches!(mark, b'/' | b'-');
        let is_month = (b"01".as_slice()..=b"12".as_slice()).contains(&month);
        let ends = bytes.get(at + 7).is_none_or(|byte| !byte.is_ascii_alphanumeric());
        (digits && alone && is_month && ends).then(|| path[at..at + 4].parse().ok()).flatten()
    })
}

/// The shape of an address: its path and query, with all numbers treated as equal and without the values of the query.
fn shape(path: &str) -> u64 {
    let mut text = String::with_capacity(path.len());
    let (before, query) = path.split_once('?').unwrap_or((path, ""));
    let mut in_digits = false;
    for letter in before.chars() {
        let digit = letter.is_ascii_digit();
        if !(digit && in_digits) {
            text.push(if digit { '0' } else { letter });
        }
        in_digits = digit;
    }
    for part in query.split('&') {
        text.push('&');
        text.push_str(part.split('=').next().unwrap_or(""));
    }
    xxh3_64(text.as_bytes())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn frontier(pages: usize) -> Frontier {
        let site = Site::parse("https://www.marrowvale.example/").unwrap();
        let dropped = Parameters::new(&["utm_*", "sid"]).unwrap();
        Frontier::new(site, dropped, CrawlLimits { pages, depth: 60, year: 2026 })
    }

    fn at(path: &str) -> Address {
        Address::parse(&format!("https://www.marrowvale.example{path}")).unwrap()
    }

    fn offered(frontier: &mut Frontier, paths: &[&str]) -> Vec<String> {
        let home = frontier.next_visit().unwrap();
        paths.iter().for_each(|path| frontier.offer(&at(path), &home));
        std::iter::from_fn(|| frontier.next_visit()).map(|visit| visit.address.path().to_owned()).collect()
    }

    #[test]
    fn each_page_is_visited_once_whatever_its_parameters() {
        let found = offered(
            &mut frontier(100),
            &["/a?utm_source=x", "/a", "/a?sid=9", "/b;jsessionid=7f?page=2", "/b?page=2", "/", "/a?page=2"],
        );
        assert_eq!(found, ["/a", "/b?page=2", "/a?page=2"]);
    }

    #[test]
    fn other_hosts_are_skipped() {
        let mut frontier = frontier(100);
        let home = frontier.next_visit().unwrap();
        frontier.offer(&Address::parse("https://other.example/").unwrap(), &home);
        frontier.offer(&Address::parse("http://10.0.0.1/").unwrap(), &home);
        assert!(frontier.is_empty() && frontier.passed().is_empty());
    }

    #[test]
    fn other_spellings_of_the_site_are_normalised() {
        let mut frontier = frontier(100);
        let home = frontier.next_visit().unwrap();
        for url in [
            "http://marrowvale.example/fares/",
            "https://marrowvale.example/fares/",
            "http://www.marrowvale.example/halts/",
        ] {
            frontier.offer(&Address::parse(url).unwrap(), &home);
        }
        let met: Vec<Visit> = std::iter::from_fn(|| frontier.next_visit()).collect();
        let met: Vec<&str> = met.iter().map(|visit| visit.address.as_str()).collect();
        assert_eq!(met, ["https://www.marrowvale.example/fares/", "https://www.marrowvale.example/halts/"]);
    }

    #[rstest]
    #[case("/x/y/x/y/x/y/x/y/", Some(Passed::EverDeeper))]
    #[case("/1/2/3/4/5/6/7/8/9/10/11/12/13/14/15/16/17/18/19/20/21/", Some(Passed::EverDeeper))]
    #[case("/diary/2031/05/", Some(Passed::FarFuture))]
    #[case("/diary?month=2031-05", Some(Passed::FarFuture))]
    #[case("/diary/2027/05/", None)]
    #[case("/locomotives/9031/05a/", None)]
    #[case("/part-2031-0577/", None)]
    fn traps_are_recognised_by_their_urls(#[case] path: &str, #[case] wanted: Option<Passed>) {
        let mut frontier = frontier(100);
        offered(&mut frontier, &[path]);
        assert_eq!(frontier.passed().keys().next().copied(), wanted);
    }

    #[test]
    fn a_chain_without_end_ends() {
        let mut frontier = frontier(100_000);
        let mut last = frontier.next_visit().unwrap();
        let mut visited = 0;
        for number in 1..1000 {
            frontier.limits.depth = u32::MAX;
            frontier.offer(&at(&format!("/next/{number}/")), &last);
            match frontier.next_visit() {
                Some(visit) => last = visit,
                None => break,
            }
            visited += 1;
        }
        assert_eq!(visited, LONGEST_CHAIN);
        assert!(frontier.passed().contains_key(&Passed::EndlessChain));
    }

    #[test]
    fn queries_and_pages_are_limited() {
        let mut many = frontier(100_000);
        let paths: Vec<String> = (0..1500).map(|number| format!("/search?q={number}")).collect();
        let found = offered(&mut many, &paths.iter().map(String::as_str).collect::<Vec<_>>());
        assert_eq!((found.len(), many.passed()[&Passed::ManyQueries].0), (1000, 500));
        let mut few = frontier(10);
        let found = offered(&mut few, &paths.iter().map(String::as_str).collect::<Vec<_>>());
        assert_eq!((found.len(), few.passed()[&Passed::TooMany].0), (9, 1491));
    }
}
