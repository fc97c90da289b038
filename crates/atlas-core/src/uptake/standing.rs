//! Where entries stand: submitted, fetched, picked up, waiting.

use serde::Serialize;

/// What is known of one listed page, picture or video.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct KnownUptake {
    /// Whether a crawler fetched it, as far as access logs tell.
    pub fetched: bool,
    /// Whether the last answer was an error (400 and above).
    pub error: bool,
    /// Whether an engine has it in its index; `None` if no export tells.
    pub picked_up: Option<bool>,
    /// Whether engines were told of it, or it was first listed, so short a time ago that nothing follows.
    pub recent: bool,
}

impl KnownUptake {
    /// Whether it is too early to say anything.
    pub fn is_waiting(self) -> bool {
        self.recent && self.picked_up != Some(true) && (self.picked_up.is_some() || !self.fetched)
    }

    /// Whether an engine has not taken it, though it had the time.
    pub fn is_not_taken(self) -> bool {
        self.picked_up == Some(false) && !self.recent
    }

    /// Whether no crawler came, though it had the time.
    pub fn is_never_fetched(self) -> bool {
        !self.fetched && !self.is_waiting()
    }
}

/// Where a page stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum PageState {
    /// An engine has not taken it, though it had the time.
    NotPickedUp,
    /// No crawler came, though it had the time.
    NeverFetched,
    /// It is too early to say.
    Waiting,
    /// A crawler came; whether an engine has it, no export tells.
    Fetched,
    /// An engine has it in its index.
    PickedUp,
    /// Nothing is known.
    Unknown,
}

impl PageState {
    /// Its word.
    pub fn words(self) -> &'static str {
        match self {
            Self::NotPickedUp => "not picked up",
            Self::NeverFetched => "never fetched",
            Self::Waiting => "waiting",
            Self::Fetched => "fetched",
            Self::PickedUp => "picked up",
            Self::Unknown => "–",
        }
    }
}

/// How many of the entries of a kind stand where. What no file tells is `None`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Standings {
    /// Those that are listed.
    pub submitted: u64,
    /// Those that a crawler fetched.
    pub fetched: Option<u64>,
    /// Those that an engine has in its index.
    pub picked_up: Option<u64>,
    /// Those that are not picked up (or, without exports, not fetched) but changed, or were told, a short time ago.
    pub waiting: u64,
    /// Those that are not picked up though there was time.
    pub not_picked_up: Option<u64>,
    /// Those that no crawler fetched though there was time.
    pub never_fetched: Option<u64>,
    /// Those whose last answer to a crawler was an error.
    pub answered_with_error: Option<u64>,
    /// What crawlers fetched and no sitemap lists.
    pub fetched_not_listed: Option<u64>,
    /// What engines have in their index and no sitemap lists.
    pub picked_up_not_listed: Option<u64>,
}

impl Standings {
    /// Nothing yet; of what is known from access logs, from exports that say what is picked up, and from exports that say
    /// what is not.
    pub fn new(logs: bool, picked_up: bool, not_picked_up: bool) -> Self {
        let known = |known: bool| known.then_some(0);
        Self {
            fetched: known(logs),
            never_fetched: known(logs),
            answered_with_error: known(logs),
            fetched_not_listed: known(logs),
            picked_up: known(picked_up),
            not_picked_up: known(not_picked_up),
            picked_up_not_listed: known(picked_up),
            ..Self::default()
        }
    }

    /// Adds the numbers of others. What is unknown of either stays unknown.
    pub fn add(&mut self, other: &Self) {
        let add = |one: &mut Option<u64>, other: Option<u64>| *one = one.zip(other).map(|(one, other)| one + other);
        self.submitted += other.submitted;
        self.waiting += other.waiting;
        add(&mut self.fetched, other.fetched);
        add(&mut self.picked_up, other.picked_up);
        add(&mut self.not_picked_up, other.not_picked_up);
        add(&mut self.never_fetched, other.never_fetched);
        add(&mut self.answered_with_error, other.answered_with_error);
        add(&mut self.fetched_not_listed, other.fetched_not_listed);
        add(&mut self.picked_up_not_listed, other.picked_up_not_listed);
    }

    /// Counts an entry.
    pub fn count(&mut self, known: KnownUptake) {
        let add = |number: &mut Option<u64>, holds: bool| {
            if let Some(number) = number {
                *number += u64::from(holds);
            }
        };
        self.submitted += 1;
        self.waiting += u64::from(known.is_waiting());
        add(&mut self.fetched, known.fetched);
        add(&mut self.picked_up, known.picked_up == Some(true));
        add(&mut self.not_picked_up, known.is_not_taken());
        add(&mut self.never_fetched, known.is_never_fetched());
        add(&mut self.answered_with_error, known.error);
    }
}

/// The median and the nine tenths of some durations, in seconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Delay {
    /// Half of them took at most this long.
    pub median: u64,
    /// Nine tenths of them took at most this long.
    pub nine_tenths: u64,
    /// How many there are.
    pub of: u64,
}

impl Delay {
    /// Of some durations, in any order; `None` if there is none.
    pub fn of(mut durations: Vec<u32>) -> Option<Self> {
        let number = durations.len();
        let mut at = |share: usize| {
            let place = (number * share).div_ceil(10).checked_sub(1)?;
            Some(u64::from(*durations.select_nth_unstable(place).1))
        };
        Some(Self { median: at(5)?, nine_tenths: at(9)?, of: number as u64 })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::taken(KnownUptake { fetched: true, picked_up: Some(true), recent: true, error: false }, [1, 1, 0, 0, 0])]
    #[case::too_early(KnownUptake { fetched: true, picked_up: Some(false), recent: true, error: false }, [1, 0, 1, 0, 0])]
    #[case::left(KnownUptake { fetched: true, picked_up: Some(false), recent: false, error: true }, [1, 0, 0, 1, 0])]
    #[case::unseen(KnownUptake { fetched: false, picked_up: Some(false), recent: false, error: false }, [0, 0, 0, 1, 1])]
    #[case::unseen_early(KnownUptake { fetched: false, picked_up: None, recent: true, error: false }, [0, 0, 1, 0, 0])]
    #[case::seen_early(KnownUptake { fetched: true, picked_up: None, recent: true, error: false }, [1, 0, 0, 0, 0])]
    fn an_entry_stands_somewhere(#[case] known: KnownUptake, #[case] wanted: [u64; 5]) {
        let mut standings = Standings::new(true, true, true);
        standings.count(known);
        let Standings { fetched, picked_up, waiting, not_picked_up, never_fetched, .. } = standings;
        let number = |number: Option<u64>| number.unwrap();
        assert_eq!([number(fetched), number(picked_up), waiting, number(not_picked_up), number(never_fetched)], wanted);
    }

    #[test]
    fn what_no_file_tells_is_unknown() {
        let mut standings = Standings::new(true, false, false);
        standings.count(KnownUptake::default());
        assert_eq!((standings.picked_up, standings.never_fetched), (None, Some(1)));
    }

    proptest! {
        #[test]
        fn with_an_export_every_entry_is_picked_up_waiting_or_not(
            all in proptest::collection::vec((any::<bool>(), any::<bool>(), any::<bool>()), 0..50),
        ) {
            let mut standings = Standings::new(true, true, true);
            for (fetched, picked_up, recent) in all {
                standings.count(KnownUptake { fetched, picked_up: Some(picked_up), recent, error: false });
            }
            let sum = standings.picked_up.unwrap() + standings.waiting + standings.not_picked_up.unwrap();
            prop_assert_eq!(sum, standings.submitted);
            let mut twice = standings;
            twice.add(&standings);
            prop_assert_eq!(twice.submitted, 2 * sum);
            prop_assert_eq!(twice.never_fetched, standings.never_fetched.map(|number| 2 * number));
        }
    }

    #[test]
    fn delays() {
        assert_eq!(Delay::of(Vec::new()), None);
        let delay = Delay::of((1..=10).rev().collect()).unwrap();
        assert_eq!((delay.median, delay.nine_tenths, delay.of), (5, 9, 10));
        assert_eq!(Delay::of(vec![7]).unwrap(), Delay { median: 7, nine_tenths: 7, of: 1 });
    }
}
