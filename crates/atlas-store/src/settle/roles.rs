//! What each row is to the entries.

use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};

use super::UNKNOWN;
use crate::arrival::Place;

/// A row that counts only as part of a merged one.
pub(super) const PASSED_OVER: u32 = u32::MAX - 1;

/// For each row: where the ledger remembers its entry, [`UNKNOWN`], or [`PASSED_OVER`]. May be set by many threads at once.
#[derive(Debug)]
pub(super) enum Roles {
    /// As numbers.
    Numbers(Vec<AtomicU32>),
    /// As bits, where the ledger remembers nothing: whether a row stands for an entry. There are so many rows, and so many bits.
    Bits(usize, Vec<AtomicU64>),
}

impl Default for Roles {
    fn default() -> Self {
        Self::Bits(0, Vec::new())
    }
}

impl Roles {
    /// So many rows, all of them passed over; `remembers` tells whether the ledger remembers anything.
    pub(super) fn new(rows: usize, remembers: bool) -> Self {
        match remembers {
            true => Self::Numbers((0..rows).map(|_| AtomicU32::new(PASSED_OVER)).collect()),
            false => Self::Bits(rows, (0..rows.div_ceil(64)).map(|_| AtomicU64::new(0)).collect()),
        }
    }

    /// Sets the role of a row that stands for an entry.
    pub(super) fn set(&self, place: Place, prior: u32) {
        let at = place.0 as usize;
        match self {
            Self::Numbers(numbers) => numbers[at].store(prior, Ordering::Relaxed),
            Self::Bits(_, words) => _ = words[at / 64].fetch_or(1 << (at % 64), Ordering::Relaxed),
        }
    }

    /// Adds a row that stands for an entry.
    pub(super) fn push(&mut self, prior: u32) {
        match self {
            Self::Numbers(numbers) => numbers.push(AtomicU32::new(prior)),
            Self::Bits(rows, words) => {
                let place = Place(*rows as u32);
                *rows += 1;
                words.resize_with(rows.div_ceil(64), AtomicU64::default);
                self.set(place, prior);
            }
        }
    }

    /// The role of a row.
    pub(super) fn of(&self, place: Place) -> u32 {
        let at = place.0 as usize;
        match self {
            Self::Numbers(numbers) => numbers[at].load(Ordering::Relaxed),
            Self::Bits(_, words) if words[at / 64].load(Ordering::Relaxed) >> (at % 64) & 1 == 1 => UNKNOWN,
            Self::Bits(..) => PASSED_OVER,
        }
    }

    /// All roles, in the order of the rows.
    pub(super) fn all(&self) -> impl Iterator<Item = (Place, u32)> {
        let rows = match self {
            Self::Numbers(numbers) => numbers.len(),
            Self::Bits(rows, _) => *rows,
        };
        (0..rows as u32).map(|at| (Place(at), self.of(Place(at))))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    fn what_is_set_is_told_and_all_else_is_passed_over(#[values(false, true)] remembers: bool) {
        let mut roles = Roles::new(130, remembers);
        [0, 63, 64, 129].iter().for_each(|at| roles.set(Place(*at), UNKNOWN));
        roles.push(UNKNOWN);
        let standing: Vec<u32> = roles.all().filter(|(_, role)| *role == UNKNOWN).map(|(place, _)| place.0).collect();
        assert_eq!(standing, [0, 63, 64, 129, 130]);
        assert_eq!(roles.all().filter(|(_, role)| *role == PASSED_OVER).count(), 126);
    }

    #[test]
    fn a_place_in_the_ledger_is_kept() {
        let mut roles = Roles::new(2, true);
        roles.set(Place(1), 7);
        roles.push(9);
        assert_eq!(roles.all().map(|(_, role)| role).collect::<Vec<_>>(), [PASSED_OVER, 7, 9]);
    }
}
