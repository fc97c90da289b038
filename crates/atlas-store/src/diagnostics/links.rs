//! Where the links of all pages lead: to existing pages, to missing ones, or astray.

use std::collections::{BTreeMap, HashMap, HashSet};

use atlas_core::address::{self, Site};
use atlas_core::choose::{Reason, Verdict};
use atlas_core::contribution::{Contribution, is_dead, url_of};
use atlas_core::{fingerprint, links};

use crate::arrival::{Arrivals, RowFlag, RowId};
use crate::settle::{ReportLimits, Sample, Settled};
use crate::source::Source;
use atlas_core::report::{Example, Notice, Noticed};

/// The most examples of one notice that a survey collects.
const MOST_EXAMPLES: usize = 1000;

/// Noted link targets: by address, the first page that links there, and details.
type NotedLinks = BTreeMap<String, (RowId, String, String)>;

/// Where the links of all pages lead.
pub(super) struct Links<'a> {
    arrivals: &'a Arrivals,
    settled: &'a Settled,
    telling: ReportLimits<'a>,
    /// Whether some source reads the pages of the site, including those that list others.
    reads_pages: bool,
    /// The keys of addresses that another page links to.
    linked: HashSet<u128>,
    /// Addresses where nothing is.
    dead: NotedLinks,
    /// Addresses that the site spells differently.
    misspelt: NotedLinks,
    /// Addresses that redirect.
    redirected: NotedLinks,
    /// Addresses of drafts and pages that forbid indexing.
    kept_out: NotedLinks,
}

/// What is known about the targets of links.
struct KnownAddresses<'a> {
    /// All that exist.
    there: HashSet<u128>,
    /// Those that do not exist, according to the server.
    dead: HashSet<u128>,
    /// Those that are left out for a reason that matters to links.
    left_out: HashMap<u128, (Reason, RowId)>,
    /// Addresses that were looked up, and whether nothing is there.
    looked_up: HashMap<u128, bool>,
    seed: u64,
    site: &'a Site,
}

impl KnownAddresses<'_> {
    fn key(&self, url: &str) -> u128 {
        fingerprint::key(self.seed, url)
    }
}

impl<'a> Links<'a> {
    pub(super) fn read(
        arrivals: &'a Arrivals,
        settled: &'a Settled,
        sources: &[Box<dyn Source>],
        telling: ReportLimits<'a>,
    ) -> Self {
        let source = |row_id: RowId| sources.get(usize::from(arrivals.source_of(row_id)));
        let mut found = Self {
            arrivals,
            settled,
            telling,
            reads_pages: sources.iter().any(|source| source.reads_pages()),
            linked: HashSet::new(),
            dead: NotedLinks::new(),
            misspelt: NotedLinks::new(),
            redirected: NotedLinks::new(),
            kept_out: NotedLinks::new(),
        };
        let mut links = arrivals.links().peekable();
        if links.peek().is_none() {
            found.reads_pages = false;
            return found;
        }
        let chooser = arrivals.decider().chooser();
        let mut known = KnownAddresses {
            there: arrivals.others().iter().copied().collect(),
            dead: HashSet::new(),
            left_out: HashMap::new(),
            looked_up: HashMap::new(),
            seed: arrivals.decider().seed(),
            site: &chooser.site,
        };
        arrivals.each_summary(|row_id, summary| {
            let keys = if is_dead(&arrivals.row(row_id)) { &mut known.dead } else { &mut known.there };
            keys.insert(summary.key());
        });
        settled.entry_rows.each(arrivals, |entry_row| {
            if let Verdict::LeftOut(reason @ (Reason::Redirect | Reason::Noindex | Reason::Draft)) = entry_row.verdict()
            {
                known.left_out.insert(entry_row.summary.key(), (reason, entry_row.row_id));
            }
        });
        // A folder that is served contains all pages of the site. A crawl sees only some of them and looks up the
        // others.
        let has_all = sources.iter().any(|source| source.serves().is_some());
        for (row_id, packed) in links {
            // The visitor page links everywhere, which says nothing about how the site itself is linked.
            let row = arrivals.row(row_id);
            if chooser.own_files.holds(url_of(&row)) {
                continue;
            }
            let walked = source(row_id).is_some_and(|source| source.reads_pages() && source.serves().is_none());
            let own = arrivals.summary(row_id).key();
            links::each(packed, |link| found.link(link, (row_id, url_of(&row), own), has_all && !walked, &mut known));
        }
        found
    }

    /// Processes a link of a page. If the page's source has all pages of the site, or the server said so, an unknown
    /// target is dead.
    fn link(
        &mut self,
        link: &str,
        (row_id, page, own): (RowId, &str, u128),
        has_all: bool,
        known: &mut KnownAddresses<'_>,
    ) {
        let respelt = known.site.respelt(link);
        if let Some(right) = &respelt {
            see(&mut self.misspelt, link, (row_id, page), || format!("; write {right}"));
        }
        let link = respelt.as_deref().unwrap_or(link);
        let target = known.key(link);
        if target == own {
            return;
        }
        self.linked.insert(target);
        match known.left_out.get(&target) {
            Some((Reason::Redirect, at)) => {
                let leads_on = || {
                    let row = self.arrivals.row(*at);
                    Contribution::read(&row).refresh.map_or(String::new(), |target| format!("; leads on to {target}"))
                };
                see(&mut self.redirected, link, (row_id, page), leads_on);
            }
            Some(_) => see(&mut self.kept_out, link, (row_id, page), String::new),
            None => {}
        }
        if known.there.contains(&target) {
            return;
        }
        let is_dead = match known.looked_up.get(&target) {
            Some(is_dead) => *is_dead,
            None => {
                let others = spellings(link).into_iter().map(|spelling| known.key(&spelling));
                let other = others.into_iter().find(|key| known.there.contains(key));
                self.linked.extend(other);
                let is_dead = other.is_none() && !self.arrivals.decider().chooser().own_files.holds(link);
                known.looked_up.insert(target, is_dead);
                is_dead
            }
        };
        if is_dead && (has_all || known.dead.contains(&target)) {
            see(&mut self.dead, link, (row_id, page), String::new);
        }
    }

    /// Pages that no other page links to. A site of articles alone does not include the pages that list them.
    pub(super) fn unlinked(&self) -> Option<Noticed> {
        if !self.reads_pages {
            return None;
        }
        let root = self.arrivals.decider().chooser().site.root().as_str();
        let mut lonely = Sample::default();
        self.settled.entry_rows.each(self.arrivals, |entry_row| {
            let goes_in = matches!(entry_row.verdict(), Verdict::Kept(_)) && entry_row.summary.has(RowFlag::FromPage);
            if !goes_in || self.linked.contains(&entry_row.summary.key()) {
                return;
            }
            let row = self.arrivals.row(entry_row.row_id);
            let url = url_of(&row);
            if url != root && self.telling.wants(Notice::Unlinked, url) {
                lonely.add(most_of(self.telling), entry_row.named(), || url.to_owned());
            }
        });
        Some(Noticed::of_counted(Notice::Unlinked, None, lonely.counted()))
    }

    /// Links that lead nowhere, elsewhere than they should, or to something that is not a page for visitors.
    pub(super) fn astray(&self) -> Vec<Noticed> {
        vec![
            self.noticed(Notice::LinkedNotFound, &self.dead),
            self.noticed(Notice::LinkedMisspelt, &self.misspelt),
            self.noticed(Notice::LinkedRedirect, &self.redirected),
            self.noticed(Notice::LinkedKeptOut, &self.kept_out),
        ]
    }

    fn noticed(&self, code: Notice, seen: &NotedLinks) -> Noticed {
        let mut count = 0;
        let mut examples = Vec::new();
        for (url, (_, page, more)) in seen.iter().filter(|(url, _)| self.telling.wants(code, url)) {
            count += 1;
            if examples.len() < most_of(self.telling) {
                examples.push(Example {
                    url: url.clone(),
                    detail: Some(format!("linked from {page}{more}")),
                    page: Some(page.clone()),
                });
            }
        }
        Noticed::new(code, None, count, examples)
    }
}

/// Remembers the first page with a link.
fn see(seen: &mut NotedLinks, link: &str, (row_id, page): (RowId, &str), more: impl FnOnce() -> String) {
    match seen.get_mut(link) {
        Some(first) if row_id < first.0 => (first.0, first.1) = (row_id, page.to_owned()),
        Some(_) => {}
        None => _ = seen.insert(link.to_owned(), (row_id, page.to_owned(), more())),
    }
}

/// Other spellings under which servers deliver the same page.
fn spellings(url: &str) -> Vec<String> {
    let plain = url.split('?').next().unwrap_or(url);
    let mut others = vec![plain.to_owned()];
    if let Some(folder) = plain.strip_suffix("index.html").or(plain.strip_suffix("index.htm")) {
        others.push(folder.to_owned());
    }
    match plain.strip_suffix('/') {
        Some(file) if file.len() > address::origin(url).len() => {
            others.extend([file.to_owned(), format!("{file}.html"), format!("{plain}index.html")]);
        }
        Some(_) => others.push(format!("{plain}index.html")),
        None => others.extend([format!("{plain}/"), format!("{plain}.html")]),
    }
    if let Some(stem) = plain.strip_suffix(".html") {
        others.push(stem.to_owned());
    }
    others
}

/// How many examples a survey collects.
pub(super) fn most_of(telling: ReportLimits<'_>) -> usize {
    telling.examples.max(MOST_EXAMPLES)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("https://a.example/halts", "https://a.example/halts/")]
    #[case("https://a.example/halts/", "https://a.example/halts.html")]
    #[case("https://a.example/halts/index.html", "https://a.example/halts/")]
    #[case("https://a.example/halts.html?v=2", "https://a.example/halts")]
    #[case("https://a.example/", "https://a.example/index.html")]
    fn servers_use_other_names_for_a_page_too(#[case] link: &str, #[case] known: &str) {
        assert!(spellings(link).iter().any(|spelling| spelling == known), "{:?}", spellings(link));
    }
}
