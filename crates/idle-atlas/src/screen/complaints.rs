//! Messages on standard error about what went wrong.

use std::io::{Write, stderr};

use anstream::{AutoStream, ColorChoice};

use super::layout::fold;
use super::style::BAD;
use super::width::width_of;

/// Reports problems, from any thread.
#[derive(Debug, Clone, Copy)]
pub struct Complaints {
    pub(super) color: ColorChoice,
}

impl Complaints {
    /// Reports a problem on standard error.
    pub fn complain(&self, what: &str, message: &str) {
        self.complain_of(None, what, message);
    }

    /// Reports a problem of one of several sites, with its configuration.
    pub(super) fn complain_of(&self, site: Option<&str>, what: &str, message: &str) {
        let mut out = AutoStream::new(stderr(), self.color).lock();
        let site = site.map_or(String::new(), |site| format!("{site}: "));
        let text = format!("{site}{BAD}{what}:{BAD:#} {message}");
        let text = width_of(stderr()).map_or_else(|| text.clone(), |width| fold(&text, width));
        // There is nobody left to tell if this fails.
        let _ = writeln!(out, "{text}");
    }
}
