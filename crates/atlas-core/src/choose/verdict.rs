//! The verdict on an entry: kept or left out.

use super::reason::Reason;
use crate::entry::{Changefreq, DatePolicy, Priority};

/// The verdict on an entry.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Verdict {
    /// It is listed.
    Kept(Kept),
    /// It is left out, for this reason.
    LeftOut(Reason),
}

/// How a kept entry is written.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Kept {
    /// The index of its section in [`Sections::list`](super::Sections::list).
    pub section: u16,
    /// The hint to write.
    pub changefreq: Option<Changefreq>,
    /// The hint to write.
    pub priority: Option<Priority>,
    /// Which date is written.
    pub date_policy: DatePolicy,
    /// Whether engines are told of it.
    pub announce: bool,
}
