//! Announcing: tells an engine what changed since it was last told, once, and loses nothing.
//!
//! What an engine has to be told follows from the ledger, in the order of keys. After each message that was taken, the
//! place reached is written down, so that a stop at any instant repeats at most one message.

use std::time::Duration;

use atlas_core::announce::indexnow::{Key, MOST_URLS, Message, messages};
use atlas_core::announce::{Answer, Then};
use atlas_core::rfc3339;
use atlas_store::error::StoreError;
use atlas_store::ledger::Ledger;
use atlas_store::model::{Announced, Change, EngineState, Pending};
use reqwest::header::RETRY_AFTER;
use serde::Serialize;

use crate::http;

/// How often a message is sent before it is kept for next time.
const TRIES: u32 = 3;
/// The longest pause between tries within one command.
const LONGEST_PAUSE: Duration = Duration::from_secs(5);
/// How many addresses are shown of a message.
const EXAMPLES: usize = 5;
/// The run that makes the baseline: what was there then is not told until asked for.
const BASELINE: i64 = 1;

/// An engine to be told by IndexNow.
#[derive(Debug, Clone)]
pub struct Engine {
    /// Its name in the configuration.
    pub name: String,
    /// Where messages go.
    pub endpoint: String,
    /// The site's key.
    pub key: Key,
    /// The address of the key file.
    pub key_location: String,
    /// How long an answer may take.
    pub wait: Duration,
}

/// What came of one engine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Told {
    /// The engine's name.
    pub engine: String,
    /// URLs that it took.
    pub taken: u64,
    /// URLs that it refused for good.
    pub refused: u64,
    /// URLs that are kept for next time.
    pub kept: u64,
    /// Added, changed, removed and redirected URLs among all of them.
    pub changes: Changes,
    /// Each message.
    pub messages: Vec<Announced>,
    /// It asked to be left alone until then, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    pub not_before: Option<i64>,
}

/// What there is to tell, by kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Default)]
pub struct Changes {
    /// Added.
    pub added: u64,
    /// Changed.
    pub changed: u64,
    /// Gone.
    pub removed: u64,
    /// Leading elsewhere now.
    pub redirected: u64,
}

impl Changes {
    fn of(pending: &[Pending]) -> Self {
        let count = |wanted: Change| pending.iter().filter(|one| one.change == wanted).count() as u64;
        Self {
            added: count(Change::Added),
            changed: count(Change::Changed),
            removed: count(Change::Removed),
            redirected: count(Change::Redirected),
        }
    }
}

/// What an engine has still to be told, in the order of telling, with the state in which the round stands.
fn pending(ledger: &Ledger, engine: &str, all: bool) -> Result<(EngineState, Vec<Pending>), StoreError> {
    let last_run = ledger.last_run()?;
    let mut state = ledger.engine(engine)?.unwrap_or(EngineState { watermark: BASELINE, ..EngineState::default() });
    if all {
        state = EngineState { watermark: 0, target: None, cursor: None, not_before: state.not_before };
    }
    let target = *state.target.get_or_insert(last_run);
    let mut pending = ledger.pending(state.watermark, target, all)?;
    if all && ledger.engine(engine)?.is_none() {
        // To an engine that was never told anything, all of the site is new.
        pending.iter_mut().filter(|one| one.change == Change::Changed).for_each(|one| one.change = Change::Added);
    }
    if let Some(cursor) = state.cursor {
        pending.retain(|one| one.key > cursor);
    }
    Ok((state, pending))
}

/// All that an engine has still to be told: the round that was interrupted, if one was, and what has changed since.
pub fn all_pending(ledger: &Ledger, engine: &str, all: bool) -> Result<Vec<Pending>, StoreError> {
    let (state, mut told) = pending(ledger, engine, all)?;
    let last_run = ledger.last_run()?;
    if let Some(target) = state.target.filter(|target| *target < last_run) {
        told.extend(ledger.pending(target, last_run, false)?);
    }
    Ok(told)
}

/// Whether a round of telling an engine was interrupted, or something changed that it was not told.
pub fn is_waiting(ledger: &Ledger, engine: &str) -> Result<bool, StoreError> {
    let Some(state) = ledger.engine(engine)? else { return Ok(false) };
    Ok(state.target.is_some() || !ledger.pending(state.watermark, ledger.last_run()?, false)?.is_empty())
}

/// Until when an engine asked to be left alone, where that is later than `now`: both in seconds since 1970.
pub fn left_alone(ledger: &Ledger, engine: &str, now: i64) -> Result<Option<i64>, StoreError> {
    let known = ledger.engine(engine)?;
    Ok(known.and_then(|state| state.not_before).filter(|until| *until > now))
}

/// Tells one engine. `now` is the instant, in seconds since 1970. With `all`, the whole site.
pub fn announce(ledger: &mut Ledger, engine: &Engine, now: i64, all: bool) -> Result<Told, StoreError> {
    let mut told = Told {
        engine: engine.name.clone(),
        taken: 0,
        refused: 0,
        kept: 0,
        changes: Changes::default(),
        messages: Vec::new(),
        not_before: None,
    };
    if let Some(until) = left_alone(ledger, &engine.name, now)? {
        told.kept = all_pending(ledger, &engine.name, all)?.len() as u64;
        told.not_before = Some(until);
        return Ok(told);
    }
    let sender = Sender::new(engine)?;
    let mut all = all;
    loop {
        let (state, pending) = pending(ledger, &engine.name, all)?;
        let (changes, before) = (Changes::of(&pending), told.changes);
        told.changes = Changes {
            added: before.added + changes.added,
            changed: before.changed + changes.changed,
            removed: before.removed + changes.removed,
            redirected: before.redirected + changes.redirected,
        };
        let finished = tell_round(ledger, engine, &sender, state, &pending, now, &mut told)?;
        all = false;
        // More may have changed since a round that had been interrupted was begun.
        let caught_up = state.target == Some(ledger.last_run()?);
        if !finished || caught_up {
            return Ok(told);
        }
    }
}

/// Sends the messages of one round; `false` where it had to stop before its end.
fn tell_round(
    ledger: &mut Ledger,
    engine: &Engine,
    sender: &Sender,
    mut state: EngineState,
    pending: &[Pending],
    now: i64,
    told: &mut Told,
) -> Result<bool, StoreError> {
    let target = state.target.unwrap_or_default();
    for (nth, batch) in pending.chunks(MOST_URLS).enumerate() {
        let urls: Vec<String> = batch.iter().map(|one| one.url.clone()).collect();
        for message in messages(&engine.key, &engine.key_location, &urls) {
            let (answer, pause) = sender.send(&message);
            let then = answer.then();
            let announced = written_down(engine, &message, &answer, then, now, target);
            let count = message.url_list.len() as u64;
            let go_on = matches!(then, Then::Done | Then::Refused);
            let writing = ledger.transaction()?;
            writing.add_announcement(&announced)?;
            if !go_on {
                state.not_before = pause.map(|pause| now + i64::try_from(pause.as_secs()).unwrap_or(0));
                writing.set_engine(&engine.name, &state)?;
            }
            writing.commit()?;
            told.messages.push(announced);
            match then {
                Then::Done => told.taken += count,
                Then::Refused => told.refused += count,
                Then::Later | Then::MendFirst => {
                    told.not_before = state.not_before;
                    told.kept += (pending.len() - nth * MOST_URLS) as u64;
                    return Ok(false);
                }
            }
        }
        state.cursor = batch.last().map(|one| one.key);
        state.not_before = None;
        let writing = ledger.transaction()?;
        writing.set_engine(&engine.name, &state)?;
        writing.commit()?;
    }
    let writing = ledger.transaction()?;
    writing.set_engine(&engine.name, &EngineState { watermark: target, ..EngineState::default() })?;
    writing.commit()?;
    Ok(true)
}

fn written_down(engine: &Engine, message: &Message, answer: &Answer, then: Then, now: i64, run: i64) -> Announced {
    let outcome = match then {
        Then::Done => "done",
        Then::Refused => "refused",
        Then::MendFirst => "mend-first",
        Then::Later => "later",
    };
    Announced {
        engine: engine.name.clone(),
        at: now,
        run,
        urls: message.url_list.len() as u64,
        status: answer.status(),
        outcome: outcome.to_owned(),
        words: answer.words(),
        examples: message.url_list.iter().take(EXAMPLES).cloned().collect(),
    }
}

/// Posts messages.
struct Sender {
    client: reqwest::Client,
    runtime: tokio::runtime::Runtime,
    endpoint: String,
}

impl Sender {
    fn new(engine: &Engine) -> Result<Self, StoreError> {
        let failed = |why: String| StoreError::Engine { name: engine.name.clone(), why };
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .map_err(|error| failed(error.to_string()))?;
        let client = http::client(engine.wait).map_err(|error| failed(http::cause(&error)))?;
        Ok(Self { client, runtime, endpoint: engine.endpoint.clone() })
    }

    /// Sends a message, a few times if need be; returns the last answer and how long the engine asked to wait.
    fn send(&self, message: &Message) -> (Answer, Option<Duration>) {
        let mut pause = Duration::from_millis(500);
        for attempt in 1.. {
            let (answer, asked) = self.runtime.block_on(self.post(message));
            let short = asked.unwrap_or(pause) <= LONGEST_PAUSE;
            if answer.then() != Then::Later || attempt == TRIES || !short {
                return (answer, asked);
            }
            std::thread::sleep(asked.unwrap_or(pause));
            pause *= 2;
        }
        unreachable!("the loop has no end but its return")
    }

    async fn post(&self, message: &Message) -> (Answer, Option<Duration>) {
        let body = serde_json::to_vec(message).unwrap_or_default();
        let request =
            self.client.post(&self.endpoint).header("content-type", "application/json; charset=utf-8").body(body);
        match request.send().await {
            Ok(response) => {
                let asked = response.headers().get(RETRY_AFTER).and_then(|value| retry_after(value.to_str().ok()?));
                (Answer::Status(response.status().as_u16()), asked)
            }
            Err(error) => (Answer::None(http::cause(&error)), None),
        }
    }
}

/// `Retry-After` in seconds or as a date (RFC 9110 section 10.2.3), a day at most.
fn retry_after(value: &str) -> Option<Duration> {
    const LONGEST: u64 = 24 * 3600;
    let value = value.trim();
    let seconds = match value.parse::<u64>() {
        Ok(seconds) => seconds,
        Err(_) => {
            let until = jiff::fmt::rfc2822::parse(value).ok()?.timestamp();
            u64::try_from(until.as_second() - jiff::Timestamp::now().as_second()).unwrap_or(0)
        }
    };
    Some(Duration::from_secs(seconds.min(LONGEST)))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("120", Some(120))]
    #[case("999999999", Some(86_400))]
    #[case("Thu, 01 Jan 2015 00:00:00 GMT", Some(0))]
    #[case("soon", None)]
    fn retry_after_is_seconds_or_a_date(#[case] value: &str, #[case] wanted: Option<u64>) {
        assert_eq!(retry_after(value), wanted.map(Duration::from_secs));
    }
}
