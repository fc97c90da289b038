//! Engines are told only of what the live site serves.

use std::cell::RefCell;
use std::collections::HashMap;

use atlas_core::announce::live::{ExpectedLive, NotLive};
use atlas_io::engines::{EngineReport, Telling, Tells, ToAnnounce, tell};
use atlas_io::live::LiveSite;
use atlas_store::destination::Names;
use atlas_store::error::StoreError;
use atlas_store::ledger::ByHand;

use crate::outcome;
use crate::vale::{MAIN, ROOT, Vale};

const DAY: i64 = 86_400;

/// A live site on which some addresses are not as they were built.
#[derive(Default)]
struct Behind {
    wrong: HashMap<String, NotLive>,
    looked_at: RefCell<Vec<String>>,
}

impl LiveSite for Behind {
    fn look(&self, expected: &[ExpectedLive]) -> Result<Vec<Option<NotLive>>, StoreError> {
        self.looked_at.borrow_mut().extend(expected.iter().map(|one| one.address().to_owned()));
        Ok(expected.iter().map(|one| self.wrong.get(one.address()).cloned()).collect())
    }
}

fn behind(address: impl Into<String>, why: NotLive) -> Behind {
    Behind { wrong: HashMap::from([(address.into(), why)]), ..Behind::default() }
}

fn told(vale: &Vale, live: &Behind) -> EngineReport {
    let names = Names::of(ROOT);
    let telling = Telling { live: Some(live), ..Telling::due(&names) };
    tell(&mut *vale.ledger(), &vale.engine, telling, (&vale.clock, &vale.stop)).unwrap()
}

/// As long as the main file is an older copy, nothing is told, and no page is looked at. That is no failure, until a day
/// has gone by.
#[test]
fn everything_waits_until_the_main_file_is_live() {
    let vale = Vale::new(Tells::Urls(10));
    let old = behind(MAIN, NotLive::OlderCopy { age: Some(90), etag: None });
    let first = told(&vale, &old);
    let report = first.not_live.as_ref().unwrap();
    assert_eq!((outcome(&first), report.waiting, report.is_overdue), ((0, 0, 0), 5, false));
    assert!(report.seen[0].words.contains("90 s ago"), "{report:?}");
    assert_eq!((vale.sent().len(), old.looked_at.take()), (0, vec![MAIN.to_owned()]));
    vale.later(DAY + 1);
    vale.build(1..10);
    let later = told(&vale, &old).not_live.unwrap();
    assert!(later.is_overdue, "that another build came does not begin a new day: {later:?}");
    let live = told(&vale, &Behind::default());
    assert_eq!((outcome(&live), live.not_live), ((6, 0, 0), None));
    assert!(vale.pending().is_empty());
}

/// A page that is not as it should be waits on its own. It is told once it is; after a day it is given up.
#[test]
fn one_page_does_not_hold_up_the_others() {
    let vale = Vale::new(Tells::Urls(10));
    let gone = format!("{ROOT}0/");
    let still_there = behind(&gone, NotLive::StillThere);
    let first = told(&vale, &still_there);
    let report = first.not_live.as_ref().unwrap();
    assert_eq!((outcome(&first), report.waiting, report.given_up), ((4, 0, 0), 1, 0));
    assert!(!vale.sent().contains(&gone));
    assert_eq!(vale.pending(), std::slice::from_ref(&gone));
    let again = told(&vale, &still_there);
    assert_eq!((outcome(&again), vale.pending().len()), ((0, 0, 0), 1));
    let live = told(&vale, &Behind::default());
    assert_eq!((outcome(&live), vale.sent()), ((1, 0, 0), vec![gone]));
    assert_eq!((outcome(&told(&vale, &Behind::default())), vale.pending().len()), ((0, 0, 0), 0));

    let vale = Vale::new(Tells::Urls(10));
    told(&vale, &still_there);
    vale.later(DAY + 1);
    let last = told(&vale, &still_there);
    let report = last.not_live.as_ref().unwrap();
    assert_eq!((outcome(&last), report.waiting, report.given_up), ((0, 1, 0), 0, 1));
    assert!(last.messages[0].words.contains("given up after a day: the live page still answers 200"), "{last:?}");
    assert_eq!((outcome(&told(&vale, &still_there)), vale.pending().len()), ((0, 0, 0), 0), "once");
}

/// Of many pages a sample is looked at. If a tenth of it is not live, all wait.
#[test]
fn of_many_pages_a_sample_is_looked_at() {
    let vale = Vale::new(Tells::Urls(1_000));
    vale.build(1..350);
    let live = Behind::default();
    let missing = (5..350).filter(|number| number % 3 == 0);
    let third = missing.map(|number| (format!("{ROOT}{number}/"), NotLive::Status(404))).collect();
    let held = told(&vale, &Behind { wrong: third, ..Behind::default() });
    assert_eq!((outcome(&held), held.not_live.unwrap().waiting), ((0, 0, 0), 346));
    assert_eq!(outcome(&told(&vale, &live)), (346, 0, 0));
    assert_eq!(live.looked_at.take().len(), 101, "the main file and a hundred pages");
}

/// What was chosen by hand and is not live waits a day like everything else, and is then given up.
#[test]
fn what_was_chosen_by_hand_is_given_up_after_a_day() {
    let vale = Vale::new(Tells::Urls(10));
    told(&vale, &Behind::default());
    let (url, names) = (format!("{ROOT}3/"), Names::of(ROOT));
    let missing = behind(&url, NotLive::Status(404));
    let by_hand = ByHand { urls: vec![url], ..ByHand::default() };
    let telling = Telling { live: Some(&missing), wanted: ToAnnounce::Chosen(&by_hand), ..Telling::due(&names) };
    let chosen = tell(&mut *vale.ledger(), &vale.engine, telling, (&vale.clock, &vale.stop)).unwrap();
    assert_eq!((outcome(&chosen), chosen.not_live.unwrap().waiting), ((0, 0, 0), 1));
    assert_eq!(told(&vale, &missing).not_live.unwrap().waiting, 1);
    vale.later(DAY + 1);
    assert_eq!(outcome(&told(&vale, &missing)), (0, 1, 0));
    assert_eq!(outcome(&told(&vale, &missing)), (0, 0, 0), "once");
}
