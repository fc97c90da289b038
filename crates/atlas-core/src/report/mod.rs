//! What there is to say: plain values, the same for people and for programs.

mod counted;
mod problem;
mod outcome;
mod notice;
mod finding;

pub use self::counted::Counted;
pub use self::finding::{Finding, Severity};
pub use self::notice::{Example, Notice, Noticed};
pub use self::outcome::Outcome;
pub use self::problem::Problem;
