//! The announcement progress of one engine.
//!
//! An entry carries the run in which it last changed, and an engine carries the runs that it has been told of. What it
//! still has to be told follows from the two. The most recent run comes first, and within a run the order is that of
//! keys: a cursor records how far it has come, so that an interruption at any instant repeats at most one message.

use std::collections::BTreeMap;

/// The longest pause that an engine may ask for, in seconds.
pub const LONGEST_PAUSE: i64 = 86_400;

/// The announcement progress of one engine.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct EngineState {
    /// The engine has been told of everything that changed up to and including this run.
    pub watermark: i64,
    /// Later runs that it has been told of: `None` if of all changes, else of those with keys up to and including this
    /// one.
    pub runs: BTreeMap<i64, Option<u128>>,
    /// The engine asked for no more messages before this instant, in seconds since 1970.
    pub not_before: Option<i64>,
    /// Whether it was ever told anything.
    pub was_told: bool,
    /// A fingerprint of the endpoint that has given up being told, if one has.
    pub retired: Option<u64>,
}

impl EngineState {
    /// The progress of an engine that is met after this run: it is told of what changes from now on.
    pub fn met(last_run: i64) -> Self {
        Self { watermark: last_run, ..Self::default() }
    }

    /// The progress to go on from. `known` is `None` for an engine that was not met before; with `all`, everything is
    /// announced again.
    pub fn begin(known: Option<Self>, last_run: i64, all: bool) -> Self {
        let known = known.unwrap_or_else(|| Self::met(last_run));
        if all { Self { watermark: 0, runs: BTreeMap::new(), ..known } } else { known }
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

    /// Records that a change was announced, and with it all changes of its run with smaller keys; `is_last` if it was the
    /// last of its run.
    pub fn tell(&mut self, run: i64, key: u128, is_last: bool) {
        self.not_before = None;
        self.was_told = true;
        if run > self.watermark {
            self.runs.insert(run, Some(key).filter(|_| !is_last));
        }
    }

    /// Records that nothing is left to announce up to and including this run.
    pub fn finish(&mut self, last_run: i64) {
        self.watermark = self.watermark.max(last_run);
        self.runs = self.runs.split_off(&(self.watermark + 1));
        self.not_before = None;
    }

    /// The last run that it may have been told anything of.
    pub fn last_told(&self) -> i64 {
        self.runs.keys().next_back().copied().unwrap_or_default().max(self.watermark)
    }

    /// The instant until which the engine asked for no messages, if it is later than `now`. Both in seconds since 1970.
    pub fn left_alone(&self, now: i64) -> Option<i64> {
        // No pause is longer than a day: it was recorded under a clock that was ahead.
        self.not_before.filter(|until| *until > now && *until - now <= LONGEST_PAUSE)
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
    #[case::a_new_engine_is_told_from_now_on(None, false, state(9, &[]))]
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
        assert_eq!(EngineState { not_before: until, ..EngineState::default() }.left_alone(100), wanted);
    }
}
