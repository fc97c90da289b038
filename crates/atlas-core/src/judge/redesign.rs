//! Redesigns: if most pages of a site change at once and no declared date does, nobody has edited them all.

/// With fewer changed pages than this, a change is never a redesign: every page may well have been edited.
const LEAST: u64 = 12;
/// The share of the known pages, in percent, above which a change is a redesign.
const SHARE: u64 = 60;
/// The share of the changed pages, in percent, whose declared dates must have changed, too, to show that they were
/// edited.
const DATED: u64 = 10;

/// The numbers of pages that changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Movement {
    /// Pages whose content changed.
    pub contents: u64,
    /// Those whose declared date changed, too.
    pub dated: u64,
}

/// Whether so many of the known pages changed at once that this is a redesign, unless their declared dates changed,
/// too.
pub fn is_redesign(moved: u64, known: u64) -> bool {
    moved >= LEAST && moved * 100 > known * SHARE
}

/// Whether the dates of entries hold: the change is a redesign, and hardly any declared date changed.
pub fn dates_hold(movement: Movement, known: u64) -> bool {
    is_redesign(movement.contents, known) && movement.dated * 100 < movement.contents * DATED
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::too_few(11, 11, false)]
    #[case::just_enough(12, 12, true)]
    #[case::three_fifths(60, 100, false)]
    #[case::more_than_three_fifths(61, 100, true)]
    #[case::all(100, 100, true)]
    #[case::few_of_many(12, 100, false)]
    #[case::a_large_site(600_001, 1_000_000, true)]
    #[case::a_large_site_that_is_edited(600_000, 1_000_000, false)]
    #[case::nothing(0, 0, false)]
    fn most_pages_at_once_are_a_redesign(#[case] moved: u64, #[case] known: u64, #[case] wanted: bool) {
        assert_eq!(is_redesign(moved, known), wanted);
    }

    #[rstest]
    #[case::no_date_moved(100, 0, true)]
    #[case::hardly_any(100, 9, true)]
    #[case::a_tenth(100, 10, false)]
    #[case::all_of_them(100, 100, false)]
    #[case::one_of_twelve(12, 1, true)]
    #[case::two_of_twelve(12, 2, false)]
    fn dates_that_move_with_the_pages_show_an_edit(#[case] contents: u64, #[case] dated: u64, #[case] wanted: bool) {
        assert_eq!(dates_hold(Movement { contents, dated }, contents), wanted);
    }
}
