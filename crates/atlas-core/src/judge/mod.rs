//! Judging: when a change is announced, when dates hold, and when a loss is too large. All are pure functions of
//! counts.

mod redesign;
mod dates;
mod losses;

pub use self::dates::{DateJudgement, Moved, Sight, is_silent, judge};
pub use self::losses::{Thresholds, is_lost, is_renamed, is_too_much_left_out, share};
pub use self::redesign::{Movement, dates_hold, is_redesign};
