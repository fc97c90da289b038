//! Hints: `changefreq` and `priority`, written only if asked for.
//!
//! A computed priority comes in coarse steps, because a hint that changes makes a file that has to be written again.

use crate::entry::{Changefreq, DatePolicy, Priority};
use serde::Serialize;

/// The hints, date policy and word about announcements that a rule, an archive or a section sets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
pub struct Hints {
    /// The `changefreq` to write.
    pub changefreq: Option<Changefreq>,
    /// The `priority` to write, or how to compute it.
    pub priority: Option<PriorityHint>,
    /// Which date is written.
    pub date_policy: Option<DatePolicy>,
    /// Whether engines are told of it.
    pub announce: Option<bool>,
}

impl Hints {
    /// These hints, and in place of those that are not set the others.
    #[must_use]
    pub fn or(self, others: Self) -> Self {
        Self {
            changefreq: self.changefreq.or(others.changefreq),
            priority: self.priority.or(others.priority),
            date_policy: self.date_policy.or(others.date_policy),
            announce: self.announce.or(others.announce),
        }
    }
}

/// How a priority is computed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum PriorityHint {
    /// This value.
    Fixed(Priority),
    /// From the depth of the page in the folders of its path.
    ByDepth,
    /// For an archive's page, from its share of the entries: [`by_share`]. No priority for other pages.
    ByShare,
}

impl PriorityHint {
    /// The priority of the entry at a path. `share` is the hint computed from the size of the archive that it is a page
    /// of.
    pub fn of(self, path: &str, share: Option<Priority>) -> Option<Priority> {
        match self {
            Self::Fixed(priority) => Some(priority),
            Self::ByDepth => Some(by_depth(depth(path))),
            Self::ByShare => share,
        }
    }

    /// How it is computed, in words that are followed by the name of the setting.
    pub fn how(self) -> &'static str {
        match self {
            Self::Fixed(_) => "by",
            Self::ByDepth => "by depth, as set by",
            Self::ByShare => "by share of entries, as set by",
        }
    }
}

/// The priority of a page by the number of folders it is deep: 1.0, 0.8, 0.6, 0.4, and 0.2 from four on.
pub(crate) fn by_depth(depth: usize) -> Priority {
    fifths(5 - depth.min(4))
}

/// The priority of an archive with `members` entries if the largest of its kind has `largest`: 0.8 from half of that,
/// 0.6 from a quarter, 0.4 from an eighth, else 0.2. Steps that double rarely change while a site grows.
///
/// ```
/// use atlas_core::hint::by_share;
///
/// assert_eq!(by_share(60, 100).to_string(), "0.8");
/// assert_eq!(by_share(30, 100), by_share(49, 100));
/// assert_eq!(by_share(1, 100).to_string(), "0.2");
/// ```
pub fn by_share(members: u64, largest: u64) -> Priority {
    let reaches = |part: u64| members.saturating_mul(part) >= largest;
    fifths(match () {
        () if reaches(2) => 4,
        () if reaches(4) => 3,
        () if reaches(8) => 2,
        () => 1,
    })
}

fn fifths(number: usize) -> Priority {
    Priority::from_hundredths(20 * number as u8).unwrap_or_default()
}

/// The depth of a page: the number of parts of its path, without the query.
///
/// ```
/// use atlas_core::hint::depth;
///
/// assert_eq!([depth("/"), depth("/halts/"), depth("/halts/weir.html?x=/")], [0, 1, 2]);
/// ```
pub fn depth(path: &str) -> usize {
    let path = path.split('?').next().unwrap_or(path);
    path.split('/').filter(|part| !part.is_empty()).count()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/", "1.0")]
    #[case("/fares/", "0.8")]
    #[case("/fares/print.html", "0.6")]
    #[case("/a/b/c/", "0.4")]
    #[case("/a/b/c/d/e/f/g/", "0.2")]
    fn depth_makes_coarse_steps(#[case] path: &str, #[case] wanted: &str) {
        assert_eq!(PriorityHint::ByDepth.of(path, None).unwrap().to_string(), wanted);
    }

    #[rstest]
    #[case(100, 100, 80)]
    #[case(50, 100, 80)]
    #[case(49, 100, 60)]
    #[case(24, 100, 40)]
    #[case(12, 100, 20)]
    #[case(0, 0, 80)]
    fn the_largest_is_highest(#[case] members: u64, #[case] largest: u64, #[case] hundredths: u8) {
        assert_eq!(by_share(members, largest).hundredths(), hundredths);
    }

    #[test]
    fn only_archives_have_a_share() {
        assert_eq!(PriorityHint::ByShare.of("/a/", None), None);
        assert_eq!(PriorityHint::ByShare.of("/a/", Priority::new(0.4)), Priority::new(0.4));
    }
}
