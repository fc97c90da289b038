//! Nothing is lost, and nothing is told twice, whatever the engine answers and however often a command is stopped.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex};

use atlas_core::announce::Answer;
use atlas_io::engines::{Engine, Message, Protocol, Reply, Telling, TellingLimits, Tells, tell};
use atlas_io::round::Event;
use atlas_store::clock::{Clock, ManualClock};
use atlas_store::destination::Names;
use atlas_store::model::Pending;
use atlas_store::stop::Stop;

use crate::vale::{ROOT, Vale, answer};

/// A message that an engine took: when, and each URL with the run in which it changed.
type Taken = (i64, Vec<(String, i64)>);

/// An engine in any mood: it takes messages, asks for time, fails, refuses, or the process dies with its answer unread.
struct Moody {
    random: Mutex<fastrand::Rng>,
    /// The URLs of each message that it took and whose answer was read, with the instant.
    taken: Arc<Mutex<Vec<Taken>>>,
    /// Messages that it took but whose answer was lost.
    lost: Arc<Mutex<usize>>,
    clock: ManualClock,
    stop: Stop,
}

impl Protocol for Moody {
    fn messages(&self, pending: &[Pending]) -> Vec<Message> {
        vec![Message { about: pending.to_vec() }]
    }

    fn send(&self, message: &Message) -> Reply {
        let mood = self.random.lock().unwrap().u32(0..10);
        match mood {
            0..=4 => {
                let about = message.about.iter().map(|one| (one.url.clone(), one.run)).collect();
                self.taken.lock().unwrap().push((self.clock.now().as_second(), about));
                answer([200, 202][mood as usize % 2], None)
            }
            5 => answer(429, Some(u64::from(self.random.lock().unwrap().u32(1..20)))),
            6 => answer(503, None),
            7 => Reply { answer: Answer::None("timed out".into()), pause: None },
            8 => {
                // It took the message, and nobody heard of it.
                *self.lost.lock().unwrap() += 1;
                Reply { answer: Answer::None("connection reset".into()), pause: None }
            }
            _ => {
                self.stop.ask();
                answer(500, None)
            }
        }
    }
}

/// Thousands of changes, told to an engine in any mood, with an allowance and a pause, in commands that are stopped again
/// and again: every change is taken at least once, none is told again after a known answer, and neither the allowance nor
/// the pause is ever broken.
#[test]
fn nothing_is_lost_and_nothing_is_told_twice() {
    let mut random = fastrand::Rng::with_seed(19);
    let vale = Vale::new(Tells::Urls(40));
    let (taken, lost) = (Arc::default(), Arc::default());
    let limits = TellingLimits { per_day: Some(700), pause_seconds: 1_800, ..TellingLimits::default() };
    let (mut changes, mut commands) = (9 - 5 + 1, 0);
    // Numbers of errors, such as 404, would not be listed.
    let (mut pages, mut next): (VecDeque<u32>, u32) = ((1..9).collect(), 1_000);
    let mut all: Vec<u32> = (0..9).collect();
    loop {
        // Some pages come and some go, as long as there are enough changes still to be made.
        if changes < 5_000 {
            let (come, go) = (random.u32(1..60), random.u32(0..20).min(pages.len() as u32 - 1));
            pages.extend(next..next + come);
            all.extend(next..next + come);
            (next, changes) = (next + come, changes + come);
            let rest: Vec<u32> = pages.iter().copied().skip(go as usize).collect();
            let events = vale.round(Some(rest.clone()), &[]);
            if let [Event::Held(_)] = events[..] {
                vale.round(Some(pages.iter().copied().collect()), &[]);
            } else {
                (pages, changes) = (rest.into(), changes + go);
            }
        }
        for _ in 0..random.u32(1..4) {
            let stop = Stop::default();
            let moody = Moody {
                random: Mutex::new(random.fork()),
                taken: Arc::clone(&taken),
                lost: Arc::clone(&lost),
                clock: vale.clock.clone(),
                stop: stop.clone(),
            };
            let engine = Engine::new("post", Tells::Urls(40), limits, Box::new(moody));
            tell(&mut *vale.ledger(), &engine, Telling::due(&Names::of(ROOT)), (&vale.clock, &stop)).unwrap();
            commands += 1;
            vale.later(i64::from(random.u32(1..1_500)));
        }
        if changes >= 5_000 && vale.pending().is_empty() {
            break;
        }
        vale.later(i64::from(random.u32(600..7_200)));
    }
    let taken = taken.lock().unwrap();
    let mut told: HashMap<&str, Vec<(i64, i64)>> = HashMap::new();
    for (at, about) in &*taken {
        about.iter().for_each(|(url, run)| told.entry(url).or_default().push((*at, *run)));
    }
    for (at, _) in &*taken {
        let day: usize =
            taken.iter().filter(|(then, _)| *then > at - 86_400 && then <= at).map(|(_, about)| about.len()).sum();
        assert!(day <= 700, "{day} URLs in 24 hours");
    }
    let mut again = 0;
    for (url, times) in &told {
        for pair in times.windows(2) {
            assert!(pair[1].0 - pair[0].0 >= 1_800, "{url} was told again after {} s", pair[1].0 - pair[0].0);
            // It came, and then it went: two changes.
            again += 1;
        }
        let runs: Vec<i64> = times.iter().map(|(_, run)| *run).filter(|run| *run > 0).collect();
        assert!(runs.windows(2).all(|pair| pair[0] != pair[1]), "{url} was told twice of a change: {times:?}");
        assert!(times.len() <= 2, "{url} came and went: {times:?}");
    }
    // The first five pages are the baseline; of them, those that went are told.
    let is_baseline = |number: &u32| *number < 5 && pages.contains(number);
    let is_told = |number: &u32| told.contains_key(format!("{ROOT}{number}/").as_str());
    let untold: Vec<&u32> = all.iter().filter(|number| !is_baseline(number) && !is_told(number)).collect();
    assert!(untold.is_empty(), "{untold:?}");
    println!(
        "{changes} changes in {} messages over {commands} commands; {} answers were lost; {again} URLs were told of two changes",
        taken.len(),
        lost.lock().unwrap()
    );
}
