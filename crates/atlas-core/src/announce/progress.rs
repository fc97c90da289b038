//! The announcement progress of one engine.
//!
//! An entry carries the run in which it last changed, and an engine carries the runs that it has been told of. What it
//! still has to be told follows from the two. The most recent run comes first, and within a run the order is that of
//! keys: a cursor records how far it has come, so that an interruption at any instant repeats at most one message.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::rfc3339;

/// The longest pause that an engine may ask for, in seconds.
pub const LONGEST_PAUSE: i64 = 86_400;

/// The announcement progress of one engine.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct EngineState {
    /// The engine has been told of everything that changed up to and including this run.
    pub watermark: i64,
    /// The last run of which it was told nothing, because the site was as it is when the engine was met; 0 if it was told
    /// of everything.
    pub baseline: i64,
    /// Later runs that it has been told of: `None` if of all changes, else of those with keys up to and including this
    /// one.
    pub runs: BTreeMap<i64, Option<u128>>,
    /// The engine asked for no more messages before this instant, in seconds since 1970.
    pub not_before: Option<i64>,
    /// The number of rounds in a row that ended because the engine failed or did not answer.
    pub failures: u32,
    /// After a failure: when it is tried again, in seconds since 1970.
    pub retry_at: Option<i64>,
    /// Whether it was ever told anything.
    pub was_told: bool,
    /// A fingerprint of the endpoint that has given up being told, if one has.
    pub retired: Option<u64>,
}

/// An engine that is sent no messages for now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LeftAlone {
    /// Until when, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub until: i64,
    /// Whether the engine asked for it; else it failed, and is tried again then.
    #[serde(rename = "asked")]
    pub is_asked: bool,
}

/// The pause after this many failures in a row, in seconds: about a minute, doubled with each failure up to about an
/// hour, and varied by up to a quarter.
fn back_off(failures: u32, seed: u64) -> i64 {
    let usual = (60 << failures.saturating_sub(1).min(6)).min(3_600);
    let quarter = usual / 4;
    usual - quarter + i64::try_from(seed % (2 * quarter as u64 + 1)).unwrap_or_default()
}

impl EngineState {
    /// The progress of an engine that is met after this run: it is told of what changes from now on.
    pub fn met(last_run: i64) -> Self {
        Self { watermark: last_run, baseline: last_run, ..Self::default() }
    }

    /// The progress to go on from. `known` is `None` for an engine that was not met before; with `all`, everything is
    /// announced again.
    pub fn begin(known: Option<Self>, last_run: i64, all: bool) -> Self {
        let known = known.unwrap_or_else(|| Self::met(last_run));
        if all { Self { watermark: 0, baseline: 0, runs: BTreeMap::new(), ..known } } else { known }
    }

    /// Whether a change has still to be announced: its run, and the key of its URL.
    pub fn awaits(&self, run: i64, key: u128) -> bool {
        run > self.watermark
            && match self.runs.get(&run) {
                None => true,
                Some(None) => false,
                Some(Some(cursor)) => key > *cursor,
            }
    }

    /// Whether the engine has been told of what an entry became in this run.
    pub fn knows(&self, run: i64, key: u128) -> bool {
        run > self.baseline && !self.awaits(run, key)
    }

    /// Records that a change was announced, and with it all changes of its run with smaller keys; `is_last` if it was the
    /// last of its run.
    pub fn tell(&mut self, run: i64, key: u128, is_last: bool) {
        self.recover();
        self.was_told = true;
        if run > self.watermark {
            self.runs.insert(run, Some(key).filter(|_| !is_last));
        }
    }

    /// Records that nothing is left to announce up to and including this run.
    pub fn finish(&mut self, last_run: i64) {
        self.watermark = self.watermark.max(last_run);
        self.runs = self.runs.split_off(&(self.watermark + 1));
        self.recover();
    }

    /// Records that a message failed at an instant, in seconds since 1970, and when the engine is tried again: when it
    /// `asked` to be, else after a pause that doubles with each failure in a row. `seed` varies that pause, so that many
    /// sites do not come back at once.
    pub fn fail(&mut self, now: i64, asked: Option<i64>, seed: u64) {
        self.not_before = asked;
        self.failures += 1;
        self.retry_at = asked.is_none().then(|| now + back_off(self.failures, seed));
    }

    fn recover(&mut self) {
        (self.not_before, self.failures, self.retry_at) = (None, 0, None);
    }

    /// The last run that it may have been told anything of.
    pub fn last_told(&self) -> i64 {
        self.runs.keys().next_back().copied().unwrap_or_default().max(self.watermark)
    }

    /// Whether the engine is left alone at this instant, in seconds since 1970, and until when.
    pub fn left_alone(&self, now: i64) -> Option<LeftAlone> {
        // No pause is longer than a day: it was recorded under a clock that was ahead.
        let is_ahead = |until: &i64| *until > now && *until - now <= LONGEST_PAUSE;
        let asked = self.not_before.filter(is_ahead).map(|until| LeftAlone { until, is_asked: true });
        asked.or_else(|| self.retry_at.filter(is_ahead).map(|until| LeftAlone { until, is_asked: false }))
    }

    /// The runs as text, for the ledger: the number of each, and after a colon the key in hexadecimal digits.
    pub fn runs_as_text(&self) -> String {
        let run = |(run, key): (&i64, &Option<u128>)| match key {
            Some(key) => format!("{run}:{key:x}"),
            None => run.to_string(),
        };
        self.runs.iter().map(run).collect::<Vec<_>>().join(" ")
    }

    /// The inverse of [`EngineState::runs_as_text`]; `None` if it is no such text.
    pub fn runs_of_text(text: &str) -> Option<BTreeMap<i64, Option<u128>>> {
        let run = |word: &str| match word.split_once(':') {
            Some((run, key)) => Some((run.parse().ok()?, Some(u128::from_str_radix(key, 16).ok()?))),
            None => Some((word.parse().ok()?, None)),
        };
        text.split_whitespace().map(run).collect()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn state(watermark: i64, runs: &[(i64, Option<u128>)]) -> EngineState {
        EngineState { watermark, runs: runs.iter().copied().collect(), ..EngineState::default() }
    }

    #[rstest]
    #[case::a_new_engine_is_told_from_now_on(None, false, EngineState::met(9))]
    #[case::a_new_engine_told_all(None, true, state(0, &[]))]
    #[case::what_changed_since(Some(state(4, &[])), false, state(4, &[]))]
    #[case::what_was_interrupted_goes_on(Some(state(4, &[(6, Some(77))])), false, state(4, &[(6, Some(77))]))]
    #[case::all_begins_anew(Some(state(4, &[(6, Some(77))])), true, state(0, &[]))]
    fn progress_begins(#[case] known: Option<EngineState>, #[case] all: bool, #[case] wanted: EngineState) {
        assert_eq!(EngineState::begin(known, 9, all), wanted);
    }

    #[test]
    fn runs_are_told_key_by_key_in_any_order() {
        let mut state = EngineState { not_before: Some(5), ..EngineState::met(3) };
        state.tell(9, 7, false);
        assert!(!state.awaits(9, 7) && state.awaits(9, 8) && state.awaits(8, 0) && !state.awaits(3, 9));
        assert_eq!((state.not_before, state.was_told, state.last_told()), (None, true, 9));
        state.tell(9, 12, true);
        state.tell(5, 1, true);
        assert!(!state.awaits(9, 99) && !state.awaits(5, 99) && state.awaits(8, 0));
        assert_eq!(EngineState::runs_of_text(&state.runs_as_text()), Some(state.runs.clone()));
        assert!(state.knows(9, 99) && !state.knows(8, 0) && !state.knows(3, 9), "the baseline is not known");
        state.finish(9);
        assert_eq!((state.watermark, state.runs.len()), (9, 0));
        assert!(state.awaits(10, 0));
    }

    proptest! {
        #[test]
        fn runs_come_back_from_their_text(runs: BTreeMap<i64, Option<u128>>) {
            let state = EngineState { runs, ..EngineState::default() };
            prop_assert_eq!(EngineState::runs_of_text(&state.runs_as_text()), Some(state.runs));
        }
    }

    #[rstest]
    #[case(None, None)]
    #[case(Some(100), None)]
    #[case(Some(101), Some(101))]
    #[case(Some(100 + LONGEST_PAUSE + 1), None)]
    fn an_engine_is_left_alone_until_its_pause_ends(#[case] until: Option<i64>, #[case] wanted: Option<i64>) {
        let asked = EngineState { not_before: until, ..EngineState::default() }.left_alone(100);
        assert_eq!(asked, wanted.map(|until| LeftAlone { until, is_asked: true }));
        let failed = EngineState { retry_at: until, ..EngineState::default() }.left_alone(100);
        assert_eq!(failed, wanted.map(|until| LeftAlone { until, is_asked: false }));
    }

    #[test]
    fn an_engine_that_fails_is_tried_less_and_less_often_until_it_answers() {
        let mut state = EngineState::met(3);
        for usual in [60, 120, 240, 480, 960, 1_920, 3_600, 3_600, 3_600] {
            state.fail(1_000, None, u64::MAX / 3);
            let pause = state.retry_at.unwrap() - 1_000;
            assert!((usual * 3 / 4..=usual * 5 / 4).contains(&pause), "{pause} for {usual}");
        }
        state.fail(1_000, Some(1_030), 0);
        assert_eq!(state.left_alone(1_000), Some(LeftAlone { until: 1_030, is_asked: true }));
        state.tell(4, 1, true);
        assert_eq!((state.failures, state.retry_at, state.not_before), (0, None, None));
    }
}
