//! The source `crawl`: visits the live site from its home page, politely, as a search engine does.
//!
//! It obeys robots.txt and nofollow under its own name, stays on the site's host, keeps to a rate and to limits, and
//! makes conditional requests for known pages. What it learns is saved as it goes, so that an interrupted crawl
//! continues where it was.

mod fetch;
mod walk;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use atlas_core::address::{Address, Site};
use atlas_core::contribution::Contribution;
use atlas_core::fingerprint;
use atlas_core::frontier::Visit;
use atlas_core::lastmod::Lastmod;
use atlas_core::page::{self, HeaderLinks, Page, PageReader};
use atlas_core::query::Parameters;
use atlas_core::robots::Robots;
use atlas_store::arrival::{BLOCK_BYTES, Block};
use atlas_store::error::StoreError;
use atlas_store::model::Learnt;
use atlas_store::source::{Gathering, LiveRobots, Source};

use self::fetch::{FetchedBody, Fetcher, is_page};
use self::walk::Walk;
use crate::http;
use crate::sources::failed;
use crate::sources::html::{followed_links, maps};
use crate::sources::oembed::Asking;

/// The product token of this crawler in robots.txt and robots directives.
pub(crate) const TOKEN: &str = "idle-atlas";

/// A live site.
#[derive(Debug, Clone)]
pub struct CrawlSource {
    /// The site.
    pub site: Site,
    /// The section of its entries.
    pub section: Option<String>,
    /// How pages are read.
    pub reader: PageReader,
    /// Where to ask about videos.
    pub asking: Arc<Asking>,
    /// Media types, such as `application/pdf`, of documents that are listed besides pages.
    pub documents: Vec<String>,
    /// Query parameters that do not select another page.
    pub dropped: Parameters,
    /// The most requests per second; 0 for no limit.
    pub requests_per_second: f64,
    /// The most requests at the same time.
    pub connections: usize,
    /// The most pages.
    pub most_pages: usize,
    /// The most links from the home page.
    pub most_depth: u32,
    /// The time limit.
    pub most_time: Duration,
    /// The time limit for one answer.
    pub wait: Duration,
}

impl Source for CrawlSource {
    fn name(&self) -> String {
        format!("crawl {}", self.site.root())
    }

    fn settings(&self) -> u64 {
        let Self { site, section, reader, asking, documents, dropped, .. } = self;
        fingerprint::settings(&format!(
            "{} {} {section:?} {} {} {documents:?} {}",
            page::VERSION,
            site.root(),
            reader.written(),
            asking.written(),
            dropped.written()
        ))
    }

    fn needs_links(&self) -> bool {
        // Links on unchanged pages are followed, too.
        true
    }

    fn reads_pages(&self) -> bool {
        true
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        gathering.maps(maps(&self.reader, &self.asking, ""));
        let memory = gathering.memory();
        if memory.will_do && memory.note.is_none() {
            recall(gathering);
            return Ok(());
        }
        let run = Self { asking: self.asking.begin(gathering.stop()), ..self.clone() };
        let walked = http::block_on(gathering.stop(), async { Ok(run.walk(gathering).await) });
        walked.map_err(|error| failed(self.name(), error)).and_then(|walked| walked)
    }
}

impl CrawlSource {
    async fn walk(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let failed = |why: String| failed(self.name(), why);
        let fetcher = Fetcher::new(self.wait, self.connections, self.reader.tokens.clone(), self.documents.clone())
            .map_err(|error| failed(error.to_string()))?;
        let live = self.robots(&fetcher).await.map_err(failed)?;
        let robots = match &live {
            Some(LiveRobots::Bytes(bytes)) => Robots::read(bytes),
            Some(LiveRobots::Absent) | None => Robots::default(),
        };
        if let Some(live) = live {
            gathering.live_robots(live);
        }
        let mut walk = Walk::new(self, fetcher, robots, gathering);
        walk.run().await?;
        walk.finish()
    }

    /// The site's robots.txt. If the server fails or does not answer, nothing may be fetched (RFC 9309 section 2.3.1).
    /// `None` if access is refused: then there are no rules, and its contents are unknown.
    async fn robots(&self, fetcher: &Fetcher) -> Result<Option<LiveRobots>, String> {
        let mut at = self.site.of_host("/robots.txt");
        for _ in 0..=5 {
            let answer = fetcher.client.get(at.as_str()).send().await;
            let mut answer = answer.map_err(|error| {
                format!("{at} cannot be fetched ({}), so nothing may be crawled", http::cause(&error))
            })?;
            let status = answer.status();
            let location = answer.headers().get("location").and_then(|target| target.to_str().ok());
            if let Some(target) = location.filter(|_| status.is_redirection()).and_then(|target| at.join(target).ok()) {
                if !http::may_lead(at.host(), target.host()) {
                    return Err(format!(
                        "{at} redirects to {target}, which is not a public address; nothing may be crawled"
                    ));
                }
                at = target;
                continue;
            }
            if status.is_server_error() || status.as_u16() == 429 {
                return Err(format!("{at} answers {status}: as long as it does, nothing may be crawled"));
            }
            if matches!(status.as_u16(), 404 | 410) {
                return Ok(Some(LiveRobots::Absent));
            }
            if !status.is_success() {
                return Ok(None);
            }
            let mut bytes = Vec::new();
            let cut_off = |error| {
                format!(
                    "{at} ends early ({}), so that rules may be missing: nothing may be crawled",
                    http::cause(&error)
                )
            };
            while let Some(chunk) = answer.chunk().await.map_err(cut_off)? {
                bytes.extend_from_slice(&chunk);
                if bytes.len() >= 1 << 20 {
                    break;
                }
            }
            return Ok(Some(LiveRobots::Bytes(bytes)));
        }
        Ok(None)
    }
}

/// A page after reading.
struct ReadPage {
    visit: Visit,
    contribution: Contribution<'static>,
    followed: Vec<Address>,
    links: Vec<u8>,
    validators: String,
    wall: bool,
    empty: bool,
    troubles: Vec<String>,
}

/// Passes on what the last crawl found.
fn recall(gathering: &mut Gathering<'_>) {
    gathering.remark("as of the last crawl; survey crawls it again");
    let known = gathering.memory().known.iter().map(|(address, learnt)| (address.clone(), learnt.clone()));
    let known: BTreeMap<String, Learnt> = known.collect();
    known.keys().for_each(|_| gathering.met_again());
    hand_over(known.into_values().map(|learnt| (learnt.row, learnt.links)), gathering);
}

fn hand_over(found: impl Iterator<Item = (Vec<u8>, Vec<u8>)>, gathering: &mut Gathering<'_>) {
    let mut block = Block::new(gathering.decider());
    for (row, links) in found {
        block.push_bytes(&row);
        block.push_links(links);
        if block.len() * 300 > BLOCK_BYTES {
            let full = std::mem::replace(&mut block, Block::new(gathering.decider()));
            gathering.push_counted(full);
        }
    }
    gathering.push_counted(block);
}

impl CrawlSource {
    /// Reads a fetched body.
    fn read(&self, visit: Visit, body: FetchedBody) -> ReadPage {
        let FetchedBody { bytes, kind, noindex, nofollow, unavailable_after, header_links, validators } = body;
        let HeaderLinks { canonical, alternates } = header_links;
        let deadline = unavailable_after.as_deref().map(|after| Lastmod::read_deadline(after, &self.reader.timezone));
        let expires = deadline.flatten();
        let unreadable = deadline
            .filter(|date| date.is_none())
            .map(|_| format!("unavailable_after “{}”", unavailable_after.as_deref().unwrap_or_default()));
        let address = visit.address.clone();
        let section = self.section.clone().map(Into::into);
        let nothing = |visit, contribution, validators| ReadPage {
            visit,
            contribution,
            followed: Vec::new(),
            links: Vec::new(),
            validators,
            wall: false,
            empty: false,
            troubles: Vec::new(),
        };
        let url = || address.as_str().to_owned().into();
        if !is_page(&kind) {
            let digest = Some(fingerprint::row(&bytes));
            let contribution = Contribution {
                url: url(),
                digest,
                section,
                noindex: noindex.map(Into::into),
                canonical: canonical.map(|canonical| canonical.into_string().into()),
                alternates,
                expires,
                unreadable: unreadable.map(Into::into),
                ..Contribution::default()
            };
            return nothing(visit, contribution, validators);
        }
        let mut page = match page::read(&bytes, &address, &self.reader) {
            Ok(page) => page,
            Err(why) => {
                let contribution = Contribution {
                    url: url(),
                    failure: Some(why.to_string().into()),
                    section,
                    ..Contribution::default()
                };
                return nothing(visit, contribution, validators);
            }
        };
        page.canonical = page.canonical.take().or(canonical);
        page.noindex = page.noindex.take().or(noindex);
        page.expires = page.expires.or(expires);
        page.unreadable = page.unreadable.take().or(unreadable);
        for one in alternates {
            if !page.alternates.contains(&one) {
                page.alternates.push(one);
            }
        }
        page.nofollow |= nofollow;
        let mut troubles = std::mem::take(&mut page.troubles);
        troubles.extend(self.asking.complete(&mut page, &address, &self.site));
        let (wall, empty) = (page.is_wall(), page.needs_script());
        let links = followed_links(&page, &self.site);
        let followed = self.followed(&page);
        let contribution = Contribution { section, ..page.into_contribution(&address) };
        ReadPage { visit, contribution, followed, links, validators, wall, empty, troubles }
    }

    /// The links of a page that a crawler may follow.
    fn followed(&self, page: &Page) -> Vec<Address> {
        let links = page.links.iter().filter(|link| !page.nofollow && !link.nofollow).map(|link| &link.address);
        let others = page.alternates.iter().map(|one| Address::trusted(one.url.as_ref())).collect::<Vec<_>>();
        let own = page.refresh.iter().chain(&page.canonical);
        let all = links.chain(own).cloned().chain(others);
        let means =
            |address: &Address| self.site.holds(address.as_str()) || self.site.respelt(address.as_str()).is_some();
        all.filter(means).collect()
    }
}
