//! Looking at single pages of the live site, listed or not: where they lead, what keeps engines from taking them, and
//! which sitemap file lists them.

use std::collections::{HashMap, HashSet, VecDeque};
use std::time::{Duration, Instant};

use atlas_core::address::Address;
use atlas_core::announce::live::{NotLive, page};
use atlas_core::check::{MissingPage, each_url, trouble};
use atlas_core::page::PageReader;
use atlas_core::placement::MOST_BYTES;
use atlas_core::report::Severity;
use atlas_core::robots::{Robots, sitemap_lines};
use atlas_store::error::StoreError;
use serde::Serialize;

use super::gone::Followed;
use super::server::{MOST_ROBOTS, SiteServer};

/// The longest search for the sitemap file that lists a page.
const LONGEST_SEARCH: Duration = Duration::from_secs(5);

/// One answer on the way to a page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PageStep {
    /// The address that was asked for.
    pub url: String,
    /// The HTTP status; 0 if there was no answer.
    pub status: u16,
}

/// A rule of robots.txt that bars a page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct BarredFrom {
    /// The product token of the crawlers that may not fetch it; `*` is all.
    pub token: String,
    /// The line in robots.txt.
    pub line: usize,
    /// The `Disallow` pattern as written.
    pub pattern: String,
}

/// What keeps engines from taking a page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PageTrouble {
    /// The code of the finding.
    pub code: &'static str,
    /// Its severity.
    pub severity: Severity,
    /// What is wrong.
    pub what: String,
    /// What to do about it.
    pub mend: &'static str,
}

/// What was seen of one page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PageLook {
    /// The URL that was asked for.
    pub url: String,
    /// The answers: one, or several if it redirects.
    pub steps: Vec<PageStep>,
    /// The time of the first answer, in milliseconds.
    pub milliseconds: u64,
    /// The rules of robots.txt that bar it.
    pub barred: Vec<BarredFrom>,
    /// Why robots.txt cannot be read, so that engines fetch nothing.
    pub robots_trouble: Option<String>,
    /// What forbids engines to list it, as written.
    pub noindex: Option<String>,
    /// The canonical address that it names, if that is another one.
    pub canonical: Option<String>,
    /// What keeps engines from taking it.
    pub troubles: Vec<PageTrouble>,
    /// The live sitemap file that lists it.
    pub listed_in: Option<String>,
    /// The number of live sitemap files that were searched.
    pub searched: usize,
    /// Whether there were more files than there was time to search.
    pub search_ended: bool,
}

/// Looks at pages, one after the other. `tokens` are the crawlers for which robots.txt is asked, and `likely` tells in
/// which files a page may be listed, so that these are searched first.
///
/// # Errors
///
/// Returns [`StoreError::Interrupted`] if it was asked to stop.
pub fn look_at(
    server: &SiteServer,
    urls: &[Address],
    reader: &PageReader,
    tokens: &[String],
    likely: &dyn Fn(&str) -> Vec<String>,
) -> Result<Vec<PageLook>, StoreError> {
    let mut looker = Looker { server, reader, hosts: HashMap::new() };
    urls.iter().map(|url| looker.look(url, tokens, &likely(url.as_str()))).collect()
}

/// What is known of a host.
struct KnownHost {
    robots: Robots,
    /// Why robots.txt cannot be read, so that engines fetch nothing.
    robots_trouble: Option<String>,
    missing: MissingPage,
    /// The sitemap files that are still to be read, and those that were.
    waiting: VecDeque<String>,
    asked: HashSet<String>,
    listed: HashMap<String, String>,
    read: usize,
}

struct Looker<'s> {
    server: &'s SiteServer,
    reader: &'s PageReader,
    hosts: HashMap<String, KnownHost>,
}

impl Looker<'_> {
    fn look(&mut self, url: &Address, tokens: &[String], likely: &[String]) -> Result<PageLook, StoreError> {
        let origin = url.origin().to_owned();
        if !self.hosts.contains_key(&origin) {
            let host = self.host(&origin)?;
            self.hosts.insert(origin.clone(), host);
        }
        let followed = self.server.block_on(self.server.trace(url.as_str())).ok_or(StoreError::Interrupted)?;
        let Followed { steps, first, last } = followed;
        let end = steps.last().map_or(url.as_str(), |(url, _)| url.as_str());
        let host = self.hosts.get_mut(&origin).ok_or(StoreError::Interrupted)?;
        let barred = |token: &str| {
            let barred = host.robots.barred(token, url.path())?;
            Some(BarredFrom { token: token.to_owned(), line: barred.line, pattern: barred.pattern })
        };
        let barred: Vec<BarredFrom> =
            std::iter::once("*").chain(tokens.iter().map(String::as_str)).filter_map(barred).collect();
        let mut troubles: Vec<PageTrouble> = Vec::new();
        if let Some(barred) = barred.iter().find(|barred| barred.token == "*") {
            let what = format!("robots.txt line {} bars it: “Disallow: {}”", barred.line, barred.pattern);
            troubles.extend(of_code("disallowed", what));
        }
        for (address, visit) in [(url.as_str(), &first), (end, &last)] {
            let found = trouble(address, visit, &host.missing, self.reader);
            let new = found.filter(|(kind, _)| troubles.iter().all(|known| known.code != kind.code));
            troubles.extend(new.and_then(|(kind, what)| of_code(kind.code, what)));
        }
        let not_live = last.seen.as_ref().ok().and_then(|seen| page(end, seen, None, self.reader));
        let (mut noindex, mut canonical) = (None, None);
        match not_live {
            Some(NotLive::Noindex(said)) => noindex = Some(said),
            Some(NotLive::NoindexHeader(said)) => noindex = Some(format!("X-Robots-Tag: {said}")),
            Some(NotLive::Canonical(other)) => canonical = Some(other),
            _ => {}
        }
        let search_ended = search(self.server, host, url.as_str(), likely)?;
        Ok(PageLook {
            url: url.as_str().to_owned(),
            steps: steps.into_iter().map(|(url, status)| PageStep { url, status }).collect(),
            milliseconds: first.milliseconds,
            barred,
            robots_trouble: host.robots_trouble.clone(),
            noindex,
            canonical,
            troubles,
            listed_in: host.listed.get(url.as_str()).cloned(),
            searched: host.read,
            search_ended,
        })
    }

    fn host(&self, origin: &str) -> Result<KnownHost, StoreError> {
        let robots_address = format!("{origin}/robots.txt");
        let reply = self.server.block_on(self.server.ask(&robots_address, MOST_ROBOTS));
        let reply = reply.ok_or(StoreError::Interrupted)?;
        let robots_trouble = match (&reply.answer.silence, reply.answer.status) {
            (Some((_, why)), _) => Some(why.clone()),
            (None, status @ (429 | 500..)) => Some(format!("answers {status}")),
            _ => None,
        };
        let body = if reply.answer.status == 200 { reply.body } else { Vec::new() };
        let mut waiting: VecDeque<String> = sitemap_lines(&body).into_iter().map(|(_, address)| address).collect();
        if waiting.is_empty() {
            waiting.push_back(format!("{origin}/sitemap.xml"));
        }
        Ok(KnownHost {
            robots: Robots::read(&body),
            robots_trouble,
            missing: self.server.missing_page(origin, self.reader),
            waiting,
            asked: HashSet::new(),
            listed: HashMap::new(),
            read: 0,
        })
    }
}

fn of_code(code: &str, what: String) -> Option<PageTrouble> {
    let kind = atlas_core::check::named(code)?;
    Some(PageTrouble { code: kind.code, severity: kind.severity, what, mend: kind.mend })
}

/// Reads the live sitemaps until one lists a page. Returns whether there was no time to read all.
fn search(server: &SiteServer, host: &mut KnownHost, url: &str, likely: &[String]) -> Result<bool, StoreError> {
    let start = Instant::now();
    likely
        .iter()
        .rev()
        .filter(|file| !host.asked.contains(*file))
        .for_each(|file| host.waiting.push_front(file.clone()));
    while !host.listed.contains_key(url) {
        let Some(file) = host.waiting.pop_front() else { return Ok(false) };
        if !host.asked.insert(file.clone()) {
            continue;
        }
        if start.elapsed() > LONGEST_SEARCH {
            return Ok(true);
        }
        let reply = server.block_on(server.ask(&file, MOST_BYTES as usize)).ok_or(StoreError::Interrupted)?;
        if reply.answer.status != 200 {
            continue;
        }
        host.read += 1;
        each_url(&reply.plain(&file), |listed, is_file| {
            if is_file {
                host.waiting.push_back(listed.to_owned());
            } else {
                host.listed.entry(listed.to_owned()).or_insert_with(|| file.clone());
            }
        });
    }
    Ok(false)
}
