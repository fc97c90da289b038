//! Announcements by a made-up protocol, with a clock that is set by hand.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use atlas_core::address::Site;
use atlas_core::announce::{Answer, Change, EngineState};
use atlas_core::choose::{Choices, Sections};
use atlas_core::contribution::Contribution;
use atlas_core::placement::OwnFiles;
use atlas_io::engines::{
    self, Engine, EngineReport, EngineSettings, Message, Protocol, Reply, Tells, all_pending, left_alone, tell,
};
use atlas_io::round::{Event, Round, run};
use atlas_io::secret::Secret;
use atlas_store::arrival::Block;
use atlas_store::build::Job;
use atlas_store::clock::{Clock, ManualClock};
use atlas_store::destination::{InMemory, Names};
use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger};
use atlas_store::model::Pending;
use atlas_store::report::Guard;
use atlas_store::source::{Gathering, Source};
use atlas_store::stop::Stop;
use jiff::Timestamp;
use rstest::rstest;

const ROOT: &str = "https://www.marrowvale.example/";
const MAIN: &str = "https://www.marrowvale.example/sitemap.xml";
const NOON: i64 = 1_795_435_200;

/// Pages by number.
struct Numbers(Vec<u32>);

impl Source for Numbers {
    fn name(&self) -> String {
        "numbers".to_owned()
    }

    fn settings(&self) -> u64 {
        0
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let mut block = Block::new(gathering.decider());
        for number in &self.0 {
            block.push(&Contribution { url: format!("{ROOT}{number}/").into(), ..Contribution::default() });
        }
        gathering.push(block);
        Ok(())
    }
}

/// Records what an engine was sent, and what it is to answer: 200 once the list is empty.
#[derive(Default)]
struct TestEndpoint {
    sent: Vec<Vec<String>>,
    replies: VecDeque<Reply>,
    /// Asks to stop after this many messages.
    stop: Option<(usize, Stop)>,
}

#[derive(Clone)]
struct Postcards {
    heard: Arc<Mutex<TestEndpoint>>,
}

impl Protocol for Postcards {
    fn send(&self, message: &Message) -> Reply {
        let mut heard = self.heard.lock().unwrap();
        heard.sent.push(message.urls().into_iter().map(str::to_owned).collect());
        if let Some((_, stop)) = heard.stop.as_ref().filter(|(after, _)| heard.sent.len() >= *after) {
            stop.ask();
        }
        heard.replies.pop_front().unwrap_or_else(|| answer(200, None))
    }
}

fn answer(status: u16, pause: Option<u64>) -> Reply {
    Reply { answer: Answer::Status(status), pause: pause.map(Duration::from_secs) }
}

/// The settings of the engine, as far as they count here.
fn settings(tells: Tells) -> EngineSettings {
    EngineSettings {
        name: "post".into(),
        was: None,
        on: true,
        via: engines::named("indexnow").unwrap(),
        tells,
        endpoint: Secret::new("", String::new()),
        key: None,
        call: None,
        wait: Duration::from_secs(1),
    }
}

/// A site, and an engine that is told of its changes.
struct Vale {
    folder: tempfile::TempDir,
    memory: InMemory,
    clock: ManualClock,
    stop: Stop,
    postcards: Postcards,
    tells: Tells,
    engine: Engine,
}

impl Vale {
    /// Pages 0 to 4 are the baseline; then page 0 is removed and pages 5 to 8 are added.
    fn new(tells: Tells) -> Self {
        let postcards = Postcards { heard: Arc::default() };
        let vale = Self {
            folder: tempfile::tempdir().unwrap(),
            memory: InMemory::default(),
            clock: ManualClock::at(Timestamp::from_second(NOON).unwrap()),
            stop: Stop::default(),
            engine: Engine::new("post", tells, Box::new(postcards.clone())),
            postcards,
            tells,
        };
        vale.build(0..5);
        let mut ledger = vale.ledger();
        let writing = ledger.transaction().unwrap();
        ["post", "parcel"].iter().for_each(|name| writing.set_engine(name, &EngineState::met(1)).unwrap());
        writing.commit().unwrap();
        drop(ledger);
        vale.build(1..9);
        vale
    }

    fn ledger(&self) -> Box<dyn Ledger> {
        ledger::open(self.folder.path()).unwrap()
    }

    fn round(&self, numbers: Option<Vec<u32>>, engines: &[Engine]) -> Vec<Event> {
        let choices = Choices {
            own_files: OwnFiles { folder: ROOT.into(), main: "sitemap.xml".into(), ..OwnFiles::default() },
            ..Choices::of(Site::parse(ROOT).unwrap(), Sections::new(vec![], []))
        };
        let names = Names::of(ROOT);
        let sources: Vec<Box<dyn Source>> = vec![Box::new(Numbers(numbers.clone().unwrap_or_default()))];
        let job = Job::new(&sources, &choices, (&self.memory, &names), self.folder.path(), self.clock.now());
        let job = numbers.is_some().then_some(&job);
        let mut events = Vec::new();
        let round = Round { job, engines, names: &names, all: false };
        run(&round, &mut *self.ledger(), (&self.clock, &self.stop), |event| events.push(event)).unwrap();
        events
    }

    fn build(&self, numbers: std::ops::Range<u32>) {
        let events = self.round(Some(numbers.collect()), &[]);
        assert!(matches!(events[..], [Event::Built(_)]), "{events:?}");
    }

    fn tell(&self) -> EngineReport {
        tell(&mut *self.ledger(), &self.engine, &Names::of(ROOT), false, (&self.clock, &self.stop)).unwrap()
    }

    fn answers(&self, replies: impl IntoIterator<Item = Reply>) {
        self.postcards.heard.lock().unwrap().replies = replies.into_iter().collect();
    }

    fn stops_after(&self, messages: usize) {
        self.postcards.heard.lock().unwrap().stop = Some((messages, self.stop.clone()));
    }

    /// What was sent since the last call, in order.
    fn sent(&self) -> Vec<String> {
        std::mem::take(&mut self.postcards.heard.lock().unwrap().sent).concat()
    }

    /// What has still to be announced.
    fn pending(&self) -> Vec<String> {
        let mut pending =
            all_pending(&*self.ledger(), &settings(self.tells), &Names::of(ROOT), false, 100).unwrap().first;
        pending.sort_by_key(|one| one.key);
        pending.into_iter().map(|one| one.url).collect()
    }
}

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
    assert_eq!((outcome(&told), told.not_before), (wanted, not_before));
    assert_eq!(vale.clock.now().as_second() - NOON, seconds, "so long was waited, by its own clock");
    assert_eq!(left_alone(&*vale.ledger(), "post", NOON).unwrap(), not_before, "the ledger knows");
    vale.answers([]);
    vale.sent();
    if not_before.is_some() {
        assert_eq!((outcome(&vale.tell()), vale.sent().len()), (wanted, 0), "it is left alone");
        vale.clock.set(Timestamp::from_second(NOON + 600).unwrap());
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
    let engine = Engine::new("post", Tells::Urls(10), Box::new(Parcels { heard: Arc::clone(&heard), faulty, most }));
    let all = vale.pending();
    let told = tell(&mut *vale.ledger(), &engine, &Names::of(ROOT), false, (&vale.clock, &vale.stop)).unwrap();
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
    assert_eq!(left_alone(&*vale.ledger(), "post", NOON).unwrap(), Some(NOON + 5));
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
        let engine = |name| Engine::new(name, Tells::Urls(10), Box::new(vale.postcards.clone()));
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
    let pending = all_pending(&*vale.ledger(), &settings(vale.tells), &Names::of(ROOT), true, 100).unwrap();
    assert_eq!(pending.count, 9);
    let count = |change: Change| pending.first.iter().filter(|one| one.change == change).count();
    assert_eq!((count(Change::Added), count(Change::Removed)), (8, 1));
}
