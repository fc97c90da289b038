//! Announcements: telling an engine, once, of what changed since it was last told.
//!
//! What an engine has still to be told follows from the ledger: the most recent run first, and within a run by key. After
//! each message that the engine accepts, the progress is recorded, so that an interruption at any instant repeats at most
//! one message. If an engine asks for a pause, that is recorded, too: a short pause is waited for, a longer one is left for
//! the next time. What a day's allowance or a pause between two announcements of one URL leaves over waits.

use std::collections::HashSet;
use std::time::Duration;

use atlas_core::announce::{Answer, EngineState, Then};
use atlas_core::fingerprint;
use atlas_store::clock::Clock;
use atlas_store::destination::Names;
use atlas_store::error::StoreError;
use atlas_store::ledger::{Ledger, PendingChanges};
use atlas_store::model::{Announced, Pending, ToldUrl};
use atlas_store::stop::Stop;
use jiff::{SignedDuration, Timestamp};

use super::not_live::{Look, Looked};
use super::outlook::{Allowance, Split, baseline, is_retired, left_alone, paused, pending, pending_list, split};
use super::report::{EngineReport, Waiting, WaitsFor};
use super::{Engine, Message, Reply, Telling, Tells, ToAnnounce};
use crate::live::LiveSite;

/// How often a message is sent before it is kept for the next time.
const TRIES: u32 = 3;
/// The first pause between two tries, unless the engine asks for another. It doubles with each try.
const PAUSE: Duration = Duration::from_millis(500);
/// The longest pause between tries within one command.
const LONGEST_PAUSE: Duration = Duration::from_secs(5);
/// If so many URLs are not accepted one by one, and no other was accepted, the key is at fault rather than the URLs.
const MOST_DOUBTFUL: usize = 16;
/// The outcome of what was given up without a message.
const GIVEN_UP: &str = "given-up";
/// How many addresses of a message are recorded as examples.
const EXAMPLES: usize = 5;

/// Tells one engine.
///
/// # Errors
///
/// Returns a [`StoreError`] if the ledger fails. What the engine answers, or that it does not answer, is part of the
/// report.
pub fn tell(
    ledger: &mut dyn Ledger,
    engine: &Engine,
    telling: Telling<'_>,
    (clock, stop): (&dyn Clock, &Stop),
) -> Result<EngineReport, StoreError> {
    let Telling { names, mut wanted, at_once, live } = telling;
    stop.heed();
    let now = clock.now().as_second();
    let mut told = EngineReport::of(&engine.name, engine.via, engine.tells);
    told.by_hand = matches!(wanted, ToAnnounce::Chosen(_));
    if is_retired(ledger.engine(&engine.name)?.as_ref(), engine.endpoint) {
        told.retired = true;
        return Ok(told);
    }
    // What is chosen by hand is tried at once, unless the engine itself asked for a pause.
    let at_once = at_once || told.by_hand;
    if let Some(alone) = left_alone(ledger, &engine.name, now)?.filter(|alone| alone.is_asked || !at_once) {
        told.kept = pending_list(ledger, (&engine.name, engine.tells), names, wanted, 1)?.count;
        told.left_alone = Some(alone);
        return Ok(told);
    }
    let mut announcing = Announcing {
        ledger,
        engine,
        clock,
        stop,
        now,
        last_run: 0,
        apart: HashSet::new(),
        just_told: Vec::new(),
        unwritten: Vec::new(),
        told,
    };
    loop {
        let last_run = announcing.ledger.last_run()?;
        let (state, pending) = pending(announcing.ledger, (&engine.name, engine.tells), names, wanted)?;
        let is_chosen = matches!(wanted, ToAnnounce::Chosen(_));
        announcing.last_run = last_run;
        let pending = announcing.hold_back(&state, pending, wanted)?;
        let pending = match live.filter(|_| engine.waits_until_live) {
            Some(live) => announcing.what_is_live(&state, pending, (live, names))?,
            None => pending,
        };
        announcing.flush()?;
        if announcing.told.not_live.as_ref().is_some_and(|report| report.waiting > 0) && pending.is_empty() {
            let Announcing { ledger, mut told, .. } = announcing;
            told.baseline = baseline(ledger, (&engine.name, engine.tells))?;
            return Ok(told);
        }
        let finished = announcing.round(state, &pending, is_chosen)?;
        announcing.flush()?;
        wanted = if is_chosen { wanted } else { ToAnnounce::Due };
        // More may have changed in the meantime.
        if !finished || is_chosen || announcing.ledger.last_run()? == last_run {
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
    /// The last run, up to which changes are announced.
    last_run: i64,
    /// The keys of URLs that are remembered apart from runs, because the engine was told of them a short time ago.
    apart: HashSet<u128>,
    /// What was accepted since the progress was last recorded.
    just_told: Vec<ToldUrl>,
    /// Announcements that are written together with the progress that they make: what is known of an answer must not
    /// depend on the instant of a kill.
    unwritten: Vec<Announced>,
    told: EngineReport,
}

impl Announcing<'_> {
    /// Holds back URLs of which the engine was told less than the pause ago, and adds those whose pause is over.
    fn hold_back(
        &mut self,
        state: &EngineState,
        pending: PendingChanges,
        wanted: ToAnnounce<'_>,
    ) -> Result<PendingChanges, StoreError> {
        let pause = self.engine.limits.pause_seconds;
        let name = self.engine.name.as_str();
        let known = self.ledger.told_urls(name)?;
        if matches!(wanted, ToAnnounce::Chosen(_)) {
            self.apart.extend(pending.iter().map(|one| one.key));
        }
        if known.is_empty() {
            return Ok(pending);
        }
        let gone: HashSet<u128> = self.ledger.tombstones()?.into_iter().map(|(gone, _)| gone.key).collect();
        let Split { free, held, apart } = split(pending, known, &gone, wanted, self.now - pause);
        self.apart.extend(apart);
        let writing = self.ledger.transaction()?;
        writing.keep_told(name, &held)?;
        writing.set_engine(name, state)?;
        writing.commit()?;
        self.told.waiting.retain(|waiting| waiting.why != WaitsFor::Pause);
        self.told.waiting.extend(paused(&held, pause));
        Ok(free)
    }

    /// Holds back what the live site does not serve yet.
    fn what_is_live(
        &mut self,
        state: &EngineState,
        pending: PendingChanges,
        (live, names): (&dyn LiveSite, &Names),
    ) -> Result<PendingChanges, StoreError> {
        let look = Look {
            ledger: self.ledger,
            live,
            names,
            engine: &self.engine.name,
            tells: self.engine.tells,
            key: self.engine.key_file.as_ref(),
            state,
            now: self.now,
        };
        let Looked { free, held, given_up, report } = look.at(pending)?;
        held.iter().for_each(|held| _ = self.apart.remove(&held.key));
        let over = given_up.iter().filter(|(one, _)| self.apart.contains(&one.key)).map(|(one, _)| self.told_now(one));
        let over: Vec<ToldUrl> = over.collect();
        if !held.is_empty() || !over.is_empty() {
            let writing = self.ledger.transaction()?;
            writing.keep_told(&self.engine.name, &held)?;
            writing.keep_told(&self.engine.name, &over)?;
            writing.commit()?;
        }
        for (one, why) in given_up {
            self.told.refused += 1;
            self.told.changes.extend([one.change]);
            let announced = Announced {
                engine: self.engine.name.clone(),
                at: self.now,
                run: one.run,
                urls: 1,
                status: None,
                outcome: GIVEN_UP.to_owned(),
                words: format!("not announced, and given up after a day: the live page {why}"),
                examples: vec![one.url],
            };
            self.add(announced);
        }
        self.told.not_live = report;
        Ok(free)
    }

    /// Sends the messages about these changes; `false` if it had to stop early.
    fn round(&mut self, mut state: EngineState, pending: &PendingChanges, is_chosen: bool) -> Result<bool, StoreError> {
        let most = match self.engine.tells {
            Tells::Urls(most) => most.max(1),
            Tells::Main | Tells::Feeds | Tells::NewFiles => 1,
        };
        let (mut at, mut doubtful, mut ended) = (0, Vec::new(), None);
        let (mut is_used_up, allowed, before) = (
            false,
            Allowance::of(self.ledger, &self.engine.name, self.engine.limits, self.now)?,
            self.told.taken + self.told.refused,
        );
        while at < pending.len() && ended.is_none() && doubtful.len() < MOST_DOUBTFUL {
            let sent = self.told.taken + self.told.refused - before;
            let left = allowed.as_ref().map_or(u64::MAX, |allowed| allowed.left.saturating_sub(sent));
            let room = usize::try_from(left).unwrap_or(usize::MAX);
            if let (0, Some(Allowance { until, .. })) = (room, &allowed) {
                let until = *until;
                let urls = (pending.len() - at) as u64;
                self.told.waiting.push(Waiting { urls, until, why: WaitsFor::Allowance });
                is_used_up = true;
                break;
            }
            if self.clock.now().as_second() - self.now >= self.engine.limits.round_seconds {
                let (urls, until) = ((pending.len() - at) as u64, self.clock.now().as_second());
                self.told.waiting.push(Waiting { urls, until, why: WaitsFor::Time });
                is_used_up = true;
                break;
            }
            let batch = pending.some(at..at + most.min(room).min(pending.len() - at));
            self.told.changes.extend(batch.iter().map(|one| one.change));
            ended = self.batch(&batch, &mut state, &mut doubtful)?;
            at += batch.len();
        }
        if !is_used_up {
            // What is kept counts; what waits is said apart.
            self.told.changes.extend(pending.some(at..pending.len()).iter().map(|one| one.change));
        }
        if ended.is_none()
            && let Some(last) = doubtful.pop()
        {
            // No URL was accepted, so none of them is to blame.
            self.record(last.then(Then::MendFirst));
            ended = Some(Then::MendFirst);
        }
        match ended {
            None if is_used_up => {
                self.note(&state)?;
                Ok(false)
            }
            None if is_chosen => Ok(true),
            None => {
                state.finish(self.last_run);
                self.note(&state)?;
                // Nothing is left that they could be compared with, but for the pause.
                let writing = self.ledger.transaction()?;
                writing.forget_told(&self.engine.name, self.now - self.engine.limits.pause_seconds)?;
                writing.commit()?;
                Ok(true)
            }
            Some(Then::Retired) => {
                self.told.retired = true;
                state.finish(self.last_run);
                self.note(&EngineState { retired: Some(self.engine.endpoint), ..state })?;
                Ok(true)
            }
            Some(_) => {
                self.told.left_alone = state.left_alone(self.clock.now().as_second());
                let rest: Vec<Pending> = pending.iter().filter(|one| self.awaits(&state, one)).collect();
                self.told.kept += rest.len() as u64;
                if self.stop.is_asked() {
                    let is_over = |message: &&Announced| {
                        ![Then::Later, Then::MendFirst].iter().any(|then| then.as_str() == message.outcome)
                    };
                    let sent = self.told.messages.iter().filter(is_over).count();
                    let rest = rest.chunks(most).map(|some| self.engine.protocol.messages(some).len());
                    self.told.stopped = Some((sent + rest.sum::<usize>()) as u64);
                }
                Ok(false)
            }
        }
    }

    /// Whether a change has still to be announced.
    fn awaits(&self, state: &EngineState, one: &Pending) -> bool {
        if one.run == 0 { self.apart.contains(&one.key) } else { state.awaits(one.run, one.key) }
    }

    /// Sends the messages about some changes, and records the progress. Returns what to do first if it has to stop
    /// early.
    fn batch(
        &mut self,
        batch: &[Pending],
        state: &mut EngineState,
        doubtful: &mut Vec<SentMessage>,
    ) -> Result<Option<Then>, StoreError> {
        let messages = self.engine.protocol.messages(batch);
        // The keys of several messages are in no order, so their progress is recorded when all of them are told.
        let is_in_order = messages.len() == 1;
        for message in messages {
            let ended = self.message(message, is_in_order, state, doubtful)?;
            if ended.is_some() || doubtful.len() >= MOST_DOUBTFUL {
                return Ok(ended);
            }
        }
        if !is_in_order && doubtful.is_empty() {
            self.note_told(batch, state)?;
        }
        Ok(None)
    }

    /// Sends a message. If it is not accepted, it is halved until the URLs at fault stand alone. They are `doubtful` as
    /// long as no other URL was accepted, because then the key may be at fault.
    fn message(
        &mut self,
        message: Message,
        is_in_order: bool,
        state: &mut EngineState,
        doubtful: &mut Vec<SentMessage>,
    ) -> Result<Option<Then>, StoreError> {
        if self.stop.is_asked() {
            return Ok(Some(Then::Later));
        }
        let sent = self.send(message, state)?;
        let about = sent.message.about.clone();
        match sent.then {
            Then::Done => {
                self.told.taken += about.len() as u64;
                self.record(sent);
                for refused in std::mem::take(doubtful) {
                    self.refuse(refused);
                }
                if self.engine.limits.pause_seconds > 0 {
                    let told: Vec<ToldUrl> = about.iter().map(|one| self.told_now(one)).collect();
                    self.just_told.extend(told);
                }
            }
            Then::Halve if about.len() > 1 => {
                self.record(sent);
                let (first, second) = about.split_at(about.len() / 2);
                for half in [first, second] {
                    let half = Message { about: half.to_vec() };
                    let ended = self.message(half, is_in_order, state, doubtful)?;
                    if ended.is_some() || doubtful.len() >= MOST_DOUBTFUL {
                        return Ok(ended);
                    }
                }
                return Ok(None);
            }
            Then::Halve | Then::Refused if self.told.taken > 0 => self.refuse(sent),
            Then::Halve | Then::Refused => doubtful.push(sent),
            then @ (Then::Later | Then::MendFirst | Then::Retired) => {
                self.record(sent);
                return Ok(Some(then));
            }
        }
        if is_in_order && doubtful.is_empty() {
            self.note_told(&about, state)?;
        }
        Ok(None)
    }

    /// Sends a message, several times if necessary. If it has to be sent again later, the pause is recorded.
    fn send(&mut self, message: Message, state: &mut EngineState) -> Result<SentMessage, StoreError> {
        self.flush()?;
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
            self.note(&EngineState { not_before: Some(ceiling(until)), ..state.clone() })?;
            if self.clock.sleep_until(until, self.stop).is_err() {
                break reply;
            }
            pause *= 2;
            tries += 1;
        };
        let then = self.engine.protocol.then(&answer);
        let now = self.clock.now().as_second();
        let asked = asked.map(|pause| now + i64::try_from(pause.as_secs()).unwrap_or(0));
        match then {
            // An interruption is not the engine's failure.
            Then::Later if asked.is_some() || !self.stop.is_asked() => {
                let seed = fingerprint::canonical(&(&self.engine.name, self.engine.endpoint, message.url(), now));
                state.fail(now, asked, seed);
                self.note(state)?;
            }
            Then::MendFirst => {
                state.not_before = asked;
                self.note(state)?;
            }
            _ => {}
        }
        Ok(SentMessage { message, answer, then })
    }

    /// Records that a URL is refused for good.
    fn refuse(&mut self, sent: SentMessage) {
        self.told.refused += sent.message.about.len() as u64;
        self.record(sent.then(Then::Refused));
    }

    fn record(&mut self, sent: SentMessage) {
        let SentMessage { message, answer, then } = sent;
        let announced = Announced {
            engine: self.engine.name.clone(),
            at: self.now,
            run: message.about.iter().map(|one| one.run).max().unwrap_or_default(),
            urls: message.about.len() as u64,
            status: answer.status(),
            outcome: then.as_str().to_owned(),
            words: self.engine.protocol.words(&answer, then),
            examples: message.about.iter().take(EXAMPLES).map(|one| one.url.clone()).collect(),
        };
        self.add(announced);
    }

    fn add(&mut self, announced: Announced) {
        self.unwritten.push(announced.clone());
        self.told.messages.push(announced);
    }

    /// Writes announcements that made no progress.
    fn flush(&mut self) -> Result<(), StoreError> {
        if self.unwritten.is_empty() {
            return Ok(());
        }
        let writing = self.ledger.transaction()?;
        self.unwritten.iter().try_for_each(|announced| writing.add_announcement(announced))?;
        writing.commit()?;
        self.unwritten.clear();
        Ok(())
    }

    /// Records that these changes were announced or refused.
    fn note_told(&mut self, about: &[Pending], state: &mut EngineState) -> Result<(), StoreError> {
        about.iter().for_each(|one| state.tell(one.run, one.key, one.ends_run));
        // Those that waited apart wait no longer, whether a pause is kept or not.
        let apart = about.iter().filter(|one| self.apart.contains(&one.key));
        let apart: Vec<ToldUrl> = apart.map(|one| self.told_now(one)).collect();
        self.just_told.extend(apart);
        about.iter().for_each(|one| _ = self.apart.remove(&one.key));
        self.note(state)
    }

    fn told_now(&self, one: &Pending) -> ToldUrl {
        ToldUrl { key: one.key, url: one.url.clone(), at: self.now, run: self.last_run, waits: None }
    }

    fn note(&mut self, state: &EngineState) -> Result<(), StoreError> {
        let told = std::mem::take(&mut self.just_told);
        let writing = self.ledger.transaction()?;
        self.unwritten.iter().try_for_each(|announced| writing.add_announcement(announced))?;
        writing.set_engine(&self.engine.name, state)?;
        writing.keep_told(&self.engine.name, &told)?;
        writing.commit()?;
        self.unwritten.clear();
        Ok(())
    }
}

/// A message that was answered, or not.
struct SentMessage {
    message: Message,
    answer: Answer,
    then: Then,
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
