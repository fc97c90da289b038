//! Judging the change of a page: whether it counts as an edit, and whether engines are told of it.

/// What changed about an entry since the last build.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Moved {
    /// What its page says, except dates.
    pub content: bool,
    /// A declared date.
    pub declared: bool,
}

/// The judgement on a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DateJudgement {
    /// The page's content was seen to change in this run.
    pub edited: bool,
    /// Engines are told of the change.
    pub changed: bool,
}

/// How an entry was known before, and how it is seen now.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sight {
    /// Only its sitemap was known, so what its page says now is taken for what it said then.
    pub was_recalled: bool,
    /// Its page had been read.
    pub was_from_page: bool,
    /// Its page is read now.
    pub is_from_page: bool,
}

/// Whether a change means nothing, because the page is not seen in the same way as before: it was not read then or is
/// not read now, it was read by another version of the reader, or the whole site was redesigned.
pub fn is_silent(sight: Sight, is_redesign: bool, is_same_reader: bool) -> bool {
    let Sight { was_recalled, was_from_page, is_from_page } = sight;
    !was_recalled && (was_from_page != is_from_page || (is_from_page && (is_redesign || !is_same_reader)))
}

/// Judges a change, which may mean nothing.
pub fn judge(moved: Moved, is_silent: bool) -> DateJudgement {
    let edited = moved.content && !is_silent;
    DateJudgement { edited, changed: edited || (moved.declared && !is_silent) }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const READ: Sight = Sight { was_recalled: false, was_from_page: true, is_from_page: true };
    const ROW: Sight = Sight { was_recalled: false, was_from_page: false, is_from_page: false };

    #[rstest]
    #[case::a_page_as_ever(READ, false, true, false)]
    #[case::a_redesign(READ, true, true, true)]
    #[case::another_reader(READ, false, false, true)]
    #[case::a_row_in_a_redesign(ROW, true, true, false)]
    #[case::a_row_and_another_reader(ROW, false, false, false)]
    #[case::read_for_the_first_time(Sight { was_from_page: false, ..READ }, false, true, true)]
    #[case::read_no_more(Sight { is_from_page: false, ..READ }, false, true, true)]
    #[case::recalled(Sight { was_recalled: true, was_from_page: false, ..READ }, true, false, false)]
    fn a_change_counts_if_the_page_is_read_the_same_way(
        #[case] sight: Sight,
        #[case] redesign: bool,
        #[case] same_reader: bool,
        #[case] wanted: bool,
    ) {
        assert_eq!(is_silent(sight, redesign, same_reader), wanted);
    }

    #[rstest]
    #[case(false, false, false, (false, false))]
    #[case(true, false, false, (true, true))]
    #[case(false, true, false, (false, true))]
    #[case(true, true, false, (true, true))]
    #[case(true, true, true, (false, false))]
    fn a_declared_date_is_announced_but_is_no_edit(
        #[case] content: bool,
        #[case] declared: bool,
        #[case] silent: bool,
        #[case] (edited, changed): (bool, bool),
    ) {
        assert_eq!(judge(Moved { content, declared }, silent), DateJudgement { edited, changed });
    }
}
