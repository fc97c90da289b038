//! The pages of archives, as one more source of the build.

use std::collections::HashSet;
use std::io;

use atlas_core::accepted::Accepted;
use atlas_core::archive::{ArchivePage, Tally};
use atlas_core::choose::{Chooser, Verdict};
use atlas_core::contribution::{Said, is_dead};
use atlas_core::fingerprint;
use atlas_core::shape::lastmod;
use rayon::prelude::*;

use crate::arrival::{Arrivals, Block};
use crate::provenance::Provenances;
use crate::settle::{Expected, Standing, Telling, join};
use crate::source::{Outcome, Problem};

/// The name of that source in reports; it comes after all others.
pub const ARCHIVES: &str = "archives";

/// Derives the pages of all archives from what the sources said, and adds them to the arrivals as a source of their own.
/// What is known of observed dates does not count here: an archive is as new as the declared dates in it. `pages_known` tells
/// whether some source reads the pages of the site: then an archive is listed only if its page was among them.
pub(crate) fn archives(
    arrivals: &mut Arrivals,
    pages_known: bool,
    expected: Option<&Expected>,
    provenances: &Provenances,
) -> io::Result<Option<Outcome>> {
    let desk = arrivals.desk().clone();
    let (chooser, seed) = (desk.chooser(), desk.seed());
    if chooser.archives.is_empty() {
        return Ok(None);
    }
    let blocks = arrivals.blocks();
    // What is to be told of rows is told when all of them are joined.
    let telling = Telling { examples: 0, accepted: &Accepted::default() };
    let standing = Standing::from(join(arrivals, None, expected, (provenances, 0), telling)?);
    let (mut pages, mut troubles) = count(arrivals, &standing, chooser, &HashSet::new()).pages(&chooser.site);
    let keys: HashSet<u128> = pages.iter().map(|page| key(page, seed)).collect();
    let mut there: HashSet<u128> = HashSet::new();
    arrivals.each_mark(|place, mark| {
        if keys.contains(&mark.key()) && !is_dead(&arrivals.row(place)) {
            there.insert(mark.key());
        }
    });
    if !there.is_empty() {
        // An archive's own page may be filed under it: it is no entry of it.
        (pages, troubles) = count(arrivals, &standing, chooser, &there).pages(&chooser.site);
    }
    arrivals.truncate(blocks);
    let mut rows = Block::new(&arrivals.begin_source());
    for page in &pages {
        rows.push(&page.said(!pages_known || there.contains(&key(page, seed))));
    }
    arrivals.push(rows);
    let mut outcome = Outcome { rows: pages.len() as u64, ..Outcome::of(ARCHIVES.to_owned()) };
    for (name, why) in troubles {
        let message = format!("“{name}” makes no URL: {why}; mend the url of the [[archive]]");
        outcome.problem(Problem { file: ARCHIVES.to_owned(), line: None, message, passed_over: true });
    }
    Ok(Some(outcome))
}

fn key(page: &ArchivePage, seed: u64) -> u128 {
    fingerprint::key(seed, page.address.as_str())
}

/// Counts all entries that go in, but for those with these keys.
fn count<'c>(arrivals: &Arrivals, standing: &Standing, chooser: &'c Chooser, passed_over: &HashSet<u128>) -> Tally<'c> {
    let count_block = |block: usize| {
        let mut tally = chooser.archives.tally();
        let rows = arrivals.block(block);
        for (stand, row) in standing.of_block(arrivals, block, &rows) {
            if passed_over.contains(&stand.mark.key()) {
                continue;
            }
            if let Verdict::Kept(kept) = stand.verdict() {
                let said = Said::read(&row);
                let section = &chooser.sections.list()[usize::from(kept.section)].name;
                tally.add(&said, section, lastmod(&said, None, kept.date_policy, &chooser.calendar));
            }
        }
        tally
    };
    let parts: Vec<Tally<'_>> = (0..arrivals.blocks()).into_par_iter().map(count_block).collect();
    parts.into_iter().fold(chooser.archives.tally(), |mut all, part| {
        all.join(part);
        all
    })
}
