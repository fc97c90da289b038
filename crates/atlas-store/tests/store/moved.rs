//! A site that has moved from the sitemap of another tool, with whatever that one listed; and sources that are iterators.

use std::collections::{BTreeMap, BTreeSet};

use atlas_core::address::Site;
use atlas_core::choose::{Choices, Reason, Sections};
use atlas_core::contribution::Contribution;
use atlas_core::format::read;
use atlas_core::lastmod::Lastmod;
use atlas_store::build::{Ended, Job, build, survey};
use atlas_store::destination::{InMemory, Names};
use atlas_store::error::StoreError;
use atlas_store::ledger;
use atlas_store::report::{Built, Guard, Survey};
use atlas_store::source::{Gathering, MadeSource, Source};
use jiff::Timestamp;
use proptest::prelude::*;
use rstest::rstest;

use crate::railway::ROOT;

/// The day of the first run, since 1970.
const TODAY: i32 = 20_000;

/// A page: whether it is a draft, and its own date.
type OwnPage = (bool, Option<i32>);

/// What an old sitemap lists: numbers of pages with dates.
struct OldList(BTreeMap<u8, Option<i32>>);

impl Source for OldList {
    fn name(&self) -> String {
        "old sitemap".to_owned()
    }

    fn settings(&self) -> u64 {
        0
    }

    fn is_old_sitemap(&self) -> bool {
        true
    }

    fn is_moved_from(&self) -> bool {
        true
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let rows = self.0.clone();
        let old = MadeSource::new("rows", move || {
            rows.clone().into_iter().map(|(number, day)| Contribution {
                url: format!("{ROOT}{number}/").into(),
                recorded: day.and_then(Lastmod::from_epoch_day),
                only_before_move: true,
                ..Contribution::default()
            })
        });
        old.gather(gathering)
    }
}

fn pages(pages: &BTreeMap<u8, OwnPage>) -> Box<dyn Source> {
    let pages = pages.clone();
    Box::new(MadeSource::new("pages", move || {
        pages.clone().into_iter().map(|(number, (draft, day))| Contribution {
            url: format!("{ROOT}{number}/").into(),
            draft,
            modified: day.and_then(Lastmod::from_epoch_day),
            digest: Some(u64::from(number)),
            ..Contribution::default()
        })
    }))
}

/// A site in memory.
struct Moving {
    folder: tempfile::TempDir,
    memory: InMemory,
}

impl Moving {
    fn new() -> Self {
        Self { folder: tempfile::tempdir().unwrap(), memory: InMemory::default() }
    }

    fn with_job<T>(
        &self,
        sources: &[Box<dyn Source>],
        day: i32,
        run: impl FnOnce(&Job<'_>, &mut dyn ledger::Ledger) -> T,
    ) -> T {
        let choices = Choices::of(Site::parse(ROOT).unwrap(), Sections::new(Vec::new(), []));
        let names = Names::of(ROOT);
        let mut ledger = ledger::open(self.folder.path()).unwrap();
        let now = Timestamp::from_second(i64::from(day) * 86_400).unwrap();
        let job = Job::new(sources, &choices, (&self.memory, &names), self.folder.path(), now)
            .allow(Guard::ALL.into_iter().filter(|guard| *guard != Guard::Empty));
        run(&job, &mut *ledger)
    }

    fn build(&self, sources: &[Box<dyn Source>], day: i32) -> Option<Built> {
        match self.with_job(sources, day, |job, ledger| build(job, ledger)).unwrap() {
            Ended::Built(built) => Some(*built),
            // Nothing would be left to list, which cannot be allowed.
            Ended::Held(_) => None,
        }
    }

    fn survey(&self, sources: &[Box<dyn Source>]) -> Survey {
        self.with_job(sources, TODAY, |job, ledger| survey(job, ledger)).unwrap()
    }

    /// What the files list: numbers of pages with their dates.
    fn listed(&self) -> BTreeMap<u8, Option<String>> {
        let mut listed = BTreeMap::new();
        for (_, bytes) in self.memory.files().into_iter().filter(|(name, _)| name.ends_with(".xml")) {
            let _ = read(
                &bytes,
                |url| {
                    let number = url.loc.unwrap().trim_start_matches(ROOT).trim_end_matches('/').parse().unwrap();
                    listed.insert(number, url.lastmod.map(|date| date.into_owned()));
                },
                |_| (),
            );
        }
        listed
    }
}

fn day(day: i32) -> String {
    Lastmod::from_epoch_day(day).unwrap().to_string()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// Whatever the old sitemap lists: the same pages are listed as without it; each has its own date, else the old one's;
    /// and the comparison accounts for every URL of both, once.
    #[test]
    fn an_old_sitemap_only_gives_dates(
        own in prop::collection::btree_map(0u8..24, (prop::bool::weighted(0.2), prop::option::of(19_000..TODAY)), 0..16),
        old in prop::collection::btree_map(0u8..24, prop::option::of(18_000..TODAY), 0..16),
    ) {
        let (with, without) = (Moving::new(), Moving::new());
        let moved: Vec<Box<dyn Source>> = vec![pages(&own), Box::new(OldList(old.clone()))];
        let plain: Vec<Box<dyn Source>> = vec![pages(&own)];
        let kept: BTreeSet<u8> = own.iter().filter(|(_, (draft, _))| !draft).map(|(number, _)| *number).collect();
        let compared = with.survey(&moved).moved.unwrap();
        let both = kept.iter().filter(|number| old.contains_key(number)).count() as u64;
        prop_assert_eq!(compared.both, both);
        prop_assert_eq!(compared.only_new.count, kept.len() as u64 - both);
        let drafts = old.keys().filter(|number| own.get(number).is_some_and(|(draft, _)| *draft)).count() as u64;
        prop_assert_eq!(compared.left_out.count, drafts);
        prop_assert_eq!(compared.only_old.count, old.len() as u64 - both - drafts);
        let other = kept.iter().filter(|number| {
            matches!((own[number].1, old.get(number)), (Some(now), Some(Some(then))) if now != *then)
        });
        prop_assert_eq!(compared.other_date.count, other.count() as u64);
        prop_assert!(without.survey(&plain).moved.is_none());
        if kept.is_empty() {
            return Ok(());
        }
        with.build(&moved, TODAY).unwrap();
        without.build(&plain, TODAY).unwrap();
        let (listed, wanted) = (with.listed(), without.listed());
        prop_assert_eq!(listed.keys().collect::<Vec<_>>(), wanted.keys().collect::<Vec<_>>());
        for (number, date) in &listed {
            let own_day = own[number].1.or_else(|| old.get(number).copied().flatten());
            prop_assert_eq!(date, &own_day.map(day), "page {}", number);
        }
        // Nothing changes the night after.
        let again = with.build(&moved, TODAY + 1).unwrap();
        prop_assert_eq!(again.survey.changes.changed.count + again.survey.changes.added.count, 0);
        prop_assert_eq!(with.listed(), listed);
    }
}

/// What only the old sitemap has is left out for a reason of its own, which no guard takes for a mistake.
#[test]
fn what_only_the_old_sitemap_has_holds_nothing_back() {
    let site = Moving::new();
    let old: BTreeMap<u8, Option<i32>> = (0..200).map(|number| (number, Some(19_500))).collect();
    let own: BTreeMap<u8, OwnPage> = (0..5).map(|number| (number, (false, None))).collect();
    let sources: Vec<Box<dyn Source>> = vec![pages(&own), Box::new(OldList(old))];
    let survey = site.survey(&sources);
    assert!(survey.held.is_empty(), "{:?}", survey.held);
    let left_out: Vec<(Reason, u64)> = survey.left_out.iter().map(|one| (one.reason, one.counted.count)).collect();
    assert_eq!(left_out, [(Reason::OnlyBeforeMove, 195)]);
}

/// An iterator is a source: of no rows, of one, and of more than fit into a block.
#[rstest]
#[case(1)]
#[case(999)]
#[case(1000)]
#[case(2_345)]
fn an_iterator_is_a_source(#[case] rows: u64) {
    let site = Moving::new();
    let made = |from: u64| -> Vec<Box<dyn Source>> {
        vec![Box::new(MadeSource::new("rows", move || {
            (from..rows).map(|row| Contribution { url: format!("{ROOT}halt-{row}/").into(), ..Contribution::default() })
        }))]
    };
    let built = site.build(&made(0), TODAY).unwrap();
    assert_eq!(built.survey.entries(), rows);
    assert_eq!(built.survey.sources[0].outcome.name, "rows");
    let again = site.build(&made(0), TODAY + 1).unwrap();
    assert!(again.written.is_empty(), "nothing has changed");
    if rows > 1 {
        let fewer = site.build(&made(1), TODAY + 2).unwrap();
        assert_eq!(fewer.survey.changes.removed.count, 1);
    }
    assert!(site.build(&made(rows), TODAY + 3).is_none(), "an empty site is held back");
}
