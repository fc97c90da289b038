//! A site in memory, and an engine that is told of its changes by a made-up protocol, with a clock that is set by hand.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use atlas_core::address::Site;
use atlas_core::announce::{Answer, EngineState};
use atlas_core::choose::{Choices, Sections};
use atlas_core::contribution::Contribution;
use atlas_core::placement::OwnFiles;
use atlas_io::engines::{
    self, Engine, EngineReport, EngineSettings, Message, Protocol, Reply, Telling, TellingLimits, Tells, ToAnnounce,
    all_pending, tell,
};
use atlas_io::round::{Event, Round, run};
use atlas_io::secret::Secret;
use atlas_store::arrival::Block;
use atlas_store::build::Job;
use atlas_store::clock::{Clock, ManualClock};
use atlas_store::destination::{InMemory, Names};
use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger};
use atlas_store::source::{Gathering, Source};
use atlas_store::stop::Stop;
use jiff::Timestamp;

pub const ROOT: &str = "https://www.marrowvale.example/";
pub const MAIN: &str = "https://www.marrowvale.example/sitemap.xml";
pub const NOON: i64 = 1_795_435_200;

/// Pages by number.
pub struct Numbers(Vec<u32>);

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
pub struct TestEndpoint {
    pub sent: Vec<Vec<String>>,
    pub replies: VecDeque<Reply>,
    /// Asks to stop after this many messages.
    pub stop: Option<(usize, Stop)>,
}

#[derive(Clone)]
pub struct Postcards {
    pub heard: Arc<Mutex<TestEndpoint>>,
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

pub fn answer(status: u16, pause: Option<u64>) -> Reply {
    Reply { answer: Answer::Status(status), pause: pause.map(Duration::from_secs) }
}

/// The settings of the engine, as far as they count here.
pub fn settings(tells: Tells) -> EngineSettings {
    EngineSettings {
        name: "post".into(),
        was: None,
        on: true,
        via: engines::named("indexnow").unwrap(),
        tells,
        endpoint: Secret::new("", String::new()),
        key: None,
        call: None,
        limits: TellingLimits::default(),
        wait: Duration::from_secs(1),
        waits_until_live: true,
    }
}

/// A site, and an engine that is told of its changes.
pub struct Vale {
    pub folder: tempfile::TempDir,
    pub memory: InMemory,
    pub clock: ManualClock,
    pub stop: Stop,
    pub postcards: Postcards,
    pub tells: Tells,
    pub engine: Engine,
}

impl Vale {
    /// Pages 0 to 4 are the baseline; then page 0 is removed and pages 5 to 8 are added.
    pub fn new(tells: Tells) -> Self {
        let postcards = Postcards { heard: Arc::default() };
        let vale = Self {
            folder: tempfile::tempdir().unwrap(),
            memory: InMemory::default(),
            clock: ManualClock::at(Timestamp::from_second(NOON).unwrap()),
            stop: Stop::default(),
            engine: Engine::new("post", tells, TellingLimits::default(), Box::new(postcards.clone())),
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

    pub fn ledger(&self) -> Box<dyn Ledger> {
        ledger::open(self.folder.path()).unwrap()
    }

    pub fn round(&self, numbers: Option<Vec<u32>>, engines: &[Engine]) -> Vec<Event> {
        let choices = Choices {
            own_files: OwnFiles { folder: ROOT.into(), main: "sitemap.xml".into(), ..OwnFiles::default() },
            ..Choices::of(Site::parse(ROOT).unwrap(), Sections::new(vec![], []))
        };
        let names = Names::of(ROOT);
        let sources: Vec<Box<dyn Source>> = vec![Box::new(Numbers(numbers.clone().unwrap_or_default()))];
        let job = Job::new(&sources, &choices, (&self.memory, &names), self.folder.path(), self.clock.now());
        let job = numbers.is_some().then_some(&job);
        let mut events = Vec::new();
        let round = Round { job, engines, telling: Telling::due(&names) };
        run(&round, &mut *self.ledger(), (&self.clock, &self.stop), |event| events.push(event)).unwrap();
        events
    }

    pub fn build(&self, numbers: std::ops::Range<u32>) {
        let events = self.round(Some(numbers.collect()), &[]);
        assert!(matches!(events[..], [Event::Built(_)]), "{events:?}");
    }

    pub fn tell(&self) -> EngineReport {
        tell(&mut *self.ledger(), &self.engine, Telling::due(&Names::of(ROOT)), (&self.clock, &self.stop)).unwrap()
    }

    pub fn answers(&self, replies: impl IntoIterator<Item = Reply>) {
        self.postcards.heard.lock().unwrap().replies = replies.into_iter().collect();
    }

    pub fn stops_after(&self, messages: usize) {
        self.postcards.heard.lock().unwrap().stop = Some((messages, self.stop.clone()));
    }

    /// What was sent since the last call, in order.
    pub fn sent(&self) -> Vec<String> {
        std::mem::take(&mut self.postcards.heard.lock().unwrap().sent).concat()
    }

    /// What has still to be announced.
    pub fn pending(&self) -> Vec<String> {
        let mut pending =
            all_pending(&*self.ledger(), &settings(self.tells), &Names::of(ROOT), ToAnnounce::Due, 100).unwrap().first;
        pending.sort_by_key(|one| (std::cmp::Reverse(one.run), one.key));
        pending.into_iter().map(|one| one.url).collect()
    }
}

impl Vale {
    /// The same site, with limits for its engine.
    pub fn limited(self, limits: TellingLimits) -> Self {
        let engine = Engine::new("post", self.tells, limits, Box::new(self.postcards.clone()));
        Self { engine, ..self }
    }

    /// Time passes.
    pub fn later(&self, seconds: i64) {
        let then = self.clock.now() + jiff::SignedDuration::from_secs(seconds);
        self.clock.set(then);
    }
}
