//! The pages of archives, as one more source of the build.

use std::collections::HashSet;

use atlas_core::archive::{ArchivePage, Tally};
use atlas_core::choose::{Chooser, Verdict};
use atlas_core::contribution::{Said, is_dead};
use atlas_core::fingerprint;
use atlas_core::shape::lastmod;
use rayon::prelude::*;

use crate::arrival::{Arrivals, Block};
use crate::settle::{Standing, join};
use crate::source::{Outcome, Problem};

/// The name of that source in reports; it comes after all others.
pub const ARCHIVES: &str = "archives";

/// Derives the pages of all archives from what the sources said, and adds them to the arrivals as a source of their own.
/// What is known of observed dates does not count here: an archive is as new as the declared dates in it. `pages_known` tells
/// whether some source reads the pages of the site: then an archive is listed only if its page was among them.
pub(crate) fn archives(arrivals: &mut Arrivals, chooser: &Chooser, pages_known: bool, seed: u64) -> Option<Outcome> {
    if chooser.archives.is_empty() {
        return None;
    }
    let blocks = arrivals.blocks();
    let joined = join(arrivals, std::iter::empty(), seed);
    let standing = Standing::new(joined.roles, joined.merged, arrivals);
    let (mut pages, mut troubles) = count(arrivals, &standing, chooser, &HashSet::new()).pages(&chooser.site);
    let keys: HashSet<u128> = pages.iter().map(|page| key(page, seed)).collect();
    let alive = arrivals.marks().filter(|(place, mark)| keys.contains(&mark.key) && !is_dead(arrivals.row(*place)));
    let there: HashSet<u128> = alive.map(|(_, mark)| mark.key).collect();
    if !there.is_empty() {
        // An archive's own page may be filed under it: it is no entry of it.
        (pages, troubles) = count(arrivals, &standing, chooser, &there).pages(&chooser.site);
    }
    arrivals.truncate(blocks);
    let mut rows = Block::new(seed);
    for page in &pages {
        rows.push(&page.said(!pages_known || there.contains(&key(page, seed))));
    }
    arrivals.begin_source();
    arrivals.push(rows);
    let problems: Vec<Problem> = troubles
        .into_iter()
        .map(|(name, why)| Problem {
            file: ARCHIVES.to_owned(),
            line: None,
            message: format!("“{name}” makes no URL: {why}; mend the url of the [[archive]]"),
        })
        .collect();
    Some(Outcome {
        name: ARCHIVES.to_owned(),
        rows: pages.len() as u64,
        unchanged_files: 0,
        remarks: Vec::new(),
        problem_count: problems.len() as u64,
        problems,
    })
}

fn key(page: &ArchivePage, seed: u64) -> u128 {
    fingerprint::key(seed, page.address.as_str())
}

/// Counts all entries that go in, but for those with these keys.
fn count<'c>(arrivals: &Arrivals, standing: &Standing, chooser: &'c Chooser, passed_over: &HashSet<u128>) -> Tally<'c> {
    let count_block = |block: usize| {
        let mut tally = chooser.archives.tally();
        for stand in standing.of_block(block) {
            if passed_over.contains(&arrivals.mark(stand.place).key) {
                continue;
            }
            let said = Said::read(arrivals.row(stand.place));
            if let Verdict::Kept(kept) = stand.choose(&said, chooser, arrivals) {
                let section = &chooser.sections.list()[kept.section].name;
                tally.add(&said, section, lastmod(&said, None, kept.date_policy));
            }
        }
        tally
    };
    let parts: Vec<Tally<'_>> = (0..standing.blocks()).into_par_iter().map(count_block).collect();
    parts.into_iter().fold(chooser.archives.tally(), |mut all, part| {
        all.join(part);
        all
    })
}
