//! What there is to say: plain values, the same for people and for programs.

mod finding;

pub use self::finding::{Finding, Severity};
