//! What is decided of an entry.

use super::reason::Reason;
use crate::entry::{Changefreq, DatePolicy, Priority};

/// What came of an entry.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Verdict {
    /// It goes in.
    Kept(Kept),
    /// It does not.
    LeftOut(Reason),
}

/// How an entry goes in.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Kept {
    /// Its section's place in [`Sections::list`](super::Sections::list).
    pub section: u16,
    /// The hint to write.
    pub changefreq: Option<Changefreq>,
    /// The hint to write.
    pub priority: Option<Priority>,
    /// Which date is written.
    pub date_policy: DatePolicy,
}
