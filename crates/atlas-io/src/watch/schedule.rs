//! When to do what next, for one site. It has no clock of its own.

use jiff::{SignedDuration, Timestamp};

/// One change of a file may be noticed several times: so long at least nothing may have changed.
const SHORTEST_QUIET: SignedDuration = SignedDuration::from_millis(100);
/// However many changes follow each other, a build is not put off longer than this.
const LONGEST_QUIET: SignedDuration = SignedDuration::from_mins(10);
/// The pauses between looks at a live site, or tries after a failure: 1, 2, 4 … minutes, and at most an hour.
const LONGEST_PAUSE: SignedDuration = SignedDuration::from_hours(1);

/// Why a round begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Wake {
    /// It is the first.
    Start,
    /// Files have changed, and then nothing for a while.
    Changed,
    /// An entry falls due, or expires.
    Due,
    /// It is time to ask sources that cannot be watched.
    Interval,
    /// The last build failed.
    Retry,
    /// Something waits to be announced. Nothing has to be built.
    Announce,
}

impl Wake {
    /// Its word for programs.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Start => "start",
            Self::Changed => "changed",
            Self::Due => "due",
            Self::Interval => "interval",
            Self::Retry => "retry",
            Self::Announce => "announce",
        }
    }
}

/// What became of a round, as far as the next depends on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct RoundEnd {
    /// Whether a build was tried and did not go through.
    pub has_failed: bool,
    /// When the next entry falls due or expires. `None` if none does, or nothing was built.
    pub due: Option<Timestamp>,
    /// When the next engine may be told of what waits.
    pub announce: Option<Timestamp>,
    /// Whether something waits until the live site serves it.
    pub waits_for_live: bool,
}

/// When to do what next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Schedule {
    quiet: SignedDuration,
    every: Option<SignedDuration>,
    /// The first and the last change since the last build.
    changed: Option<(Timestamp, Timestamp)>,
    started: bool,
    interval: Option<Timestamp>,
    due: Option<Timestamp>,
    retry: Option<Timestamp>,
    announce: Option<Timestamp>,
    failures: u32,
    looks: u32,
}

impl Schedule {
    /// A schedule that begins with a build. `quiet` is how long nothing may have changed before a build; `every` how
    /// often to build without a change.
    pub fn new(quiet: SignedDuration, every: Option<SignedDuration>) -> Self {
        Self {
            quiet: quiet.max(SHORTEST_QUIET),
            every,
            changed: None,
            started: false,
            interval: None,
            due: None,
            retry: None,
            announce: None,
            failures: 0,
            looks: 0,
        }
    }

    /// Notes that files have changed.
    pub fn change(&mut self, now: Timestamp) {
        self.changed = Some((self.changed.map_or(now, |(first, _)| first), now));
    }

    /// What is next, and when; `None` if nothing is until files change.
    pub fn next(&self, now: Timestamp) -> Option<(Timestamp, Wake)> {
        if !self.started {
            return Some((now, Wake::Start));
        }
        let quiet = self.changed.map(|(first, last)| (last + self.quiet).min(first + LONGEST_QUIET));
        let all = [
            (quiet, Wake::Changed),
            (self.due, Wake::Due),
            (self.interval, Wake::Interval),
            (self.retry, Wake::Retry),
            (self.announce, Wake::Announce),
        ];
        all.into_iter().filter_map(|(at, wake)| Some((at?, wake))).min()
    }

    /// Notes that a round for this reason has begun: what changes from now on is for the next.
    pub fn begin(&mut self, wake: Wake) {
        self.announce = None;
        if wake != Wake::Announce {
            (self.started, self.changed, self.due, self.interval, self.retry) = (true, None, None, None, None);
        }
    }

    /// Notes what became of the round.
    pub fn end(&mut self, wake: Wake, end: RoundEnd, now: Timestamp) {
        if wake != Wake::Announce {
            self.interval = self.every.map(|every| now + every);
            self.failures = if end.has_failed { self.failures + 1 } else { 0 };
            self.retry = end.has_failed.then(|| now + pause(self.failures));
            // What was due at an instant that is over has been dealt with.
            self.due = end.due.filter(|due| *due > now);
        }
        self.looks = if end.waits_for_live { self.looks + 1 } else { 0 };
        let look = end.waits_for_live.then(|| now + pause(self.looks));
        let announce = end.announce.map(|at| at.max(now + SignedDuration::from_secs(1)));
        self.announce = look.into_iter().chain(announce).min();
    }
}

/// The pause after so many tries: 1, 2, 4 … minutes.
fn pause(tries: u32) -> SignedDuration {
    SignedDuration::from_mins(1 << tries.saturating_sub(1).min(6)).min(LONGEST_PAUSE)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn at(seconds: i64) -> Timestamp {
        Timestamp::from_second(1_000_000 + seconds).unwrap()
    }

    /// A schedule with a quiet time of five seconds, after its first build at instant 0.
    fn started(every: Option<i64>, end: RoundEnd) -> Schedule {
        let mut schedule = Schedule::new(SignedDuration::from_secs(5), every.map(SignedDuration::from_secs));
        assert_eq!(schedule.next(at(0)), Some((at(0), Wake::Start)));
        schedule.begin(Wake::Start);
        schedule.end(Wake::Start, end, at(0));
        schedule
    }

    #[test]
    fn a_burst_of_changes_is_one_round_and_does_not_put_it_off_for_ever() {
        let mut schedule = started(None, RoundEnd::default());
        assert_eq!(schedule.next(at(0)), None);
        [10, 12, 14].into_iter().for_each(|second| schedule.change(at(second)));
        assert_eq!(schedule.next(at(14)), Some((at(19), Wake::Changed)));
        (14..2_000).for_each(|second| schedule.change(at(second)));
        assert_eq!(schedule.next(at(2_000)), Some((at(610), Wake::Changed)));
        schedule.begin(Wake::Changed);
        schedule.change(at(2_001));
        schedule.end(Wake::Changed, RoundEnd::default(), at(2_002));
        assert_eq!(schedule.next(at(2_002)), Some((at(2_006), Wake::Changed)), "what changed during a round is seen");
    }

    #[rstest]
    #[case::an_entry(None, RoundEnd { due: Some(at(700)), ..RoundEnd::default() }, Some((at(700), Wake::Due)))]
    #[case::an_entry_of_the_past(None, RoundEnd { due: Some(at(-1)), ..RoundEnd::default() }, None)]
    #[case::an_interval(Some(900), RoundEnd::default(), Some((at(900), Wake::Interval)))]
    #[case::an_engine(None, RoundEnd { announce: Some(at(75)), ..RoundEnd::default() }, Some((at(75), Wake::Announce)))]
    #[case::an_engine_at_once(None, RoundEnd { announce: Some(at(-9)), ..RoundEnd::default() }, Some((at(1), Wake::Announce)))]
    #[case::a_failure(None, RoundEnd { has_failed: true, ..RoundEnd::default() }, Some((at(60), Wake::Retry)))]
    #[case::the_live_site(None, RoundEnd { waits_for_live: true, announce: Some(at(75)), ..RoundEnd::default() }, Some((at(60), Wake::Announce)))]
    fn what_is_next(#[case] every: Option<i64>, #[case] end: RoundEnd, #[case] wanted: Option<(Timestamp, Wake)>) {
        assert_eq!(started(every, end).next(at(0)), wanted);
    }

    #[test]
    fn looks_at_the_live_site_become_rarer() {
        let end = RoundEnd { waits_for_live: true, ..RoundEnd::default() };
        let mut schedule = started(None, end);
        let mut now = at(0);
        let mut minutes = Vec::new();
        for _ in 0..8 {
            let (then, wake) = schedule.next(now).unwrap();
            minutes.push(then.duration_since(now).as_mins());
            now = then;
            schedule.begin(wake);
            schedule.end(wake, end, now);
        }
        assert_eq!(minutes, [1, 2, 4, 8, 16, 32, 60, 60]);
    }

    proptest! {
        /// Whatever happens, what has changed is built at most ten minutes later, and an announcement never makes
        /// changes be forgotten.
        #[test]
        fn no_change_is_forgotten(changes in prop::collection::vec(0..3_000i64, 1..40)) {
            let mut changes = changes;
            changes.sort_unstable();
            let mut schedule = started(Some(7_200), RoundEnd::default());
            changes.iter().for_each(|second| schedule.change(at(*second)));
            schedule.begin(Wake::Announce);
            schedule.end(Wake::Announce, RoundEnd { announce: Some(at(9_000)), ..RoundEnd::default() }, at(3_000));
            let (then, wake) = schedule.next(at(3_000)).unwrap();
            prop_assert_eq!(wake, Wake::Changed);
            prop_assert!(then <= at(changes[0] + 600) && then <= at(changes[changes.len() - 1] + 5));
        }
    }
}
