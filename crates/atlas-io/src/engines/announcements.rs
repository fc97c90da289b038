//! Announcements: telling an engine, once, of what changed since it was last told.
//!
//! What an engine has still to be told follows from the ledger, sorted by key. After each message that the engine
//! accepts, the progress is recorded, so that an interruption at any instant repeats at most one message. If an engine
//! asks for a pause, that is recorded, too: a short pause is waited for, a longer one is left for the next time.

use std::time::Duration;

use atlas_core::announce::{Answer, Change, ChangeCounts, EngineState, Then};
use atlas_core::rfc3339;
use atlas_store::clock::Clock;
use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger};
use atlas_store::model::{Announced, Pending};
use atlas_store::stop::Stop;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use super::{Engine, Message, Reply, Tells};

/// How often a message is sent before it is kept for the next time.
const TRIES: u32 = 3;
/// The first pause between two tries, unless the engine asks for another. It doubles with each try.
const PAUSE: Duration = Duration::from_millis(500);
/// The longest pause between tries within one command.
const LONGEST_PAUSE: Duration = Duration::from_secs(5);
/// How many addresses of a message are recorded as examples.
const EXAMPLES: usize = 5;

/// The result for one engine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct EngineReport {
    /// The engine's name.
    pub engine: String,
    /// The number of URLs that it accepted.
    pub taken: u64,
    /// The number of URLs that it refused for good.
    pub refused: u64,
    /// The number of URLs that are kept for the next time.
    pub kept: u64,
    /// The numbers of added, changed, removed and redirected URLs among all of them.
    pub changes: ChangeCounts,
    /// Each message.
    pub messages: Vec<Announced>,
    /// The engine asked for no messages before this instant, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    pub not_before: Option<i64>,
    /// The round was stopped after this many messages, of this many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stopped: Option<u64>,
}

/// What an engine has still to be told, in order, with the state of its round.
fn pending(
    ledger: &dyn Ledger,
    (engine, tells): (&str, Tells),
    main: &str,
    all: bool,
) -> Result<(EngineState, Vec<Pending>), StoreError> {
    let known = ledger.engine(engine)?;
    let state = EngineState::begin(known, ledger.last_run()?, all);
    let mut pending = due(ledger, tells, main, &state, all)?;
    if all && known.is_none() {
        // To an engine that was never told anything, the whole site is new.
        pending.iter_mut().filter(|one| one.change == Change::Changed).for_each(|one| one.change = Change::Added);
    }
    pending.retain(|one| state.awaits(one.key));
    Ok((state, pending))
}

/// What the current round has to tell an engine.
fn due(
    ledger: &dyn Ledger,
    tells: Tells,
    main: &str,
    state: &EngineState,
    all: bool,
) -> Result<Vec<Pending>, StoreError> {
    match tells {
        Tells::Urls(_) => ledger::pending(ledger, state.watermark, state.target(), all),
        Tells::Files => files(ledger, main, state, all),
    }
}

/// The main file, if a build has written any file since the engine was last told.
fn files(ledger: &dyn Ledger, main: &str, state: &EngineState, all: bool) -> Result<Vec<Pending>, StoreError> {
    let runs = usize::try_from(state.target() - state.watermark).unwrap_or(0);
    let mut written = ledger.runs(runs)?.into_iter();
    let is_new = written.any(|run| run.run > state.watermark && run.counts.files_written > 0);
    let pending = Pending { key: 1, url: main.to_owned(), change: Change::Changed };
    Ok((all || is_new).then_some(pending).into_iter().collect())
}

/// Everything that an engine has still to be told: the rest of an interrupted round, and what has changed since.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn all_pending(
    ledger: &dyn Ledger,
    (engine, tells): (&str, Tells),
    main: &str,
    all: bool,
) -> Result<Vec<Pending>, StoreError> {
    let (state, mut told) = pending(ledger, (engine, tells), main, all)?;
    let last_run = ledger.last_run()?;
    if state.target() < last_run {
        let next = EngineState::begin(Some(state.finished()), last_run, false);
        told.extend(due(ledger, tells, main, &next, false)?);
    }
    if tells == Tells::Files {
        told.truncate(1);
    }
    Ok(told)
}

/// The instant until which an engine asked for no messages, if it is later than `now`. Both in seconds since 1970.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn left_alone(ledger: &dyn Ledger, engine: &str, now: i64) -> Result<Option<i64>, StoreError> {
    Ok(ledger.engine(engine)?.and_then(|state| state.left_alone(now)))
}

/// Tells one engine everything that it has still to be told. `main` is the address of the main file; with `all`, the
/// whole site is announced.
///
/// # Errors
///
/// Returns a [`StoreError`] if the ledger fails. What the engine answers, or that it does not answer, is part of the
/// report.
pub fn tell(
    ledger: &mut dyn Ledger,
    engine: &Engine,
    main: &str,
    all: bool,
    (clock, stop): (&dyn Clock, &Stop),
) -> Result<EngineReport, StoreError> {
    stop.heed();
    let now = clock.now().as_second();
    let mut told = EngineReport {
        engine: engine.name.clone(),
        taken: 0,
        refused: 0,
        kept: 0,
        changes: ChangeCounts::default(),
        messages: Vec::new(),
        not_before: None,
        stopped: None,
    };
    if let Some(until) = left_alone(ledger, &engine.name, now)? {
        told.kept = all_pending(ledger, (&engine.name, engine.tells), main, all)?.len() as u64;
        told.not_before = Some(until);
        return Ok(told);
    }
    let mut announcing = Announcing { ledger, engine, clock, stop, now, told };
    let mut all = all;
    loop {
        let (state, pending) = pending(announcing.ledger, (&engine.name, engine.tells), main, all)?;
        announcing.told.changes.extend(pending.iter().map(|one| one.change));
        let finished = announcing.round(state, &pending)?;
        all = false;
        // More may have changed since an interrupted round began.
        let caught_up = state.target() == announcing.ledger.last_run()?;
        if !finished || caught_up {
            return Ok(announcing.told);
        }
    }
}

/// The announcement to one engine under way.
struct Announcing<'t> {
    ledger: &'t mut dyn Ledger,
    engine: &'t Engine,
    clock: &'t dyn Clock,
    stop: &'t Stop,
    /// The instant at which it began, in seconds since 1970.
    now: i64,
    told: EngineReport,
}

impl Announcing<'_> {
    /// Sends the messages of one round; `false` if it had to stop early.
    fn round(&mut self, mut state: EngineState, pending: &[Pending]) -> Result<bool, StoreError> {
        let most = match self.engine.tells {
            Tells::Urls(most) => most.max(1),
            Tells::Files => pending.len().max(1),
        };
        let mut told = 0;
        for batch in pending.chunks(most) {
            for (nth, message) in self.messages(batch).iter().enumerate() {
                let before = self.told.messages.len() - nth;
                let all = |announcing: &Self| (before + announcing.messages(&pending[told..]).len()) as u64;
                if self.stop.is_asked() {
                    self.told.stopped = Some(all(self));
                    self.told.kept += (pending.len() - told) as u64;
                    return Ok(false);
                }
                let then = self.message(message, &mut state)?;
                let count = message.about.len() as u64;
                match then {
                    Then::Done => self.told.taken += count,
                    Then::Refused => self.told.refused += count,
                    Then::Later | Then::MendFirst => {
                        self.told.stopped = self.stop.is_asked().then(|| all(self));
                        self.told.not_before = state.not_before;
                        self.told.kept += (pending.len() - told) as u64;
                        return Ok(false);
                    }
                }
            }
            told += batch.len();
            state = state.told(batch.last().map(|one| one.key));
            self.note(&state)?;
        }
        self.note(&state.finished())?;
        Ok(true)
    }

    fn messages(&self, pending: &[Pending]) -> Vec<Message> {
        let urls: Vec<String> = pending.iter().map(|one| one.url.clone()).collect();
        self.engine.protocol.messages(&urls)
    }

    /// Sends a message, several times if necessary, and records the answer.
    fn message(&mut self, message: &Message, state: &mut EngineState) -> Result<Then, StoreError> {
        let mut pause = PAUSE;
        let mut tries = 1;
        let Reply { answer, pause: asked } = loop {
            let reply = self.engine.protocol.send(message);
            let wait = reply.pause.unwrap_or(pause);
            if reply.answer.then() != Then::Later || tries == TRIES || wait > LONGEST_PAUSE {
                break reply;
            }
            // Recorded now, so that another command knows of the pause.
            let until = self.clock.now() + SignedDuration::try_from(wait).unwrap_or_default();
            self.note(&EngineState { not_before: Some(ceiling(until)), ..*state })?;
            if self.clock.sleep_until(until, self.stop).is_err() {
                break reply;
            }
            pause *= 2;
            tries += 1;
        };
        let then = answer.then();
        let announced = self.announced(message, &answer, then, state.target());
        let writing = self.ledger.transaction()?;
        writing.add_announcement(&announced)?;
        if !matches!(then, Then::Done | Then::Refused) {
            state.not_before = asked.map(|pause| self.now + i64::try_from(pause.as_secs()).unwrap_or(0));
            writing.set_engine(&self.engine.name, state)?;
        }
        writing.commit()?;
        self.told.messages.push(announced);
        Ok(then)
    }

    fn note(&mut self, state: &EngineState) -> Result<(), StoreError> {
        let writing = self.ledger.transaction()?;
        writing.set_engine(&self.engine.name, state)?;
        writing.commit()
    }

    fn announced(&self, message: &Message, answer: &Answer, then: Then, run: i64) -> Announced {
        Announced {
            engine: self.engine.name.clone(),
            at: self.now,
            run,
            urls: message.about.len() as u64,
            status: answer.status(),
            outcome: then.as_str().to_owned(),
            words: answer.words(),
            examples: message.about.iter().take(EXAMPLES).cloned().collect(),
        }
    }
}

/// An instant in whole seconds since 1970, rounded up.
fn ceiling(instant: Timestamp) -> i64 {
    instant.as_second() + i64::from(instant.subsec_nanosecond() > 0)
}
