//! Announcements: telling an engine, once, of what changed since it was last told.
//!
//! What an engine has still to be told follows from the ledger, sorted by key. After each message that the engine
//! accepts, the progress is recorded, so that an interruption at any instant repeats at most one message. If an engine
//! asks for a pause, that is recorded, too: a short pause is waited for, a longer one is left for the next time.

use std::time::Duration;

use atlas_core::announce::{Answer, Change, ChangeCounts, EngineState, Then};
use atlas_core::rfc3339;
use atlas_store::clock::Clock;
use atlas_store::destination::Names;
use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger};
use atlas_store::model::{Announced, Pending};
use atlas_store::stop::Stop;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use super::{Engine, EngineSettings, Message, Reply, Tells, addresses};

/// How often a message is sent before it is kept for the next time.
const TRIES: u32 = 3;
/// The first pause between two tries, unless the engine asks for another. It doubles with each try.
const PAUSE: Duration = Duration::from_millis(500);
/// The longest pause between tries within one command.
const LONGEST_PAUSE: Duration = Duration::from_secs(5);
/// If so many URLs are not accepted one by one, and no other was accepted, the key is at fault rather than the URLs.
const MOST_DOUBTFUL: usize = 16;
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
    /// The word for its protocol.
    pub via: &'static str,
    /// Whether it is told of files rather than of URLs.
    pub of_files: bool,
    /// If it was never told anything: the number of URLs that are the baseline from which changes are counted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub baseline: Option<u64>,
    /// It has given up being told in this way, and nothing is kept for it.
    pub retired: bool,
    /// Why it could not be told anything.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
    /// The round was stopped after this many messages, of this many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stopped: Option<u64>,
}

impl EngineReport {
    /// The report on an engine that cannot be told anything, and why.
    pub fn of_trouble(engine: &EngineSettings, kept: u64, problem: String) -> Self {
        Self { kept, problem: Some(problem), ..Self::of(&engine.name, engine.via.word, engine.tells) }
    }

    fn of(engine: &str, via: &'static str, tells: Tells) -> Self {
        Self {
            engine: engine.to_owned(),
            via,
            of_files: tells.of_files(),
            baseline: None,
            retired: false,
            taken: 0,
            refused: 0,
            kept: 0,
            changes: ChangeCounts::default(),
            messages: Vec::new(),
            not_before: None,
            problem: None,
            stopped: None,
        }
    }
}

/// What an engine has still to be told, in order, with the state of its round.
fn pending(
    ledger: &dyn Ledger,
    (engine, tells): (&str, Tells),
    names: &Names,
    all: bool,
) -> Result<(EngineState, Vec<Pending>), StoreError> {
    let known = ledger.engine(engine)?;
    let state = EngineState::begin(known, ledger.last_run()?, all);
    let mut pending = due(ledger, tells, names, &state, all)?;
    if all && !known.is_some_and(|known| known.was_told) {
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
    names: &Names,
    state: &EngineState,
    all: bool,
) -> Result<Vec<Pending>, StoreError> {
    match tells {
        Tells::Urls(_) => ledger::pending(ledger, state.watermark, state.target(), all),
        tells => addresses::pending(ledger, tells, names, state, all),
    }
}

/// What an engine has still to be told, as far as it is listed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PendingList {
    /// The number of all URLs.
    pub count: u64,
    /// The first of them, by URL.
    pub first: Vec<Pending>,
    /// The engine has given up being told, and nothing is kept for it.
    pub is_retired: bool,
    /// If it was never told anything: the number of URLs that are the baseline from which changes are counted.
    pub baseline: Option<u64>,
}

impl PendingList {
    /// Adds a URL. At most `most` are kept.
    fn add(&mut self, one: Pending, most: usize) {
        self.count += 1;
        self.first.push(one);
        if self.first.len() >= most * 2 {
            self.cut(most);
        }
    }

    fn cut(&mut self, most: usize) {
        self.first.sort_unstable_by(|one, other| one.url.cmp(&other.url));
        self.first.truncate(most);
    }
}

/// What an engine has still to be told: the rest of an interrupted round, and what has changed since. At most `most`
/// URLs are listed.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn all_pending(
    ledger: &dyn Ledger,
    engine: &EngineSettings,
    names: &Names,
    all: bool,
    most: usize,
) -> Result<PendingList, StoreError> {
    let known = ledger.engine(&engine.name)?;
    if is_retired(known, engine.endpoint_print()) {
        return Ok(PendingList { is_retired: true, ..PendingList::default() });
    }
    let baseline = baseline(ledger, (&engine.name, engine.tells))?;
    Ok(PendingList { baseline, ..pending_list(ledger, (&engine.name, engine.tells), names, all, most)? })
}

/// The number of URLs that are the baseline of an engine that was never told of any.
fn baseline(ledger: &dyn Ledger, (engine, tells): (&str, Tells)) -> Result<Option<u64>, StoreError> {
    if tells.of_files() || ledger.engine(engine)?.is_some_and(|state| state.was_told) {
        return Ok(None);
    }
    Ok(ledger.runs(1)?.first().map(|run| run.counts.entries))
}

/// Whether the engine has given up being told at this endpoint.
fn is_retired(known: Option<EngineState>, endpoint: u64) -> bool {
    known.is_some_and(|state| state.retired == Some(endpoint))
}

fn pending_list(
    ledger: &dyn Ledger,
    (engine, tells): (&str, Tells),
    names: &Names,
    all: bool,
    most: usize,
) -> Result<PendingList, StoreError> {
    let (known, last_run) = (ledger.engine(engine)?, ledger.last_run()?);
    let state = EngineState::begin(known, last_run, all);
    let is_new = all && !known.is_some_and(|known| known.was_told);
    let mut list = PendingList::default();
    let mut rounds = vec![(state, all)];
    if state.target() < last_run {
        rounds.push((EngineState::begin(Some(state.finished()), last_run, false), false));
    }
    for (state, all) in rounds {
        let mut add = |one: Pending| {
            if state.awaits(one.key) {
                let change = if is_new && one.change == Change::Changed { Change::Added } else { one.change };
                list.add(Pending { change, ..one }, most);
            }
        };
        match tells {
            Tells::Urls(_) => ledger::each_pending(ledger, state.watermark, state.target(), all, &mut add)?,
            tells => addresses::pending(ledger, tells, names, &state, all)?.into_iter().for_each(add),
        }
    }
    list.cut(most);
    if tells.of_files() {
        // Two rounds may name the same file.
        list.first.dedup_by(|one, other| one.url == other.url);
        list.count = list.first.len() as u64;
    }
    Ok(list)
}

/// Notes engines that were not met before: their progress begins with the last run, or is that of the engine whose name
/// they had.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read or written.
pub fn meet(ledger: &mut dyn Ledger, engines: &[EngineSettings]) -> Result<(), StoreError> {
    let last_run = ledger.last_run()?;
    for engine in engines.iter().filter(|_| last_run > 0) {
        if ledger.engine(&engine.name)?.is_some() {
            continue;
        }
        let was = match &engine.was {
            Some(was) => ledger.engine(was)?.and(Some(was)),
            None => None,
        };
        let writing = ledger.transaction()?;
        match was {
            Some(was) => writing.rename_engine(was, &engine.name)?,
            None => writing.set_engine(&engine.name, &EngineState::met(last_run))?,
        }
        writing.commit()?;
    }
    Ok(())
}

/// The instant until which an engine asked for no messages, if it is later than `now`. Both in seconds since 1970.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn left_alone(ledger: &dyn Ledger, engine: &str, now: i64) -> Result<Option<i64>, StoreError> {
    Ok(ledger.engine(engine)?.and_then(|state| state.left_alone(now)))
}

/// Tells one engine everything that it has still to be told; `names` are those of the site's files. With `all`, the whole
/// site is announced.
///
/// # Errors
///
/// Returns a [`StoreError`] if the ledger fails. What the engine answers, or that it does not answer, is part of the
/// report.
pub fn tell(
    ledger: &mut dyn Ledger,
    engine: &Engine,
    names: &Names,
    all: bool,
    (clock, stop): (&dyn Clock, &Stop),
) -> Result<EngineReport, StoreError> {
    stop.heed();
    let now = clock.now().as_second();
    let mut told = EngineReport::of(&engine.name, engine.via, engine.tells);
    if is_retired(ledger.engine(&engine.name)?, engine.endpoint) {
        told.retired = true;
        return Ok(told);
    }
    if let Some(until) = left_alone(ledger, &engine.name, now)? {
        told.kept = pending_list(ledger, (&engine.name, engine.tells), names, all, 1)?.count;
        told.not_before = Some(until);
        return Ok(told);
    }
    let mut announcing = Announcing { ledger, engine, clock, stop, now, told };
    let mut all = all;
    loop {
        let (state, pending) = pending(announcing.ledger, (&engine.name, engine.tells), names, all)?;
        announcing.told.changes.extend(pending.iter().map(|one| one.change));
        let finished = announcing.round(state, &pending)?;
        all = false;
        // More may have changed since an interrupted round began.
        let caught_up = state.target() == announcing.ledger.last_run()?;
        if !finished || caught_up {
            let Announcing { ledger, mut told, .. } = announcing;
            told.baseline = baseline(ledger, (&engine.name, engine.tells))?;
            return Ok(told);
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
            Tells::Main | Tells::Feeds | Tells::NewFiles => 1,
        };
        let mut doubtful = Vec::new();
        let mut ended = self.batches(pending.chunks(most), &mut state, &mut doubtful)?;
        if ended.is_none()
            && let Some(last) = doubtful.pop()
        {
            // No URL was accepted, so none of them is to blame.
            self.record(last.then(Then::MendFirst))?;
            ended = Some(Then::MendFirst);
        }
        if ended == Some(Then::Retired) {
            self.told.retired = true;
            self.note(&EngineState { retired: Some(self.engine.endpoint), ..state.finished() })?;
            return Ok(true);
        }
        if ended.is_some() {
            let rest = &pending[pending.partition_point(|one| !state.awaits(one.key))..];
            self.told.not_before = state.not_before;
            self.told.kept += rest.len() as u64;
            let is_over = |message: &&Announced| {
                ![Then::Later, Then::MendFirst].iter().any(|then| then.as_str() == message.outcome)
            };
            let sent = self.told.messages.iter().filter(is_over).count();
            let all = || (sent + self.messages(rest).len()) as u64;
            self.told.stopped = self.stop.is_asked().then(all);
            return Ok(false);
        }
        self.note(&state.finished())?;
        Ok(true)
    }

    /// Sends the messages about some URLs, and records the progress. A message that is not accepted is halved until the
    /// URLs at fault stand alone. They are `doubtful` as long as no other URL was accepted, because then the key may be
    /// at fault. Returns what to do first if it has to stop early.
    fn batch(
        &mut self,
        batch: &[Pending],
        state: &mut EngineState,
        doubtful: &mut Vec<SentMessage>,
    ) -> Result<Option<Then>, StoreError> {
        let mut messages = self.messages(batch);
        if messages.len() == 1
            && let Some(message) = messages.pop()
        {
            if self.stop.is_asked() {
                return Ok(Some(Then::Later));
            }
            let sent = self.send(message, state)?;
            match sent.then {
                Then::Done => {
                    self.told.taken += sent.message.about.len() as u64;
                    self.record(sent)?;
                    for refused in std::mem::take(doubtful) {
                        self.refuse(refused)?;
                    }
                }
                Then::Halve if batch.len() > 1 => {
                    self.record(sent)?;
                    let (first, second) = batch.split_at(batch.len() / 2);
                    return self.batches([first, second].into_iter(), state, doubtful);
                }
                Then::Halve | Then::Refused if self.told.taken > 0 => self.refuse(sent)?,
                Then::Halve | Then::Refused => doubtful.push(sent),
                then @ (Then::Later | Then::MendFirst | Then::Retired) => {
                    self.record(sent)?;
                    return Ok(Some(then));
                }
            }
        } else {
            let parts: Vec<Vec<Pending>> = messages.into_iter().map(|message| message.about).collect();
            // Their keys are in no order, so the progress is recorded when all of them are told.
            let before = *state;
            let mut told = before;
            let ended = self.batches(parts.iter().map(Vec::as_slice), &mut told, doubtful)?;
            state.not_before = told.not_before;
            self.note(state)?;
            if ended.is_some() {
                return Ok(ended);
            }
        }
        if doubtful.is_empty() {
            *state = state.told(batch.last().map(|one| one.key));
            self.note(state)?;
        }
        Ok(None)
    }

    fn batches<'b>(
        &mut self,
        batches: impl Iterator<Item = &'b [Pending]>,
        state: &mut EngineState,
        doubtful: &mut Vec<SentMessage>,
    ) -> Result<Option<Then>, StoreError> {
        for batch in batches {
            let ended = self.batch(batch, state, doubtful)?;
            if ended.is_some() || doubtful.len() >= MOST_DOUBTFUL {
                return Ok(ended);
            }
        }
        Ok(None)
    }

    fn messages(&self, pending: &[Pending]) -> Vec<Message> {
        self.engine.protocol.messages(pending)
    }

    /// Sends a message, several times if necessary. If it has to be sent again later, the pause is recorded.
    fn send(&mut self, message: Message, state: &mut EngineState) -> Result<SentMessage, StoreError> {
        let mut pause = PAUSE;
        let mut tries = 1;
        let Reply { answer, pause: asked } = loop {
            let reply = self.engine.protocol.send(&message);
            let wait = reply.pause.unwrap_or(pause);
            if self.engine.protocol.then(&reply.answer) != Then::Later || tries == TRIES || wait > LONGEST_PAUSE {
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
        let then = self.engine.protocol.then(&answer);
        if matches!(then, Then::Later | Then::MendFirst) {
            let now = self.clock.now().as_second();
            state.not_before = asked.map(|pause| now + i64::try_from(pause.as_secs()).unwrap_or(0));
            self.note(state)?;
        }
        Ok(SentMessage { message, answer, then, run: state.target() })
    }

    /// Records that a URL is refused for good.
    fn refuse(&mut self, sent: SentMessage) -> Result<(), StoreError> {
        self.told.refused += sent.message.about.len() as u64;
        self.record(sent.then(Then::Refused))
    }

    fn record(&mut self, sent: SentMessage) -> Result<(), StoreError> {
        let SentMessage { message, answer, then, run } = sent;
        let announced = Announced {
            engine: self.engine.name.clone(),
            at: self.now,
            run,
            urls: message.about.len() as u64,
            status: answer.status(),
            outcome: then.as_str().to_owned(),
            words: self.engine.protocol.words(&answer, then),
            examples: message.about.iter().take(EXAMPLES).map(|one| one.url.clone()).collect(),
        };
        let writing = self.ledger.transaction()?;
        writing.add_announcement(&announced)?;
        writing.commit()?;
        self.told.messages.push(announced);
        Ok(())
    }

    fn note(&mut self, state: &EngineState) -> Result<(), StoreError> {
        let writing = self.ledger.transaction()?;
        writing.set_engine(&self.engine.name, state)?;
        writing.commit()
    }
}

/// A message that was answered, or not.
struct SentMessage {
    message: Message,
    answer: Answer,
    then: Then,
    /// The run up to which it announces changes.
    run: i64,
}

impl SentMessage {
    fn then(self, then: Then) -> Self {
        Self { then, ..self }
    }
}

/// An instant in whole seconds since 1970, rounded up.
fn ceiling(instant: Timestamp) -> i64 {
    instant.as_second() + i64::from(instant.subsec_nanosecond() > 0)
}
