//! What engines took as a whole, from everything that is laid over what is listed.

use std::collections::HashSet;

use atlas_core::uptake::difference::differences;
use atlas_core::uptake::export::Subject;
use atlas_core::uptake::request::RequestKind;
use atlas_core::uptake::standing::{Delay, Standings};
use foldhash::fast::RandomState;

use super::held::HeldEntries;
use super::overlay::{DAY, LastLook, MOST_EXAMPLES, Overlaid};
use super::overview::{
    AgeUptake, ConsoleCount, CrawlShare, CrawlerUptake, Delays, ExportOverview, LogsOverview, MediaStandings, Overview,
    SectionUptake, SinceBefore, SitemapFileUptake, VisitedUrl,
};
use super::{reasons, searches, worth};
use crate::destination::Names;
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::{ConsoleLook, LookRecord};

/// The ages by which pages are grouped, in days.
const AGES: [Option<u32>; 5] = [Some(3), Some(30), Some(90), Some(365), None];

impl Overlaid<'_> {
    /// What engines took, as a whole.
    ///
    /// # Errors
    ///
    /// Returns an error if the ledger cannot be read.
    pub fn overview(&self, ledger: &dyn Ledger, names: &Names) -> Result<Overview, StoreError> {
        let (pages, ages) = self.by_section_and_age();
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
            ages,
            delays: self.delays(),
            crawlers: self.crawlers(),
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
        Standings::new(self.has_logs, self.has_exports(subject))
    }

    fn by_section(&self, subject: Subject) -> Vec<Standings> {
        let mut by_section = vec![self.new_standings(subject); self.subjects.sections().len()];
        for at in self.subjects.range(subject) {
            if let Some(standings) = by_section.get_mut(self.subjects.section(at)) {
                standings.count(self.known(at));
            }
        }
        // What is not listed belongs to no section.
        by_section.iter_mut().for_each(|one| (one.fetched_not_listed, one.picked_up_not_listed) = (None, None));
        by_section
    }

    fn by_section_and_age(&self) -> (Vec<Standings>, Vec<AgeUptake>) {
        let new = self.new_standings(Subject::Pages);
        let mut ages: Vec<AgeUptake> =
            AGES.iter().map(|under_days| AgeUptake { under_days: *under_days, pages: new }).collect();
        for at in self.subjects.range(Subject::Pages) {
            let age = (self.now - self.changed_at(at)) / DAY;
            let fits = |one: &&mut AgeUptake| one.under_days.is_none_or(|days| age < i64::from(days));
            if let Some(one) = ages.iter_mut().find(fits) {
                one.pages.count(self.known(at));
            }
        }
        ages.iter_mut().for_each(|one| (one.pages.fetched_not_listed, one.pages.picked_up_not_listed) = (None, None));
        ages.retain(|one| one.pages.submitted > 0);
        (self.by_section(Subject::Pages), ages)
    }

    fn delays(&self) -> Delays {
        let (mut told, mut fetched, mut picked_up) = (Vec::new(), Vec::new(), Vec::new());
        let times = self.visits.times();
        let push = |all: &mut Vec<u32>, from: i64, to: i64| {
            if from > 0 && to >= from {
                all.push(u32::try_from(to - from).unwrap_or(u32::MAX));
            }
        };
        for at in self.subjects.range(Subject::Pages) {
            let run = self.subjects.changed(at);
            let visits = self.visits.of(at);
            let told_at = times.told_at(run).unwrap_or(0);
            push(&mut told, times.run_at(run), told_at);
            push(&mut fetched, told_at, i64::from(visits.since));
            push(&mut picked_up, i64::from(visits.since), i64::from(visits.picked_up));
        }
        Delays {
            change_to_announcement: Delay::of(told),
            announcement_to_fetch: Delay::of(fetched),
            fetch_to_pick_up: Delay::of(picked_up),
        }
    }

    fn crawlers(&self) -> Vec<CrawlerUptake> {
        let mut pages = vec![0u64; 64];
        for at in self.subjects.range(Subject::Pages) {
            let mut by = self.visits.of(at).by;
            while by != 0 {
                pages[by.trailing_zeros() as usize] += 1;
                by &= by - 1;
            }
        }
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
        for LastLook { look, records, .. } in self.looks.iter().filter(|last| last.look.subject == subject) {
            for record in records.iter().filter(|record| record.picked_up && self.subjects.find(record.tag).is_none()) {
                count += 1;
                if let Some(url) = look.facts.strange.get(&record.tag).filter(|_| examples.len() < MOST_EXAMPLES) {
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
        for LastLook { look, records, before } in &self.looks {
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
        let mut went_examples = worth::urls(self, ledger, &listed.collect::<Vec<_>>())?;
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
        let consoles = |address: &str| {
            let looks = self.looks.iter().filter(|last| last.look.subject == Subject::SitemapFiles);
            let all = looks.flat_map(|last| last.look.facts.sitemap_files.iter().map(move |file| (&last.look, file)));
            let same = |file: &str| file == address || file.strip_suffix(".gz") == Some(address);
            all.filter(|(_, file)| same(&file.address))
                .map(|(look, file)| ConsoleCount {
                    engine: look.engine.clone(),
                    read: file.read,
                    found: file.found,
                    held: held.at(address, file.read.unwrap_or(look.at)),
                    in_index: file.in_index,
                    words: file.words.clone(),
                })
                .collect::<Vec<_>>()
        };
        let files = self.subjects.files().iter().zip(first..).map(|(address, at)| {
            let visits = self.visits.of(at);
            SitemapFileUptake {
                entries: held.now(address),
                requests: u64::from(visits.count),
                last_read: (visits.count > 0).then_some(i64::from(visits.last)),
                status: (visits.count > 0).then_some(visits.status),
                consoles: consoles(address),
                address: address.clone(),
            }
        });
        let mut files: Vec<SitemapFileUptake> = files.collect();
        // What a console knows and is no file of ours any more.
        for LastLook { look, .. } in self.looks.iter().filter(|last| last.look.subject == Subject::SitemapFiles) {
            for file in &look.facts.sitemap_files {
                let plain = file.address.strip_suffix(".gz").unwrap_or(&file.address);
                if files.iter().any(|known| known.address == plain || known.address == file.address) {
                    continue;
                }
                files.push(SitemapFileUptake {
                    address: file.address.clone(),
                    entries: None,
                    requests: 0,
                    last_read: None,
                    status: None,
                    consoles: consoles(&file.address),
                });
            }
        }
        Ok(files)
    }
}

/// The sum of some standings.
fn total(new: Standings, all: &[Standings]) -> Standings {
    let sum = |part: fn(&Standings) -> Option<u64>| all.iter().filter_map(part).sum::<u64>();
    Standings {
        submitted: all.iter().map(|one| one.submitted).sum(),
        fetched: new.fetched.map(|_| sum(|one| one.fetched)),
        picked_up: new.picked_up.map(|_| sum(|one| one.picked_up)),
        waiting: all.iter().map(|one| one.waiting).sum(),
        not_picked_up: new.not_picked_up.map(|_| sum(|one| one.not_picked_up)),
        never_fetched: new.never_fetched.map(|_| sum(|one| one.never_fetched)),
        answered_with_error: new.answered_with_error.map(|_| sum(|one| one.answered_with_error)),
        ..new
    }
}
