//! Announcements by a made-up protocol, with a clock that is set by hand.

mod live;
mod promise;
mod vale;

use std::sync::{Arc, Mutex};

use atlas_core::announce::{Change, LeftAlone};
use atlas_io::engines::{
    Engine, EngineReport, Message, Protocol, Reply, Telling, TellingLimits, Tells, ToAnnounce, WaitsFor, all_pending,
    left_alone, tell,
};
use atlas_io::round::Event;
use atlas_store::clock::Clock;
use atlas_store::destination::Names;
use atlas_store::model::Pending;
use atlas_store::report::Guard;
use atlas_store::stop::Stop;
use jiff::Timestamp;
use rstest::rstest;

use crate::vale::{MAIN, NOON, ROOT, TestEndpoint, Vale, answer, settings};

fn outcome(told: &EngineReport) -> (u64, u64, u64) {
    (told.taken, told.refused, told.kept)
}

#[test]
fn each_change_is_announced_once() {
    let vale = Vale::new(Tells::Urls(2));
    let told = vale.tell();
    assert_eq!((outcome(&told), told.messages.len()), ((5, 0, 0), 5));
    assert_eq!((told.changes.added, told.changes.removed), (4, 1));
    let mut sent = vale.sent();
    sent.sort_unstable();
    assert_eq!(sent, [0, 5, 6, 7, 8].map(|number| format!("{ROOT}{number}/")));
    assert_eq!(outcome(&vale.tell()), (0, 0, 0));
    assert_eq!(vale.sent(), [""; 0]);
}

/// A stop ends the round after the message under way. What was accepted is announced once; at most one batch is
/// repeated.
#[test]
fn a_stop_reports_the_truth_and_loses_nothing() {
    let vale = Vale::new(Tells::Urls(1));
    let all = vale.pending();
    vale.stops_after(3);
    let told = vale.tell();
    assert_eq!((outcome(&told), told.messages.len(), told.stopped), ((3, 0, 2), 3, Some(5)));
    let mut sent = vale.sent();
    let vale = Vale { stop: Stop::default(), ..vale };
    vale.postcards.heard.lock().unwrap().stop = None;
    assert_eq!(vale.pending(), all[3..]);
    assert_eq!(outcome(&vale.tell()), (2, 0, 0));
    sent.extend(vale.sent());
    assert_eq!(sent, all);
}

/// Changes made while a round was interrupted are announced by the same command.
#[test]
fn an_interrupted_round_is_finished_before_the_next() {
    let vale = Vale::new(Tells::Urls(1));
    vale.stops_after(2);
    vale.tell();
    let vale = Vale { stop: Stop::default(), ..vale };
    vale.postcards.heard.lock().unwrap().stop = None;
    vale.build(1..11);
    assert_eq!(outcome(&vale.tell()), (5, 0, 0), "three of the first round, two of the second");
}

#[rstest]
#[case::short(vec![answer(503, None), answer(503, None), answer(200, None)], (5, 0, 0), 1, None)]
#[case::given_up_on(vec![answer(503, None), answer(503, None), answer(503, None)], (0, 0, 5), 1, None)]
#[case::asked_for_little(vec![answer(429, Some(4)), answer(200, None)], (5, 0, 0), 4, None)]
#[case::asked_for_much(vec![answer(429, Some(600))], (0, 0, 5), 0, Some(NOON + 600))]
#[case::to_mend(vec![answer(403, None)], (0, 0, 5), 0, None)]
#[case::refused(vec![answer(422, None)], (4, 1, 0), 0, None)]
#[case::all_refused(vec![answer(422, None), answer(422, None), answer(400, None), answer(422, None), answer(422, None)], (0, 0, 5), 0, None)]
#[case::moved(vec![answer(308, None)], (0, 0, 5), 0, None)]
fn an_engine_in_trouble(
    #[case] replies: Vec<Reply>,
    #[case] wanted: (u64, u64, u64),
    #[case] seconds: i64,
    #[case] not_before: Option<i64>,
) {
    let vale = Vale::new(Tells::Urls(1));
    vale.answers(replies);
    let told = vale.tell();
    let asked = |alone: Option<LeftAlone>| alone.filter(|alone| alone.is_asked).map(|alone| alone.until);
    assert_eq!((outcome(&told), asked(told.left_alone)), (wanted, not_before));
    assert_eq!(vale.clock.now().as_second() - NOON, seconds, "so long was waited, by its own clock");
    assert_eq!(asked(left_alone(&*vale.ledger(), "post", NOON).unwrap()), not_before, "the ledger knows");
    vale.answers([]);
    vale.sent();
    if let Some(alone) = told.left_alone {
        assert_eq!((outcome(&vale.tell()), vale.sent().len()), (wanted, 0), "it is left alone");
        vale.clock.set(Timestamp::from_second(alone.until).unwrap());
    }
    assert_eq!(outcome(&vale.tell()), (wanted.2, 0, 0), "nothing is lost");
}

/// An engine that takes many URLs in one message, but not all.
struct Parcels {
    heard: Arc<Mutex<TestEndpoint>>,
    faulty: fn(&str) -> bool,
    most: usize,
}

impl Protocol for Parcels {
    fn messages(&self, pending: &[Pending]) -> Vec<Message> {
        vec![Message { about: pending.to_vec() }]
    }

    fn send(&self, message: &Message) -> Reply {
        let status = match message.about.len() {
            many if many > self.most => 413,
            _ if message.urls().into_iter().any(self.faulty) => 422,
            _ => 200,
        };
        if status == 200 {
            self.heard.lock().unwrap().sent.push(message.urls().into_iter().map(str::to_owned).collect());
        }
        answer(status, None)
    }
}

/// A message that is not accepted is halved until the URLs at fault stand alone. Only these are refused, and every other
/// is accepted once.
#[rstest]
#[case::none(|_: &str| false, 100, (5, 0, 0))]
#[case::one(|url: &str| url.ends_with("/6/"), 100, (4, 1, 0))]
#[case::two(|url: &str| url.ends_with("/5/") || url.ends_with("/0/"), 100, (3, 2, 0))]
#[case::all_at_fault_is_the_key(|_: &str| true, 100, (0, 0, 5))]
#[case::too_large(|_: &str| false, 2, (5, 0, 0))]
fn urls_at_fault_are_found(#[case] faulty: fn(&str) -> bool, #[case] most: usize, #[case] wanted: (u64, u64, u64)) {
    let vale = Vale::new(Tells::Urls(10));
    let heard = Arc::<Mutex<TestEndpoint>>::default();
    let engine = Engine::new(
        "post",
        Tells::Urls(10),
        TellingLimits::default(),
        Box::new(Parcels { heard: Arc::clone(&heard), faulty, most }),
    );
    let all = vale.pending();
    let told = tell(&mut *vale.ledger(), &engine, Telling::due(&Names::of(ROOT)), (&vale.clock, &vale.stop)).unwrap();
    assert_eq!(outcome(&told), wanted, "{told:?}");
    let sent = heard.lock().unwrap().sent.concat();
    let sound: Vec<String> = all.iter().filter(|url| !faulty(url)).cloned().collect();
    assert_eq!(sent, sound);
    let last = told.messages.last().unwrap();
    assert!(wanted.0 > 0 || last.words.contains("check the engine's settings"), "{last:?}");
    assert_eq!(vale.pending().len() as u64, wanted.2);
}

/// Another command that reads the ledger meanwhile knows of the pause. A stop ends the pause.
#[test]
fn a_pause_is_recorded_and_ends_on_a_stop() {
    let vale = Vale::new(Tells::Urls(1));
    vale.answers([answer(200, None), answer(429, Some(5))]);
    vale.stops_after(2);
    let told = vale.tell();
    assert_eq!((outcome(&told), told.stopped), ((1, 0, 4), Some(5)));
    let alone = left_alone(&*vale.ledger(), "post", NOON).unwrap();
    assert_eq!(alone, Some(LeftAlone { until: NOON + 5, is_asked: true }));
}

/// A protocol that announces files is told of the main file if a build wrote anything.
#[test]
fn files_are_announced_instead_of_urls() {
    let vale = Vale::new(Tells::Main);
    assert_eq!(vale.pending(), [MAIN], "a dry run tells so");
    assert_eq!(outcome(&vale.tell()), (1, 0, 0));
    assert_eq!(vale.sent(), [MAIN]);
    vale.build(1..9);
    assert_eq!(outcome(&vale.tell()), (0, 0, 0), "that build wrote nothing");
    vale.build(1..10);
    assert_eq!(outcome(&vale.tell()), (1, 0, 0));
}

/// An engine that is told of new files is told of each of them once, and of all of them if it was never told.
#[test]
fn new_files_are_announced_once() {
    let vale = Vale::new(Tells::NewFiles);
    assert_eq!(outcome(&vale.tell()), (1, 0, 0));
    assert_eq!(vale.sent(), [MAIN], "there is a single file");
    vale.build(1..10);
    assert_eq!(outcome(&vale.tell()), (0, 0, 0), "the file has changed, but it is not new");
    assert!(!vale.tell().retired);
}

/// A round builds, then tells each engine. If the build is held, no engine is told.
#[test]
fn a_round_and_its_events() {
    let vale = Vale::new(Tells::Urls(10));
    let engines = || {
        let engine =
            |name| Engine::new(name, Tells::Urls(10), TellingLimits::default(), Box::new(vale.postcards.clone()));
        [engine("post"), engine("parcel")]
    };
    let events = vale.round(Some((1..10).collect()), &engines());
    let told: Vec<(&str, u64)> = events[1..]
        .iter()
        .map(|event| match event {
            Event::Told(told) => (told.engine.as_str(), told.taken),
            other => panic!("{other:?}"),
        })
        .collect();
    assert!(matches!(&events[0], Event::Built(built) if built.run == 3));
    assert_eq!(told, [("post", 6), ("parcel", 6)]);
    vale.sent();
    let events = vale.round(Some((1..3).collect()), &engines());
    let [Event::Held(preview)] = &events[..] else { panic!("{events:?}") };
    assert_eq!(preview.survey.held[0].guard, Guard::Shrink);
    assert_eq!(vale.sent(), [""; 0]);
}

#[test]
fn the_whole_site_is_new_to_a_new_engine() {
    let vale = Vale::new(Tells::Urls(10));
    let pending = all_pending(&*vale.ledger(), &settings(vale.tells), &Names::of(ROOT), ToAnnounce::All, 100).unwrap();
    assert_eq!(pending.count, 9);
    let count = |change: Change| pending.first.iter().filter(|one| one.change == change).count();
    assert_eq!((count(Change::Added), count(Change::Removed)), (8, 1));
}

/// A day's allowance is never exceeded. What is left over waits, the most recent run first.
#[test]
fn an_allowance_lets_the_most_recent_run_go_first() {
    let vale = Vale::new(Tells::Urls(10)).limited(TellingLimits { per_day: Some(3), ..TellingLimits::default() });
    let oldest = vale.pending();
    vale.build(1..11);
    let told = vale.tell();
    assert_eq!(outcome(&told), (3, 0, 0));
    assert_eq!(told.changes.added + told.changes.removed, 3, "what waits is said apart");
    let [waiting] = told.waiting[..] else { panic!("{told:?}") };
    assert_eq!((waiting.urls, waiting.until, waiting.why), (4, NOON + 86_400, WaitsFor::Allowance));
    let sent = vale.sent();
    let newest = [9, 10].map(|number| format!("{ROOT}{number}/"));
    assert!(newest.iter().all(|url| sent[..2].contains(url)), "{sent:?}");
    assert_eq!(sent[2], oldest[0]);
    vale.later(3_600);
    assert_eq!((outcome(&vale.tell()), vale.sent().len()), ((0, 0, 0), 0));
    vale.build(1..12);
    vale.later(86_400);
    assert_eq!(outcome(&vale.tell()), (3, 0, 0));
    let sent = vale.sent();
    assert_eq!(sent[0], format!("{ROOT}11/"), "the most recent run first");
    assert_eq!(sent[1..], oldest[1..3]);
    vale.later(86_401);
    assert_eq!((outcome(&vale.tell()), vale.sent()), ((2, 0, 0), oldest[3..].to_vec()));
    assert!(vale.pending().is_empty());
}

/// A page that changes again within the pause waits, while others go; however often it changes meanwhile, it is told
/// once, and as what it is then.
#[test]
fn a_url_waits_for_its_pause() {
    let vale = Vale::new(Tells::Urls(10)).limited(TellingLimits { pause_seconds: 600, ..TellingLimits::default() });
    assert_eq!(outcome(&vale.tell()), (5, 0, 0));
    vale.sent();
    vale.build(2..8);
    let told = vale.tell();
    assert_eq!((outcome(&told), vale.sent()), ((1, 0, 0), vec![format!("{ROOT}1/")]), "8 was told a moment ago");
    let [waiting] = told.waiting[..] else { panic!("{told:?}") };
    assert_eq!((waiting.urls, waiting.until, waiting.why), (1, NOON + 600, WaitsFor::Pause));
    assert_eq!(vale.pending(), [format!("{ROOT}8/")]);
    vale.later(300);
    assert_eq!((outcome(&vale.tell()), vale.sent().len()), ((0, 0, 0), 0));
    vale.later(301);
    let told = vale.tell();
    assert_eq!((outcome(&told), vale.sent()), ((1, 0, 0), vec![format!("{ROOT}8/")]));
    assert_eq!((told.changes.removed, vale.pending().len()), (1, 0), "{told:?}");
    assert_eq!((outcome(&vale.tell()), vale.sent().len()), ((0, 0, 0), 0));
}

/// A page that left and is back within the pause is not told as removed.
#[test]
fn what_is_back_within_the_pause_is_not_removed() {
    let vale = Vale::new(Tells::Urls(10)).limited(TellingLimits { pause_seconds: 600, ..TellingLimits::default() });
    vale.tell();
    vale.sent();
    vale.build(1..8);
    assert_eq!(vale.tell().waiting.len(), 1);
    vale.build(1..9);
    vale.later(601);
    let told = vale.tell();
    let sent = vale.sent();
    // The pages of this source have no content by which they could be recognised.
    assert_eq!((sent.len(), told.changes.added, told.changes.removed), (1, 1, 0), "{told:?}");
}

/// An engine that answers 500 for a week is tried less and less often, up to once an hour, and loses nothing.
#[test]
fn an_engine_that_is_down_for_a_week_loses_nothing() {
    let vale = Vale::new(Tells::Urls(10));
    let mut rounds = 0;
    for _ in 0..7 * 24 * 12 {
        vale.answers((0..3).map(|_| answer(500, None)));
        let told = vale.tell();
        rounds += usize::from(!told.messages.is_empty());
        assert_eq!((outcome(&told), told.left_alone.is_some()), ((0, 0, 5), true));
        vale.sent();
        vale.later(300);
    }
    assert!((7 * 24 * 3 / 4..7 * 24 * 2).contains(&rounds), "{rounds} rounds in a week");
    vale.answers([]);
    vale.later(2 * 3_600);
    assert_eq!((outcome(&vale.tell()), vale.sent().len()), ((5, 0, 0), 5));
}
