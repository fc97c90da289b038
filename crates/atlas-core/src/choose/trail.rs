//! The trail of a decision: the questions asked about an entry, and what decided each answer.

use serde::Serialize;

use super::reason::Reason;
use super::verdict::Verdict;

/// One question asked about an entry, for `why`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Step {
    /// The question.
    pub question: &'static str,
    /// The answer, and where it came from.
    pub answer: String,
    /// Whether it settled the decision.
    pub decisive: bool,
}

/// Where steps are recorded: nowhere while a million entries pass, in a list for one.
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

/// Records nothing.
pub(super) struct Untold;

impl Trail for Untold {
    fn note(&mut self, _: &'static str, _: impl FnOnce() -> String, _: bool) {}
}

impl Trail for Vec<Step> {
    fn note(&mut self, question: &'static str, answer: impl FnOnce() -> String, decisive: bool) {
        self.push(Step { question, answer: answer(), decisive });
    }
}

/// The value of a setting, and where it comes from.
#[derive(Debug, Clone, Copy)]
pub(super) struct Setting<T> {
    pub(super) value: T,
    pub(super) from: SettingOrigin,
}

/// Where the value of a setting comes from.
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
            Self::Itself => formatter.write_str("its own setting"),
            Self::Rule(line) => write!(formatter, "the rule in line {line}"),
            Self::Archive => formatter.write_str("its archive"),
            Self::Section => formatter.write_str("its section"),
        }
    }
}
