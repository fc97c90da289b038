//! Advice about the content of the pages that are listed: `check --content`.

use std::cell::Cell;
use std::fs;

use atlas_core::accepted::Accepted;
use atlas_core::address::Address;
use atlas_core::check::{
    ContentPage, Findings, LINK_NOFOLLOW, LINKED_NOT_FOUND, NoindexShare, Place, Report, UNLINKED,
    VISITOR_PAGE_UNLINKED, judge_content,
};
use atlas_core::choose::Reason;
use atlas_core::page::{LinkSpot, link_spots};
use atlas_core::placement::VISITOR_PAGE;
use atlas_core::report::Notice;
use atlas_io::check::SiteServer;
use atlas_store::build::survey_closely;
use atlas_store::diagnostics::Listed;
use atlas_store::ledger::Ledger;
use atlas_store::report::Survey;
use serde_json::Value;

use super::{known, show_report};
use crate::args::CheckArguments;
use crate::commands::LookedAt;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::session::Session;
use crate::view;

/// The most places of links that are looked up on their pages.
const MOST_SPOTS: usize = 10_000;
/// The most pages that the live site is asked for once more.
const MOST_ASKED: usize = 50;

/// Gathers, and gives advice about what is listed.
pub fn run(settings: &Settings, arguments: &CheckArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let mut looked_at = LookedAt::open(settings, screen)?;
    let progress = screen.progress();
    let more = |rows| progress.more(rows);
    let job = looked_at.job(settings.job(session.now(), &session.stop)).strict(true).progress(&more);
    // All examples of a notice become findings.
    let job = job.telling(MOST_SPOTS, Accepted::none());
    let (survey, entries) = survey_closely(&job, &mut *looked_at.ledger)?;
    drop(progress);
    let accepted = if arguments.accept.is_empty() { &settings.accepted } else { Accepted::none() };
    let mut findings = Findings::new(accepted);
    judge_content(
        &pages(&entries),
        &settings.thin_words,
        noindex(&survey, &entries, &*looked_at.ledger)?,
        &mut findings,
    );
    let again = PagesAgain::new(settings, arguments, session)?;
    nofollow(&again, &entries, &mut findings);
    about_links(&again, &survey, &mut findings);
    visitor_page(&again, &mut findings);
    let listed = entries.iter().filter(|one| one.reason.is_none());
    let (listed, read) = (listed.clone().count() as u64, listed.filter(|one| one.facts.is_some()).count() as u64);
    let report = Report::of_findings(findings);
    if let Some((code, urls)) = arguments.accept.split_first() {
        return known::accept(settings, &report, code, urls, session);
    }
    show_report(&report, arguments, session, &|_| None, || {
        view::check::content(&report, (read, listed), &screen.layout(settings))
    })
}

/// The listed entries.
fn pages(entries: &[Listed]) -> Vec<ContentPage<'_>> {
    let listed = entries.iter().filter_map(|one| {
        Some(ContentPage {
            url: &one.url,
            section: one.section.as_deref()?,
            title: one.title.as_deref(),
            description: one.description.as_deref(),
            lastmod: one.lastmod,
            facts: one.facts,
        })
    });
    listed.collect()
}

/// How many pages say noindex, now and at the last build.
fn noindex(survey: &Survey, entries: &[Listed], ledger: &dyn Ledger) -> Result<NoindexShare, Failure> {
    let now = survey.left_out.iter().find(|one| one.reason == Reason::Noindex).map_or(0, |one| one.counted.count);
    let report = ledger.run(ledger.last_run()?)?.and_then(|(_, report)| serde_json::from_str::<Value>(&report).ok());
    let before = report.map(|report| {
        let of_reason = report["left_out"].as_array().into_iter().flatten();
        let noindex = of_reason.filter(|one| one["reason"] == Reason::Noindex.code());
        noindex.filter_map(|one| one["count"].as_u64()).sum()
    });
    Ok(NoindexShare { now, before, pages: entries.len() as u64 })
}

/// The pages of the site, to look at some of them once more: in their folder, or on the live site if they were crawled.
struct PagesAgain<'s> {
    settings: &'s Settings,
    server: Option<SiteServer>,
    /// How many may still be asked for.
    left: Cell<usize>,
}

impl<'s> PagesAgain<'s> {
    fn new(settings: &'s Settings, arguments: &CheckArguments, session: &Session) -> Result<Self, Failure> {
        let is_crawled = settings.sources.iter().any(|source| source.reads_pages() && source.serves().is_none());
        let server = is_crawled.then(|| SiteServer::new(settings.reach(), arguments.pace(), &session.stop));
        let server = server.transpose().map_err(|error| Failure::said(error.to_string()))?;
        Ok(Self { settings, server, left: Cell::new(MOST_ASKED) })
    }

    /// A page as its visitors get it.
    fn page(&self, url: &str) -> Option<Vec<u8>> {
        self.settings.sources.iter().find_map(|source| source.page(url)).or_else(|| {
            let server = self.server.as_ref().filter(|_| self.left.get() > 0)?;
            self.left.set(self.left.get() - 1);
            server.body(url)
        })
    }

    /// Where links are on a page, if it can be read again.
    fn spots(&self, url: &str, wanted: &dyn Fn(&Address, bool) -> bool) -> Vec<LinkSpot> {
        let read = || Some((self.page(url)?, Address::parse(url).ok()?));
        read().map_or_else(Vec::new, |(bytes, address)| link_spots(&bytes, &address, wanted))
    }
}

/// Names the links that are marked nofollow, which so far are only counted.
fn nofollow(pages: &PagesAgain<'_>, entries: &[Listed], findings: &mut Findings<'_>) {
    let marked = entries.iter().filter(|one| one.reason.is_none());
    let marked = marked.filter(|one| one.facts.is_some_and(|facts| facts.nofollow > 0));
    for entry in marked.take(MOST_SPOTS) {
        let origin = pages.settings.site.root().origin();
        let within = |target: &Address, nofollow: bool| nofollow && target.origin() == origin;
        let found = pages.spots(&entry.url, &within);
        let place = Place::file(&entry.url);
        for LinkSpot { line, words } in &found {
            findings.add(&LINK_NOFOLLOW, place.at(*line).about(&entry.url), || {
                format!("the link “{words}” is marked nofollow")
            });
        }
        if found.is_empty() {
            findings
                .add(&LINK_NOFOLLOW, Place::url(&entry.url), || "links within the site are marked nofollow".to_owned());
        }
    }
}

/// What the survey has noticed about links.
fn about_links(pages: &PagesAgain<'_>, survey: &Survey, findings: &mut Findings<'_>) {
    for noticed in &survey.notices {
        for example in &noticed.examples {
            match (noticed.code, &example.page) {
                (Notice::Unlinked, _) => {
                    findings.add(&UNLINKED, Place::url(&example.url), || "no other page links to it".to_owned());
                }
                (Notice::LinkedNotFound, Some(from)) => {
                    let found = pages.spots(from, &|target, _| target.as_str() == example.url);
                    let place = Place::file(from).about(&example.url);
                    match found.first() {
                        Some(LinkSpot { line, words }) => findings
                            .add(&LINKED_NOT_FOUND, place.at(*line), || format!("the link “{words}” leads to nothing")),
                        None => findings.add(&LINKED_NOT_FOUND, place, || "a link leads to nothing".to_owned()),
                    }
                }
                _ => {}
            }
        }
    }
}

/// Whether the home page links to the visitor page, if there is one.
fn visitor_page(pages: &PagesAgain<'_>, findings: &mut Findings<'_>) {
    let settings = pages.settings;
    if settings.extras.visitors.is_none() {
        return;
    }
    let home = settings.site.root();
    let Some(bytes) = pages.page(home.as_str()).or_else(|| fs::read(settings.web_root.join("index.html")).ok()) else {
        return;
    };
    let address = format!("{}{VISITOR_PAGE}", settings.folder_address());
    if link_spots(&bytes, home, &|target, _| target.as_str() == address).is_empty() {
        let what = || "the home page does not link to it".to_owned();
        findings.add(&VISITOR_PAGE_UNLINKED, Place::url(&address), what);
    }
}
