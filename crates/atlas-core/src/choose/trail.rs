//! The trail of questions that were asked about an entry, and whose word each answer was.

use serde::Serialize;

use super::reason::Reason;
use super::verdict::Verdict;

/// One question that was asked about an entry, for `why`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Step {
    /// What was asked.
    pub question: &'static str,
    /// What the answer was, and where it came from.
    pub answer: String,
    /// Whether it settled the matter.
    pub decisive: bool,
}

/// Where the steps go: nowhere while a million entries pass, into a list for one.
pub(super) trait Trail {
    fn note(&mut self, question: &'static str, answer: impl FnOnce() -> String, decisive: bool);

    fn pass(&mut self, question: &'static str, answer: impl FnOnce() -> String) {
        self.note(question, answer, false);
    }

    fn out(&mut self, reason: Reason, question: &'static str, answer: impl FnOnce() -> String) -> Verdict {
        self.note(question, answer, true);
        Verdict::LeftOut(reason)
    }
}

/// Nobody asks why.
pub(super) struct Untold;

impl Trail for Untold {
    fn note(&mut self, _: &'static str, _: impl FnOnce() -> String, _: bool) {}
}

impl Trail for Vec<Step> {
    fn note(&mut self, question: &'static str, answer: impl FnOnce() -> String, decisive: bool) {
        self.push(Step { question, answer: answer(), decisive });
    }
}

/// A word on a setting, and where it comes from.
#[derive(Debug, Clone, Copy)]
pub(super) struct Setting<T> {
    pub(super) value: T,
    pub(super) from: SettingOrigin,
}

/// Where a word on a setting comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum SettingOrigin {
    Itself,
    Rule(u32),
    Archive,
    Section,
}

impl std::fmt::Display for SettingOrigin {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Itself => formatter.write_str("its own word"),
            Self::Rule(line) => write!(formatter, "the rule in line {line}"),
            Self::Archive => formatter.write_str("its archive"),
            Self::Section => formatter.write_str("its section"),
        }
    }
}
