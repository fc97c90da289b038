//! Visiting listed pages: fetched on one thread, read on the others, and judged in the order of the sitemaps.

use std::collections::HashSet;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;
use std::sync::{Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use atlas_core::accepted::Accepted;
use atlas_core::address::{self, Address};
use atlas_core::announce::live::Seen;
use atlas_core::check::{
    Findings, Inspection, ListedPage, MediaKind, MissingPage, PageVisit, PagesVisited, Silence, judge_media, judge_page,
};
use atlas_core::page::PageReader;
use atlas_core::robots::Robots;
use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use reqwest::{Method, header};

use super::server::{SiteServer, silence};
use crate::http::{FetchError, may_lead};
use crate::live::see;
use crate::sources::crawl;

/// The largest page that is read, in bytes.
const LARGEST_PAGE: usize = 32 << 20;
/// How much of a picture or video is read, where a server does not know HEAD.
const FIRST_BYTES: usize = 64 << 10;
/// The longest pause that is waited for, in seconds.
const LONGEST_PAUSE: u64 = 120;
/// How many answers wait to be read.
const WAITING: usize = 64;
/// How often a page is asked for again, when the server asks for a pause.
const TRIES: u32 = 3;

/// Something to visit.
enum Errand<'v> {
    Page(&'v ListedPage),
    Media(&'v ListedPage, MediaKind, &'v str),
}

impl Errand<'_> {
    fn address(&self) -> &str {
        match self {
            Self::Page(page) => &page.url,
            Self::Media(_, _, address) => address,
        }
    }
}

/// Visits the pages that an inspection has listed, and their pictures and videos; `progress` is called for each page.
/// If work is asked to stop, what was found so far counts.
pub fn visit_pages<'k>(
    server: &SiteServer,
    inspection: &mut Inspection<'k>,
    reader: &PageReader,
    known: &'k Accepted,
    progress: &(dyn Fn(u64) + Sync),
) {
    let listed = inspection.listed();
    let origin = listed.first().map(|page| address::origin(&page.url).to_owned()).unwrap_or_default();
    let missing = server.missing_page(&origin, reader);
    let is_allowed = |page: &&ListedPage| is_allowed(inspection.rules(), &origin, &page.url);
    let allowed: Vec<&ListedPage> = listed.iter().filter(is_allowed).collect();
    let media = media_of(&allowed);
    let errands: Vec<Errand<'_>> = allowed.iter().map(|page| Errand::Page(page)).chain(media).collect();
    let visited = AtomicUsize::new(0);
    let media_visited = AtomicUsize::new(0);
    let verdicts: Mutex<Vec<(usize, Findings<'k>)>> = Mutex::new(Vec::new());
    let (to_readers, answers) = sync_channel::<(usize, PageVisit)>(WAITING);
    let answers = Mutex::new(answers);
    thread::scope(|scope| {
        for _ in 0..thread::available_parallelism().map_or(1, usize::from) {
            scope.spawn(|| {
                let next = || answers.lock().unwrap_or_else(PoisonError::into_inner).recv();
                while let Ok((at, visit)) = next() {
                    let mut findings = Findings::new(known);
                    match &errands[at] {
                        Errand::Page(page) => {
                            judge_page(page, &visit, &missing, reader, &mut findings);
                            progress(visited.fetch_add(1, Ordering::Relaxed) as u64 + 1);
                        }
                        Errand::Media(page, kind, address) => {
                            judge_media(page, *kind, address, &visit, &mut findings);
                            media_visited.fetch_add(1, Ordering::Relaxed);
                        }
                    }
                    if !findings.is_empty() {
                        verdicts.lock().unwrap_or_else(PoisonError::into_inner).push((at, findings));
                    }
                }
            });
        }
        // Without a result, work was asked to stop.
        let _ = server.block_on(server.fetch_all(&errands, |answer| {
            // The readers wait for answers until there are no more.
            let _ = to_readers.send(answer);
        }));
        drop(to_readers);
    });
    let mut verdicts = verdicts.into_inner().unwrap_or_else(PoisonError::into_inner);
    verdicts.sort_by_key(|(at, _)| *at);
    let pages = PagesVisited {
        wanted: listed.len() as u64,
        visited: visited.into_inner() as u64,
        not_allowed: (listed.len() - allowed.len()) as u64,
        media: media_visited.into_inner() as u64,
        interrupted: server.stop.is_asked(),
    };
    verdicts.into_iter().for_each(|(_, findings)| inspection.take_findings(findings));
    inspection.visited(pages);
}

/// Whether robots.txt allows this tool to visit a page. Rules of other hosts are not known.
fn is_allowed(robots: &Robots, origin: &str, url: &str) -> bool {
    address::origin(url) != origin || robots.barred(crawl::TOKEN, address::path(url)).is_none()
}

/// The pictures and videos of pages, each once.
fn media_of<'v>(pages: &[&'v ListedPage]) -> Vec<Errand<'v>> {
    let mut met = HashSet::new();
    let all = pages.iter().flat_map(|page| page.media.iter().map(move |(kind, address)| (*page, *kind, address)));
    let own = |page: &ListedPage, address: &str| {
        Address::parse(address).is_ok_and(|address| may_lead(address::host(&page.url), address.host()))
    };
    let new = all.filter(|(page, _, address)| met.insert(address.as_str()) && own(page, address));
    new.map(|(page, kind, address)| Errand::Media(page, kind, address)).collect()
}

impl SiteServer {
    /// What the site shows instead of pages that do not exist.
    pub(super) fn missing_page(&self, origin: &str, reader: &PageReader) -> MissingPage {
        let made_up = format!("{origin}/no-page-has-this-address-{:x}/", origin.len() * 7_919);
        let visit = self.block_on(self.visit(&made_up, Method::GET));
        match visit.map(|visit| visit.seen) {
            Some(Ok(seen)) => MissingPage::of(&made_up, &seen, reader),
            _ => MissingPage::default(),
        }
    }

    /// Fetches everything, so many at once, and passes on the answers as they come.
    async fn fetch_all(&self, errands: &[Errand<'_>], mut take: impl FnMut((usize, PageVisit))) {
        let mut next = errands.iter().enumerate();
        let mut under_way = FuturesUnordered::new();
        loop {
            while under_way.len() < self.pace.connections
                && let Some((at, errand)) = next.next()
            {
                self.take_turn().await;
                let method = if matches!(errand, Errand::Page(_)) { Method::GET } else { Method::HEAD };
                under_way.push(async move { (at, self.visit(errand.address(), method).await) });
            }
            match under_way.next().await {
                Some(answer) => take(answer),
                None => return,
            }
        }
    }

    /// Visits an address, again after a pause if the server asks for one.
    pub(super) async fn visit(&self, address: &str, method: Method) -> PageVisit {
        let mut tries = 1;
        loop {
            let start = Instant::now();
            let seen = self.look(address, &method).await;
            let milliseconds = start.elapsed().as_millis() as u64;
            match &seen {
                Ok(answer) if matches!(answer.status, 429 | 503) && tries < TRIES => {
                    let Some(pause) = answer.retry_after.filter(|pause| *pause <= LONGEST_PAUSE) else {
                        return PageVisit { seen, milliseconds };
                    };
                    tries += 1;
                    self.pause(Duration::from_secs(pause)).await;
                    self.take_turn().await;
                }
                _ => return PageVisit { seen, milliseconds },
            }
        }
    }

    /// Looks once. Servers that do not know HEAD are asked for the first byte.
    async fn look(&self, address: &str, method: &Method) -> Result<Seen, (Silence, String)> {
        let request = |method: &Method| self.reach.request(&self.client, method.clone(), address);
        let seen = match see(request(method), address, LARGEST_PAGE).await {
            Ok(seen) if *method == Method::HEAD && !matches!(seen.status, 200..=399 | 404 | 410) => {
                see(request(&Method::GET).header(header::RANGE, "bytes=0-0"), address, FIRST_BYTES).await
            }
            seen => seen,
        };
        match seen {
            Ok(seen) => Ok(seen),
            // It is there, and larger than was wanted.
            Err(FetchError::TooLarge(_)) => Ok(Seen { status: 200, ..Seen::default() }),
            Err(FetchError::NoAnswer(error)) => Err(silence(&error)),
            Err(why) => Err((Silence::NoAnswer, why.to_string())),
        }
    }
}
