//! Judging losses that may be a mistake: shares in percent, and numbers that are too small for a share to matter.

use serde::Serialize;

/// The limits of the guards; shares in percent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Thresholds {
    /// The share of a section's entries that may disappear in one build.
    pub most_lost: u64,
    /// The share of all entries that may be left out for one reason.
    pub most_left_out: u64,
    /// By how many percentage points that share may grow once it has been accepted.
    pub left_out_may_grow: u64,
    /// The number of entries that may always disappear or be left out, whatever their share.
    pub few: u64,
    /// For how many days entries stay as they were if their source cannot be read.
    pub stand_days: i64,
}

impl Default for Thresholds {
    fn default() -> Self {
        Self { most_lost: 30, most_left_out: 50, left_out_may_grow: 10, few: 2, stand_days: 14 }
    }
}

/// A part of the whole in percent, rounded down; 0 if the whole is 0.
pub fn share(part: u64, whole: u64) -> u64 {
    part * 100 / whole.max(1)
}

/// Whether a section with this many entries loses too many of them.
pub fn is_lost(gone: u64, entries: u64, thresholds: &Thresholds) -> bool {
    gone > thresholds.few && gone * 100 > entries * thresholds.most_lost
}

/// Whether one reason leaves out too large a share, in percent. A smaller share may have been accepted before.
pub fn is_too_much_left_out(share: u64, accepted: Option<u64>, thresholds: &Thresholds) -> bool {
    let Thresholds { most_left_out: most, left_out_may_grow: growth, .. } = thresholds;
    share > accepted.map_or(*most, |accepted| (accepted + growth).max(*most))
}

/// Whether a section with this many entries was renamed rather than removed: most of its entries still exist.
pub fn is_renamed(gone: u64, entries: u64, thresholds: &Thresholds) -> bool {
    entries > thresholds.few && gone * 2 < entries
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::nothing(0, 10, false)]
    #[case::two_of_three(2, 3, false)]
    #[case::three_of_three(3, 3, true)]
    #[case::three_of_ten(3, 10, false)]
    #[case::four_of_ten(4, 10, true)]
    #[case::thirty_of_a_hundred(30, 100, false)]
    #[case::thirty_one_of_a_hundred(31, 100, true)]
    fn a_section_may_lose_some(#[case] gone: u64, #[case] entries: u64, #[case] wanted: bool) {
        assert_eq!(is_lost(gone, entries, &Thresholds::default()), wanted);
    }

    #[rstest]
    #[case::half(50, None, false)]
    #[case::more_than_half(51, None, true)]
    #[case::as_accepted(60, Some(60), false)]
    #[case::grown_a_little(70, Some(60), false)]
    #[case::grown_too_much(71, Some(60), true)]
    #[case::less_was_accepted(50, Some(10), false)]
    fn a_reason_may_leave_out_some(#[case] share: u64, #[case] accepted: Option<u64>, #[case] wanted: bool) {
        assert_eq!(is_too_much_left_out(share, accepted, &Thresholds::default()), wanted);
    }

    #[rstest]
    #[case::all_are_there(0, 10, true)]
    #[case::most_are_there(4, 10, true)]
    #[case::half_are_gone(5, 10, false)]
    #[case::too_few_to_tell(0, 2, false)]
    #[case::three(0, 3, true)]
    fn a_section_whose_entries_stay_is_renamed(#[case] gone: u64, #[case] entries: u64, #[case] wanted: bool) {
        assert_eq!(is_renamed(gone, entries, &Thresholds::default()), wanted);
    }

    #[rstest]
    #[case(0, 0, 0)]
    #[case(1, 3, 33)]
    #[case(3, 3, 100)]
    fn shares_are_rounded_down(#[case] part: u64, #[case] whole: u64, #[case] wanted: u64) {
        assert_eq!(share(part, whole), wanted);
    }
}
