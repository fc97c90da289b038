//! Which remembered entries have to be compared.

use std::collections::HashMap;

use foldhash::fast::FixedState;

/// Why an entry has to be compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum InterestReason {
    /// It may have changed.
    MayHaveChanged,
    /// A row that was read names it. Only entries that may have changed should be named.
    Named,
}

/// The entries that have to be compared, by the [`tag`](crate::model::tag)s of their keys.
#[derive(Debug)]
pub(crate) struct Interest {
    tags: HashMap<u64, InterestReason, FixedState>,
    /// One bit for each value of a tag's upper digits, which rules out most entries.
    sieve: Vec<u64>,
    shift: u32,
}

impl Interest {
    /// Collects entries that may have changed, and those that rows name.
    pub(crate) fn new(open: &[u64], rows: &[u64]) -> Self {
        let rows = rows.iter().map(|tag| (*tag, InterestReason::Named));
        let tags: HashMap<u64, InterestReason, FixedState> =
            rows.chain(open.iter().map(|tag| (*tag, InterestReason::MayHaveChanged))).collect();
        let digits = (tags.len() * 16).next_power_of_two().max(64).ilog2();
        let shift = u64::BITS - digits;
        let mut sieve = vec![0; 1 << (digits - 6)];
        for tag in tags.keys() {
            let at = (tag >> shift) as usize;
            sieve[at / 64] |= 1 << (at % 64);
        }
        Self { tags, sieve, shift }
    }

    /// Whether and why the entry with this tag has to be compared.
    pub(crate) fn of(&self, tag: u64) -> Option<InterestReason> {
        let at = (tag >> self.shift) as usize;
        if self.sieve[at / 64] >> (at % 64) & 1 == 0 { None } else { self.tags.get(&tag).copied() }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::nobody(0, 0)]
    #[case::some_that_rows_speak_of(100, 50)]
    #[case::rows_of_others(3, 4000)]
    fn entries_that_may_have_changed_are_compared(#[case] open: u64, #[case] rows: u64) {
        let tag = |number: u64| number.wrapping_mul(0x9e37_79b9_7f4a_7c15);
        let tags = |range: std::ops::Range<u64>| range.map(tag).collect::<Vec<u64>>();
        let interest = Interest::new(&tags(0..open), &tags(open / 2..open / 2 + rows));
        for number in 0..10_000 {
            let wanted = if number < open {
                Some(InterestReason::MayHaveChanged)
            } else {
                (open / 2..open / 2 + rows).contains(&number).then_some(InterestReason::Named)
            };
            assert_eq!(interest.of(tag(number)), wanted, "{number}");
        }
    }
}
