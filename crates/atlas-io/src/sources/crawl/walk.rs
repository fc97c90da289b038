//! A crawl under way: what to request next, what came of each request, and when to stop.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};

use atlas_core::address::Address;
use atlas_core::contribution::Contribution;
use atlas_core::frontier::{CrawlLimits, Frontier, Visit};
use atlas_core::links;
use atlas_core::number::count;
use atlas_core::report::Problem;
use atlas_core::robots::Robots;
use atlas_store::disk::Stamp;
use atlas_store::error::StoreError;
use atlas_store::model::Learnt;
use atlas_store::source::{Gathering, Source};
use jiff::Timestamp;
use reqwest::StatusCode;
use tokio::sync::mpsc;
use tokio::task::JoinSet;

use super::fetch::{FetchedBody, Fetcher, Visited};
use super::{CrawlSource, ReadPage, TOKEN, hand_over};
use crate::sources::failed;

/// How often an address is tried.
const TRIES: u32 = 3;
/// After this many failures in a row, the server is considered gone.
const GONE: u32 = 20;
/// If most of this many first pages are refused, robots are considered unwelcome.
const FIRST: u32 = 20;
/// The longest pause that is waited for on a server's request.
const PATIENCE: Duration = Duration::from_secs(120);
/// How often what was learnt is saved.
const KEEP_EVERY: Duration = Duration::from_secs(5);
/// An interrupted crawl starts over after this many milliseconds.
const STALE: i64 = 86_400_000;
/// How many fetched pages may wait to be read, for each connection.
const BACKLOG: usize = 4;

/// Something that happens once or several times: how often, and where first.
#[derive(Debug, Default)]
struct SeenOften(u64, Option<String>);

impl SeenOften {
    fn add(&mut self, address: &Address) {
        self.0 += 1;
        self.1.get_or_insert_with(|| address.to_string());
    }

    /// Adds a remark about it; `one` and `many` describe it.
    fn tell(&self, gathering: &mut Gathering<'_>, one: &str, many: &str) {
        if let Some(first) = &self.1 {
            gathering.remark(format!("{}, such as {first}", count(self.0, one, many)));
        }
    }
}

/// A crawl under way.
pub(super) struct Walk<'w, 'g> {
    crawl: &'w CrawlSource,
    fetcher: Fetcher,
    robots: Robots,
    gathering: &'w mut Gathering<'g>,
    frontier: Frontier,
    /// What was found, by address, so that the order does not depend on which answer came first.
    found: BTreeMap<String, (Vec<u8>, Vec<u8>)>,
    /// When this crawl began, in milliseconds since 1970. What was learnt since then is not requested again.
    since: i64,
    tries: HashMap<String, u32>,
    failures_in_a_row: u32,
    visited: u32,
    refused: u32,
    paused_until: Option<Instant>,
    next_request: Instant,
    kept_at: Instant,
    barred: SeenOften,
    empty: SeenOften,
    /// Why it stopped early. It will continue another time.
    stopped: Option<String>,
}

impl<'w, 'g> Walk<'w, 'g> {
    pub(super) fn new(
        crawl: &'w CrawlSource,
        fetcher: Fetcher,
        robots: Robots,
        gathering: &'w mut Gathering<'g>,
    ) -> Self {
        let now = Timestamp::now().as_millisecond();
        let noted = gathering.memory().note.as_deref().and_then(|note| note.parse::<i64>().ok());
        let since = noted.filter(|since| now - since < STALE).unwrap_or(now);
        gathering.set_note(Some(since.to_string()));
        let year = jiff::tz::TimeZone::UTC.to_datetime(Timestamp::now()).year();
        let limits = CrawlLimits { pages: crawl.most_pages, depth: crawl.most_depth, year };
        Self {
            crawl,
            fetcher,
            robots,
            gathering,
            frontier: Frontier::new(crawl.site.clone(), crawl.dropped.clone(), limits),
            found: BTreeMap::new(),
            since,
            tries: HashMap::new(),
            failures_in_a_row: 0,
            visited: 0,
            refused: 0,
            paused_until: None,
            next_request: Instant::now(),
            kept_at: Instant::now(),
            barred: SeenOften::default(),
            empty: SeenOften::default(),
            stopped: None,
        }
    }

    pub(super) async fn run(&mut self) -> Result<(), StoreError> {
        let deadline = Instant::now() + self.crawl.most_time;
        let mut fetching: JoinSet<(Visit, Visited)> = JoinSet::new();
        let (sender, mut read_pages) = mpsc::unbounded_channel::<ReadPage>();
        let mut reading = 0;
        let reader = Arc::new(self.crawl.clone());
        loop {
            if Instant::now() >= deadline && self.stopped.is_none() {
                let minutes = self.crawl.most_time.as_secs() / 60;
                let minutes = count(minutes, "minute", "minutes");
                self.stopped = Some(format!("stopped after {minutes} (most_minutes)"));
            }
            let may_begin = self.stopped.is_none() && reading < self.crawl.connections * BACKLOG;
            while may_begin && fetching.len() < self.crawl.connections && self.may_request() {
                let Some(visit) = self.frontier.next_visit() else { break };
                self.begin(visit, &mut fetching);
            }
            if fetching.is_empty() && reading == 0 && (self.stopped.is_some() || self.frontier.is_empty()) {
                return Ok(());
            }
            let waits_for_pace = may_begin && !self.frontier.is_empty() && fetching.len() < self.crawl.connections;
            let left = deadline.saturating_duration_since(Instant::now()).max(Duration::from_millis(1));
            let pause = if waits_for_pace { self.pause() } else { KEEP_EVERY }.min(left);
            tokio::select! {
                Some(page) = read_pages.recv() => {
                    reading -= 1;
                    self.take_page(page)?;
                }
                Some(done) = fetching.join_next(), if !fetching.is_empty() => {
                    let Ok((visit, fetched)) = done else { continue };
                    if let Some((visit, body)) = self.take(visit, fetched)? {
                        reading += 1;
                        let (crawl, sender) = (Arc::clone(&reader), sender.clone());
                        // The receiver is gone only if the crawl has failed.
                        rayon::spawn(move || drop(sender.send(crawl.read(visit, body))));
                    }
                }
                () = tokio::time::sleep(pause), if self.stopped.is_none() => {}
            }
            if self.kept_at.elapsed() > KEEP_EVERY {
                self.gathering.keep()?;
                self.kept_at = Instant::now();
            }
        }
    }

    fn may_request(&self) -> bool {
        let now = Instant::now();
        self.next_request <= now && self.paused_until.is_none_or(|until| until <= now)
    }

    /// How long to wait before the next request.
    fn pause(&self) -> Duration {
        let next = self.paused_until.map_or(self.next_request, |until| until.max(self.next_request));
        next.saturating_duration_since(Instant::now()).clamp(Duration::from_millis(1), Duration::from_secs(1))
    }

    /// Begins to visit an address. What was already learnt in this crawl is used.
    fn begin(&mut self, visit: Visit, fetching: &mut JoinSet<(Visit, Visited)>) {
        if let Some(barred) = self.robots.barred(TOKEN, visit.address.path()) {
            self.barred.add(&visit.address);
            let words =
                format!("line {} of the live site's file: Disallow: {} (for {TOKEN})", barred.line, barred.pattern);
            let contribution = Contribution { barred: Some(words.into()), ..self.said_of(&visit) };
            return self.keep_said(&visit, &contribution, Vec::new(), None);
        }
        let recalled = self.gathering.memory().known.get(visit.address.as_str());
        if let Some(learnt) = recalled.filter(|learnt| learnt.stamp.modified >= self.since).cloned() {
            return self.meet_again(&visit, learnt, false);
        }
        let validators = recalled.map(|learnt| learnt.validators.clone()).unwrap_or_default();
        if self.crawl.requests_per_second > 0.0 {
            self.next_request =
                self.next_request.max(Instant::now()) + Duration::from_secs_f64(1.0 / self.crawl.requests_per_second);
        }
        let fetcher = self.fetcher.clone();
        fetching.spawn(async move {
            let fetched = fetcher.fetch(&visit.address, &validators).await;
            (visit, fetched)
        });
    }

    /// Processes an answer; a page is returned for reading.
    fn take(&mut self, visit: Visit, fetched: Visited) -> Result<Option<(Visit, FetchedBody)>, StoreError> {
        if !matches!(fetched, Visited::Failing(_) | Visited::Wait(..)) {
            self.failures_in_a_row = 0;
            self.visited += 1;
        }
        match fetched {
            Visited::Page(body) => return Ok(Some((visit, body))),
            Visited::Same => match self.gathering.memory().known.get(visit.address.as_str()).cloned() {
                Some(learnt) => self.meet_again(&visit, learnt, true),
                None => {
                    self.no_page(&visit, "304 Not Modified, although it was asked for the whole page".to_owned())?
                }
            },
            Visited::Redirect(status, target) => self.redirected(&visit, status, &target)?,
            Visited::Nothing(why) => self.no_page(&visit, why)?,
            Visited::Refused(why) => {
                self.refused += 1;
                self.no_page(&visit, why)?;
            }
            Visited::Failing(why) => self.again(visit, why)?,
            Visited::Wait(wait, status) => self.patience(visit, wait, status)?,
        }
        Ok(None)
    }

    /// Records that there is no page. If this concerns the home page or most of the first pages, it concerns the whole
    /// site.
    fn no_page(&mut self, visit: &Visit, why: String) -> Result<(), StoreError> {
        if visit.depth == 0 {
            return Err(self.failed(format!(
                "the home page answers {why}; if robots are kept out, let “{TOKEN}” in, or gather from another source"
            )));
        }
        if self.visited <= FIRST && self.refused > FIRST / 2 {
            return Err(self.failed(format!(
                "{} of the first {} pages answer {why}: robots are blocked. Let “{TOKEN}” in, or gather from another source",
                self.refused, self.visited
            )));
        }
        let contribution = Contribution { failure: Some(why.into()), ..self.said_of(visit) };
        self.keep_said(visit, &contribution, Vec::new(), None);
        Ok(())
    }

    fn redirected(&mut self, visit: &Visit, status: String, target: &Address) -> Result<(), StoreError> {
        let target = self.frontier.known_as(target);
        if visit.depth == 0 && !self.crawl.site.holds(target.as_str()) {
            return Err(self.failed(format!("the home page redirects to {target}; correct [site] url")));
        }
        let mut contribution = self.said_of(visit);
        if target == visit.address {
            // It insists on parameters that do not select another page; without them there is no page.
            contribution.failure =
                Some(format!("a redirect to itself ({status}), except for parameters that are dropped").into());
        } else {
            contribution.refresh = Some(target.as_str().to_owned().into());
            contribution.redirected = Some(status.into());
            self.frontier.offer(&target, visit);
        }
        self.keep_said(visit, &contribution, Vec::new(), None);
        Ok(())
    }

    /// Tries an address again, or gives up. Then what was known of it remains.
    fn again(&mut self, visit: Visit, why: String) -> Result<(), StoreError> {
        self.failures_in_a_row += 1;
        if self.failures_in_a_row >= GONE || (visit.depth == 0 && self.visited == 0 && self.failures_in_a_row >= TRIES)
        {
            return Err(self.failed(format!("the server no longer answers ({why}); what was learnt so far is kept")));
        }
        let tries = self.tries_of(&visit);
        if tries < TRIES {
            self.frontier.put_last(visit);
            return Ok(());
        }
        self.give_up(&visit, why, tries);
        Ok(())
    }

    /// How often an address has been tried.
    fn tries_of(&mut self, visit: &Visit) -> u32 {
        let tries = self.tries.entry(visit.address.to_string()).or_default();
        *tries += 1;
        *tries
    }

    fn give_up(&mut self, visit: &Visit, why: String, tries: u32) {
        let known = self.gathering.memory().known.get(visit.address.as_str());
        // A failure of an earlier crawl is not listed.
        let known = known.filter(|learnt| Contribution::read(&learnt.row).failure.is_none()).cloned();
        let message = match &known {
            Some(_) => format!("{why}, tried {tries} times; it is listed as last found"),
            None => format!("{why}, tried {tries} times; it is not listed"),
        };
        let passed_over = known.is_none();
        self.gathering.problem(Problem { file: visit.address.to_string(), line: None, message, passed_over });
        match known {
            Some(learnt) => self.meet_again(visit, learnt, false),
            None => {
                let contribution =
                    Contribution { failure: Some(format!("{why}, tried {tries} times").into()), ..self.said_of(visit) };
                self.keep_said(visit, &contribution, Vec::new(), None);
            }
        }
    }

    /// The server asks for a pause: all requests wait, within limits.
    fn patience(&mut self, visit: Visit, wait: Option<Duration>, status: StatusCode) -> Result<(), StoreError> {
        let tries = self.tries_of(&visit);
        if tries > TRIES {
            return if visit.depth == 0 {
                Err(self.failed(format!("the home page answers {status}, tried {tries} times")))
            } else {
                self.give_up(&visit, status.to_string(), tries);
                Ok(())
            };
        }
        let wait = wait.unwrap_or(Duration::from_secs(1 << tries));
        if wait > PATIENCE {
            self.stopped = Some(format!(
                "stopped because the server answers {} and asks for a pause of {} seconds",
                status.as_u16(),
                wait.as_secs()
            ));
            self.frontier.put_back(visit);
            return Ok(());
        }
        self.paused_until = self.paused_until.max(Some(Instant::now() + wait));
        self.frontier.put_back(visit);
        Ok(())
    }

    fn take_page(&mut self, page: ReadPage) -> Result<(), StoreError> {
        let ReadPage { visit, contribution, followed, links, validators, wall, empty, troubles } = page;
        if wall {
            if visit.depth == 0 {
                return Err(self.failed(format!(
                    "the home page is a challenge to robots (“{}”), not a page of the site. Let “{TOKEN}” in, or gather from another source",
                    contribution.title.as_deref().unwrap_or("without a title")
                )));
            }
            let contribution = Contribution {
                failure: Some("a challenge to robots instead of a page".into()),
                ..self.said_of(&visit)
            };
            self.keep_said(&visit, &contribution, Vec::new(), None);
            return Ok(());
        }
        if empty {
            self.empty.add(&visit.address);
        }
        followed.iter().for_each(|address| self.frontier.offer(address, &visit));
        let settled = troubles.is_empty();
        for message in troubles {
            let file = visit.address.to_string();
            self.gathering.problem(Problem { file, line: None, message, passed_over: false });
        }
        self.keep_said(&visit, &contribution, links, Some(validators).filter(|_| settled));
        Ok(())
    }

    /// Takes over what was learnt about a page before; `anew` if the server has just confirmed it.
    fn meet_again(&mut self, visit: &Visit, learnt: Learnt, anew: bool) {
        links::each(&learnt.links, |link| self.frontier.offer(&Address::trusted(link), visit));
        let contribution = Contribution::read(&learnt.row);
        for target in contribution.refresh.iter().chain(&contribution.canonical) {
            self.frontier.offer(&Address::trusted(target.as_ref()), visit);
        }
        self.gathering.met_again();
        self.gathering.progress(1);
        self.found.insert(visit.address.to_string(), (learnt.row.clone(), learnt.links.clone()));
        if anew {
            let stamp = Stamp { size: 0, modified: Timestamp::now().as_millisecond() };
            self.gathering.learn(visit.address.to_string(), Learnt { stamp, ..learnt });
        }
    }

    fn keep_said(
        &mut self,
        visit: &Visit,
        contribution: &Contribution<'_>,
        links: Vec<u8>,
        validators: Option<String>,
    ) {
        let row = row_of(contribution);
        let stamp = Stamp { size: 0, modified: Timestamp::now().as_millisecond() };
        let learnt =
            Learnt { stamp, row: row.clone(), links: links.clone(), validators: validators.unwrap_or_default() };
        self.gathering.learn(visit.address.to_string(), learnt);
        self.gathering.progress(1);
        self.found.insert(visit.address.to_string(), (row, links));
    }

    fn said_of(&self, visit: &Visit) -> Contribution<'static> {
        Contribution {
            url: visit.address.as_str().to_owned().into(),
            section: self.crawl.section.clone().map(Into::into),
            ..Contribution::default()
        }
    }

    fn failed(&mut self, why: String) -> StoreError {
        // What was learnt is worth saving even now. Failing to save it would be the smaller problem.
        let _ = self.gathering.keep();
        failed(self.crawl.name(), why)
    }

    /// Adds remarks and passes on what was found.
    pub(super) fn finish(mut self) -> Result<(), StoreError> {
        let passed: Vec<String> = (self.frontier.passed().iter())
            .map(|(reason, (times, first))| {
                let addresses = count(*times, "address", "addresses");
                format!("{addresses} not visited: {}; such as {first}", reason.words())
            })
            .collect();
        passed.into_iter().for_each(|remark| self.gathering.remark(remark));
        self.barred.tell(self.gathering, "address barred by robots.txt", "addresses barred by robots.txt");
        self.empty.tell(self.gathering, "page is empty until a script runs", "pages are empty until a script runs");
        match self.stopped.take() {
            None => {
                self.gathering.set_note(None);
                let known = self.gathering.memory().known.keys();
                let gone: Vec<String> = known.filter(|address| !self.found.contains_key(*address)).cloned().collect();
                gone.into_iter().for_each(|address| self.gathering.forget(address));
            }
            Some(why) => {
                let known: Vec<(String, Learnt)> = (self.gathering.memory().known.iter())
                    .filter(|(address, _)| !self.found.contains_key(*address))
                    .map(|(address, learnt)| (address.clone(), learnt.clone()))
                    .collect();
                let waiting = count(self.frontier.waiting() as u64, "address remains", "addresses remain");
                let as_before = match known.len() {
                    0 => String::new(),
                    some => {
                        let pages = count(some as u64, "page known from before is", "pages known from before are");
                        format!("; {pages} listed as before")
                    }
                };
                self.gathering
                    .fail_in_part(format!("{why}; {waiting}, and the next run continues from there{as_before}"));
                for (address, learnt) in known {
                    self.gathering.met_again();
                    self.found.insert(address, (learnt.row, learnt.links));
                }
            }
        }
        hand_over(self.found.into_values(), self.gathering);
        Ok(())
    }
}

fn row_of(contribution: &Contribution<'_>) -> Vec<u8> {
    let mut row = Vec::new();
    contribution.write(&mut row);
    row
}
