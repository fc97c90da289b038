//! What engines took as a whole, from everything that is laid over what is listed.

use std::collections::{BTreeMap, HashSet};

use atlas_core::placement::plain_name;
use atlas_core::uptake::difference::differences;
use atlas_core::uptake::export::Subject;
use atlas_core::uptake::request::RequestKind;
use atlas_core::uptake::standing::{Delay, Standings};
use foldhash::fast::RandomState;
use rayon::prelude::*;

use super::crawlers::MOST_CRAWLERS;
use super::held::HeldEntries;
use super::overlay::{LastLook, MOST_EXAMPLES, Overlaid};
use super::overview::{
    AgeUptake, ConsoleCount, CrawlShare, CrawlerUptake, Delays, ExportOverview, LogsOverview, MediaStandings, Overview,
    SectionUptake, SinceBefore, SitemapFileUptake, VisitedUrl,
};
use super::times::DAY;
use super::{reasons, searches, worth};
use crate::destination::Names;
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::{ConsoleLook, LookRecord, SitemapFileLook};

/// The ages by which pages are grouped, in days.
const AGES: [Option<u32>; 5] = [Some(3), Some(30), Some(90), Some(365), None];

impl Overlaid<'_> {
    /// What engines took, as a whole.
    ///
    /// # Errors
    ///
    /// Returns an error if the ledger cannot be read.
    pub fn overview(&self, ledger: &dyn Ledger, names: &Names) -> Result<Overview, StoreError> {
        let PageSums { sections: pages, ages, delays, crawlers } = self.page_sums();
        let images = self.by_section(Subject::Images);
        let videos = self.by_section(Subject::Videos);
        let sections = self.subjects.sections().iter().enumerate().map(|(at, name)| SectionUptake {
            section: name.clone(),
            pages: pages[at],
            images: images[at],
            videos: videos[at],
        });
        let looked = worth::pages(self, ledger)?;
        let (fetched_not_listed, most) = self.visits.others();
        let (strange, strange_examples) = self.strange(Subject::Pages);
        let mut totals = total(self.new_standings(Subject::Pages), &pages);
        totals.fetched_not_listed = totals.fetched_not_listed.map(|_| fetched_not_listed);
        totals.picked_up_not_listed = totals.picked_up_not_listed.map(|_| strange);
        let media = |subject: Subject, standings: &[Standings]| {
            let mut standings = total(self.new_standings(subject), standings);
            standings.fetched_not_listed = None;
            standings.picked_up_not_listed = standings.picked_up_not_listed.map(|_| self.strange(subject).0);
            MediaStandings { standings, elsewhere: self.subjects.elsewhere(subject) }
        };
        let logs = &self.visits.logs;
        Ok(Overview {
            at: self.now,
            patience_days: self.patience_days,
            logs: self.has_logs.then_some(LogsOverview {
                lines: logs.lines,
                broken: logs.broken,
                without_agent: logs.nameless,
                other_hosts: logs.other_hosts,
                from: logs.from,
                to: logs.to,
            }),
            exports: self.exports(ledger)?,
            totals,
            images: media(Subject::Images, &images),
            videos: media(Subject::Videos, &videos),
            sections: sections.collect(),
            ages: ages_of(&ages),
            delays: delays.summed(),
            crawlers: self.crawlers(&crawlers),
            crawl: self.crawl(),
            fetched_not_listed: most
                .into_iter()
                .take(MOST_EXAMPLES)
                .map(|(url, requests)| VisitedUrl { url: url.to_owned(), requests })
                .collect(),
            picked_up_not_listed: strange_examples,
            sitemap_files: self.sitemap_files(ledger, names)?,
            reasons: reasons::reasons(self, ledger)?,
            differences: differences(looked.compared.iter().copied()),
            worth_looking_at: looked.worth,
            searches: searches::searches(self, ledger)?,
            thin_words: self.knowledge.thin_words(),
        })
    }

    fn new_standings(&self, subject: Subject) -> Standings {
        Standings::new(self.has_logs, self.says_what_is_picked_up(subject), self.has_exports(subject))
    }

    /// Standings in which what is not listed does not count: it belongs to no section and has no age.
    fn new_part(&self, subject: Subject) -> Standings {
        Standings { fetched_not_listed: None, picked_up_not_listed: None, ..self.new_standings(subject) }
    }

    fn by_section(&self, subject: Subject) -> Vec<Standings> {
        let mut by_section = vec![self.new_part(subject); self.subjects.sections().len()];
        for at in self.subjects.range(subject) {
            if let Some(standings) = by_section.get_mut(self.subjects.section(at)) {
                standings.count(self.known(at));
            }
        }
        by_section
    }

    /// Goes over all pages once, on all cores.
    fn page_sums(&self) -> PageSums {
        let new = self.new_part(Subject::Pages);
        let none = || PageSums {
            sections: vec![new; self.subjects.sections().len()],
            ages: [new; AGES.len()],
            delays: Durations::default(),
            crawlers: [0; MOST_CRAWLERS],
        };
        let pages = self.subjects.range(Subject::Pages).into_par_iter();
        let sums = pages.fold(none, |mut sums, at| {
            self.sum_page(at, &mut sums);
            sums
        });
        sums.reduce(none, PageSums::and)
    }

    fn sum_page(&self, at: u32, sums: &mut PageSums) {
        let known = self.known(at);
        if let Some(standings) = sums.sections.get_mut(self.subjects.section(at)) {
            standings.count(known);
        }
        let (run, changed_at) = (self.subjects.changed(at), self.changed_at(at));
        let age = (self.now - changed_at) / DAY;
        let fits = |under_days: &Option<u32>| under_days.is_none_or(|days| age < i64::from(days));
        if let Some(nth) = AGES.iter().position(fits) {
            sums.ages[nth].count(known);
        }
        let visits = self.visits.of(at);
        let told_at = self.visits.times().told_at(run).unwrap_or(0);
        let push = |all: &mut Vec<u32>, from: i64, to: i64| {
            if from > 0 && to >= from {
                all.push(u32::try_from(to - from).unwrap_or(u32::MAX));
            }
        };
        push(&mut sums.delays.told, changed_at, told_at);
        push(&mut sums.delays.fetched, told_at, i64::from(visits.since));
        push(&mut sums.delays.picked_up, i64::from(visits.since), i64::from(visits.picked_up));
        let mut by = visits.by;
        while by != 0 {
            sums.crawlers[by.trailing_zeros() as usize] += 1;
            by &= by - 1;
        }
    }

    /// The crawlers that came; `pages` is how many pages each of them visited.
    fn crawlers(&self, pages: &[u64]) -> Vec<CrawlerUptake> {
        let all = self.visits.crawlers().into_iter().enumerate();
        let mut all: Vec<CrawlerUptake> = all
            .filter(|(_, (_, counts, _))| counts.requests > 0)
            .map(|(at, (name, did, counts))| CrawlerUptake {
                token: name.token,
                verified: name.verified == Some(true),
                addresses_known: name.verified.is_some(),
                counts,
                requests: did.requests,
                pages: pages.get(at).copied(),
                image_requests: did.kinds[RequestKind::Image as usize],
                video_requests: did.kinds[RequestKind::Video as usize],
                sitemap_requests: did.kinds[RequestKind::SitemapFile as usize],
                robots_requests: did.kinds[RequestKind::Robots as usize],
                errors: did.errors,
                first: did.first,
                last: did.last,
            })
            .collect();
        all.sort_by(|one, other| other.requests.cmp(&one.requests).then(one.token.cmp(&other.token)));
        all
    }

    /// What engines' crawlers asked for.
    fn crawl(&self) -> Vec<CrawlShare> {
        let mut kinds = [0u64; RequestKind::ALL.len()];
        for (_, counts, _) in self.visits.crawlers().iter().filter(|(_, _, counts)| *counts) {
            kinds.iter_mut().zip(counts.kinds).for_each(|(kind, more)| *kind += more);
        }
        let all: u64 = kinds.iter().sum();
        let shares = RequestKind::ALL.into_iter().zip(kinds).filter(|(_, requests)| *requests > 0);
        let percent = |requests: u64| (requests as f64 * 1_000.0 / all as f64).round() / 10.0;
        shares
            .map(|(kind, requests)| CrawlShare {
                kind,
                requests,
                percent: percent(requests),
                is_spent: kind.is_spent(),
            })
            .collect()
    }

    /// URLs that engines have and no sitemap lists: how many, and some of them.
    fn strange(&self, subject: Subject) -> (u64, Vec<String>) {
        let (mut count, mut examples) = (0, Vec::new());
        for last in self.looks.iter().filter(|last| last.look.subject == subject) {
            for (record, _) in last.placed().filter(|(record, at)| record.picked_up && at.is_none()) {
                count += 1;
                if let Some(url) = last.look.facts.strange.get(&record.tag).filter(|_| examples.len() < MOST_EXAMPLES) {
                    examples.push(url.clone());
                }
            }
        }
        examples.sort();
        examples.dedup();
        (count, examples)
    }

    fn exports(&self, ledger: &dyn Ledger) -> Result<Vec<ExportOverview>, StoreError> {
        let mut exports = Vec::new();
        for LastLook { look, records, before, .. } in &self.looks {
            let since_before = match before {
                Some((before, old)) if look.facts.is_whole && before.facts.is_whole => {
                    Some(self.since(ledger, (before, old), records)?)
                }
                _ => None,
            };
            exports.push(ExportOverview {
                engine: look.engine.clone(),
                of: look.subject,
                at: look.at,
                files: look.facts.files.clone(),
                rows: look.facts.rows,
                picked_up: look.facts.picked_up,
                is_whole: look.facts.is_whole,
                since_before,
            });
        }
        exports.sort_by(|one, other| (&one.engine, one.of).cmp(&(&other.engine, other.of)));
        Ok(exports)
    }

    fn since(
        &self,
        ledger: &dyn Ledger,
        (before, old): (&ConsoleLook, &[LookRecord]),
        records: &[LookRecord],
    ) -> Result<SinceBefore, StoreError> {
        let taken = |records: &[LookRecord]| -> HashSet<u64, RandomState> {
            records.iter().filter(|record| record.picked_up).map(|record| record.tag).collect()
        };
        let (then, now) = (taken(old), taken(records));
        let gone: Vec<u64> = then.difference(&now).copied().collect();
        let listed = gone.iter().filter_map(|tag| self.subjects.find(*tag)).take(MOST_EXAMPLES);
        let mut went_examples: Vec<String> =
            worth::urls(self, ledger, &listed.collect::<Vec<_>>())?.into_values().collect();
        went_examples.sort();
        Ok(SinceBefore {
            before: before.at,
            came: now.difference(&then).count() as u64,
            went: gone.len() as u64,
            went_examples,
        })
    }

    fn sitemap_files(&self, ledger: &dyn Ledger, names: &Names) -> Result<Vec<SitemapFileUptake>, StoreError> {
        let held = HeldEntries::read(ledger, names)?;
        let first = self.subjects.range(Subject::SitemapFiles).start;
        let mut said = self.said_of_files(&held);
        let files = self.subjects.files().iter().zip(first..).map(|(address, at)| {
            let visits = self.visits.of(at);
            let was_read = visits.count > 0;
            SitemapFileUptake {
                entries: held.now(address),
                requests: u64::from(visits.count),
                last_read: was_read.then_some(i64::from(visits.last)),
                status: was_read.then_some(visits.status),
                consoles: said.remove(plain_name(address)).unwrap_or_default(),
                address: address.clone(),
            }
        });
        let mut files: Vec<SitemapFileUptake> = files.collect();
        // What a console knows and is no file of ours any more.
        let others = said.into_iter().map(|(address, consoles)| SitemapFileUptake {
            address,
            entries: None,
            requests: 0,
            last_read: None,
            status: None,
            consoles,
        });
        files.extend(others);
        Ok(files)
    }

    /// What consoles say of sitemap files, by their addresses without `.gz`.
    fn said_of_files(&self, held: &HeldEntries) -> BTreeMap<String, Vec<ConsoleCount>> {
        let mut said: BTreeMap<String, Vec<ConsoleCount>> = BTreeMap::new();
        for LastLook { look, .. } in &self.looks {
            let mut say = |address: &str, count: ConsoleCount| {
                let address = plain_name(address);
                let held = held.at(address, count.read.unwrap_or(look.at));
                said.entry(address.to_owned()).or_default().push(ConsoleCount { held, ..count });
            };
            let of_engine = ConsoleCount { engine: look.engine.clone(), ..ConsoleCount::default() };
            for SitemapFileLook { address, read, found, in_index, words } in &look.facts.sitemap_files {
                let count = ConsoleCount {
                    read: *read,
                    found: *found,
                    in_index: *in_index,
                    words: words.clone(),
                    ..of_engine.clone()
                };
                say(address, count);
            }
            // Rows of pages may tell through which file they are known.
            for (address, (found, in_index)) in &look.facts.through {
                say(address, ConsoleCount { found: Some(*found), in_index: Some(*in_index), ..of_engine.clone() });
            }
        }
        said
    }
}

/// What is counted in one pass over all pages.
struct PageSums {
    sections: Vec<Standings>,
    /// In the order of [`AGES`].
    ages: [Standings; AGES.len()],
    delays: Durations,
    /// How many pages each crawler visited.
    crawlers: [u64; MOST_CRAWLERS],
}

impl PageSums {
    fn and(mut self, mut other: Self) -> Self {
        self.sections.iter_mut().zip(&other.sections).for_each(|(one, other)| one.add(other));
        self.ages.iter_mut().zip(&other.ages).for_each(|(one, other)| one.add(other));
        self.crawlers.iter_mut().zip(other.crawlers).for_each(|(one, other)| *one += other);
        self.delays.told.append(&mut other.delays.told);
        self.delays.fetched.append(&mut other.delays.fetched);
        self.delays.picked_up.append(&mut other.delays.picked_up);
        self
    }
}

/// How long things took, in seconds, page by page.
#[derive(Default)]
struct Durations {
    told: Vec<u32>,
    fetched: Vec<u32>,
    picked_up: Vec<u32>,
}

impl Durations {
    fn summed(self) -> Delays {
        Delays {
            change_to_announcement: Delay::of(self.told),
            announcement_to_fetch: Delay::of(self.fetched),
            fetch_to_pick_up: Delay::of(self.picked_up),
        }
    }
}

fn ages_of(ages: &[Standings]) -> Vec<AgeUptake> {
    let ages = AGES.into_iter().zip(ages).map(|(under_days, pages)| AgeUptake { under_days, pages: *pages });
    ages.filter(|age| age.pages.submitted > 0).collect()
}

/// The sum of some standings, and what is not listed.
fn total(new: Standings, all: &[Standings]) -> Standings {
    let mut sum = Standings { fetched_not_listed: None, picked_up_not_listed: None, ..new };
    all.iter().for_each(|one| sum.add(one));
    Standings { fetched_not_listed: new.fetched_not_listed, picked_up_not_listed: new.picked_up_not_listed, ..sum }
}
