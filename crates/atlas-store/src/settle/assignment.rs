//! The assignment of rows to entries.

use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};

use crate::arrival::RowId;

/// The role of a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Role {
    /// It is part of a merged row, or does not count.
    PassedOver,
    /// It represents an entry that the ledger does not know.
    New,
    /// It represents the entry that the ledger remembers at this position.
    Known(u32),
}

impl Role {
    fn of(prior: Option<u32>) -> Self {
        prior.map_or(Self::New, Self::Known)
    }

    /// If it represents an entry: where the ledger remembers that entry, if it does.
    pub(crate) fn prior(self) -> Option<Option<u32>> {
        match self {
            Self::PassedOver => None,
            Self::New => Some(None),
            Self::Known(at) => Some(Some(at)),
        }
    }

    /// The role as a number.
    fn number(self) -> u32 {
        match self {
            Self::PassedOver => u32::MAX - 1,
            Self::New => u32::MAX,
            Self::Known(at) => at,
        }
    }

    fn numbered(number: u32) -> Self {
        match number {
            u32::MAX => Self::New,
            number if number == u32::MAX - 1 => Self::PassedOver,
            at => Self::Known(at),
        }
    }
}

/// The role of each row. Many threads may set roles at once.
#[derive(Debug)]
pub(crate) enum Assignment {
    /// One [number](Role::number) for each row.
    Numbers(Vec<AtomicU32>),
    /// One bit for each row, if the ledger remembers nothing: whether the row represents an entry. The number of rows,
    /// and the bits.
    Bits(usize, Vec<AtomicU64>),
}

impl Default for Assignment {
    fn default() -> Self {
        Self::Bits(0, Vec::new())
    }
}

impl Assignment {
    /// This many rows without an entry; `remembers` tells whether the ledger remembers anything.
    pub(crate) fn new(rows: usize, remembers: bool) -> Self {
        match remembers {
            true => Self::Numbers((0..rows).map(|_| AtomicU32::new(Role::PassedOver.number())).collect()),
            false => Self::Bits(rows, (0..rows.div_ceil(64)).map(|_| AtomicU64::new(0)).collect()),
        }
    }

    /// Sets the role of a row that represents an entry, which the ledger may remember at `prior`.
    pub(crate) fn set(&self, row_id: RowId, prior: Option<u32>) {
        let at = row_id.0 as usize;
        match self {
            Self::Numbers(numbers) => numbers[at].store(Role::of(prior).number(), Ordering::Relaxed),
            Self::Bits(_, words) => _ = words[at / 64].fetch_or(1 << (at % 64), Ordering::Relaxed),
        }
    }

    /// Adds a row that represents an entry.
    pub(crate) fn push(&mut self, prior: Option<u32>) {
        match self {
            Self::Numbers(numbers) => numbers.push(AtomicU32::new(Role::of(prior).number())),
            Self::Bits(rows, words) => {
                let row_id = RowId(*rows as u32);
                *rows += 1;
                words.resize_with(rows.div_ceil(64), AtomicU64::default);
                self.set(row_id, prior);
            }
        }
    }

    /// The role of a row. Rows that came after joining represent no entry.
    pub(crate) fn of(&self, row_id: RowId) -> Role {
        let at = row_id.0 as usize;
        let is_set = |words: &[AtomicU64]| {
            words.get(at / 64).map_or(0, |word| word.load(Ordering::Relaxed)) >> (at % 64) & 1 == 1
        };
        match self {
            Self::Numbers(numbers) => {
                numbers.get(at).map_or(Role::PassedOver, |number| Role::numbered(number.load(Ordering::Relaxed)))
            }
            Self::Bits(_, words) if is_set(words) => Role::New,
            Self::Bits(..) => Role::PassedOver,
        }
    }

    /// All roles, in the order of rows.
    pub(crate) fn all(&self) -> impl Iterator<Item = (RowId, Role)> {
        let rows = match self {
            Self::Numbers(numbers) => numbers.len(),
            Self::Bits(rows, _) => *rows,
        };
        (0..rows as u32).map(|at| (RowId(at), self.of(RowId(at))))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    fn assigned_rows_are_listed_and_others_passed_over(#[values(false, true)] remembers: bool) {
        let mut assignment = Assignment::new(130, remembers);
        [0, 63, 64, 129].iter().for_each(|at| assignment.set(RowId(*at), None));
        assignment.push(None);
        let entry_rows: Vec<u32> =
            assignment.all().filter(|(_, role)| *role == Role::New).map(|(row_id, _)| row_id.0).collect();
        assert_eq!(entry_rows, [0, 63, 64, 129, 130]);
        assert_eq!(assignment.all().filter(|(_, role)| *role == Role::PassedOver).count(), 126);
    }

    #[test]
    fn a_position_in_the_ledger_is_kept() {
        let mut assignment = Assignment::new(2, true);
        assignment.set(RowId(1), Some(7));
        assignment.push(Some(9));
        let known = [Role::PassedOver, Role::Known(7), Role::Known(9)];
        assert_eq!(assignment.all().map(|(_, role)| role).collect::<Vec<_>>(), known);
    }
}
