//! Reports: the values that commands show and that JSON output contains.

mod counted;
mod problem;
mod outcome;
mod notice;
mod finding;

pub use self::counted::Counted;
pub use self::finding::{Finding, Severity};
pub use self::notice::{Example, Notice, Noticed};
pub use self::outcome::{Increment, Outcome, SourceFailure};
pub use self::problem::Problem;
