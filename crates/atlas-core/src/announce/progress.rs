//! The announcement progress of one engine.
//!
//! An entry carries the run in which it last changed, and an engine carries the run up to which it has been told. What
//! it still has to be told follows from the two. While a round of many messages is under way, a cursor records the last
//! key that was sent, so that an interruption at any instant repeats at most one message.

/// The longest pause that an engine may ask for, in seconds.
pub const LONGEST_PAUSE: i64 = 86_400;

/// The announcement progress of one engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct EngineState {
    /// The engine has been told of everything that changed up to and including this run.
    pub watermark: i64,
    /// The run that the round under way ends with.
    pub target: Option<i64>,
    /// The round under way has covered all keys up to and including this one.
    pub cursor: Option<u128>,
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

    /// Resumes the round that is under way, or begins one that ends with the last run. `known` is `None` for an engine
    /// that was not met before; with `all`, a round over the whole site begins.
    pub fn begin(known: Option<Self>, last_run: i64, all: bool) -> Self {
        let known = known.unwrap_or(Self::met(last_run));
        let mut state = match all {
            true => Self { watermark: 0, target: None, cursor: None, ..known },
            false => known,
        };
        state.target.get_or_insert(last_run);
        state
    }

    /// The run that the round under way ends with, or 0.
    pub fn target(&self) -> i64 {
        self.target.unwrap_or_default()
    }

    /// Whether a key has still to be sent in the round under way.
    pub fn awaits(&self, key: u128) -> bool {
        self.cursor.is_none_or(|cursor| key > cursor)
    }

    /// Records that all keys up to this one have been sent.
    #[must_use]
    pub fn told(self, key: Option<u128>) -> Self {
        Self { cursor: key.or(self.cursor), not_before: None, was_told: true, ..self }
    }

    /// Ends the round.
    #[must_use]
    pub fn finished(self) -> Self {
        Self { watermark: self.target(), was_told: self.was_told, retired: self.retired, ..Self::default() }
    }

    /// The instant until which the engine asked for no messages, if it is later than `now`. Both in seconds since 1970.
    pub fn left_alone(&self, now: i64) -> Option<i64> {
        // No pause is longer than a day: it was recorded under a clock that was ahead.
        self.not_before.filter(|until| *until > now && *until - now <= LONGEST_PAUSE)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn state(watermark: i64, target: Option<i64>, cursor: Option<u128>) -> EngineState {
        EngineState { watermark, target, cursor, not_before: None, was_told: false, retired: None }
    }

    #[rstest]
    #[case::a_new_engine_is_told_from_now_on(None, false, state(9, Some(9), None))]
    #[case::a_new_engine_told_all(None, true, state(0, Some(9), None))]
    #[case::what_changed_since(Some(state(4, None, None)), false, state(4, Some(9), None))]
    #[case::an_interrupted_round_goes_on(Some(state(4, Some(6), Some(77))), false, state(4, Some(6), Some(77)))]
    #[case::all_begins_anew(Some(state(4, Some(6), Some(77))), true, state(0, Some(9), None))]
    fn a_round_begins(#[case] known: Option<EngineState>, #[case] all: bool, #[case] wanted: EngineState) {
        assert_eq!(EngineState::begin(known, 9, all), wanted);
    }

    #[test]
    fn a_round_goes_on_key_by_key_and_ends() {
        let begun = EngineState::begin(Some(EngineState::met(3)), 9, false);
        assert!(begun.awaits(0) && begun.awaits(7));
        let some = EngineState { not_before: Some(5), ..begun }.told(Some(7));
        assert!(!some.awaits(7) && some.awaits(8) && some.not_before.is_none());
        let told = |state| EngineState { was_told: true, ..state };
        assert_eq!(some.finished(), told(state(9, None, None)));
        assert_eq!(EngineState::begin(Some(some.finished()), 12, false), told(state(9, Some(12), None)));
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
