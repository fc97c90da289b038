//! Collecting findings: those that are known are only counted, and of one code no more are kept than anybody reads.

use std::collections::BTreeMap;

use super::codes::FindingKind;
use crate::accepted::Accepted;
use crate::report::{Finding, Severity};

/// The most findings of one code that are kept. Further ones are counted.
pub const MOST_KEPT: u64 = 10_000;

/// Where something was found.
#[derive(Debug, Clone, Copy, Default)]
pub struct Place<'p> {
    /// The file, as an address.
    pub file: Option<&'p str>,
    /// The line in the file, counted from 1.
    pub line: Option<u64>,
    /// The URL that it is about.
    pub url: Option<&'p str>,
}

impl<'p> Place<'p> {
    /// A file as a whole.
    pub fn file(file: &'p str) -> Self {
        Self { file: Some(file), ..Self::default() }
    }

    /// A URL, wherever it stands.
    pub fn url(url: &'p str) -> Self {
        Self { url: Some(url), ..Self::default() }
    }

    /// A line of the same file.
    #[must_use]
    pub fn at(self, line: u64) -> Self {
        Self { line: Some(line), ..self }
    }

    /// A URL in the same file.
    #[must_use]
    pub fn about(self, url: &'p str) -> Self {
        Self { url: Some(url), ..self }
    }
}

/// Findings, as they are collected.
#[derive(Debug)]
pub struct Findings<'k> {
    known: &'k Accepted,
    kept: Vec<Finding>,
    /// How many there are of each code, kept or not.
    counts: BTreeMap<&'static str, u64>,
    accepted: u64,
}

/// All findings of a check.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Collected {
    /// The findings: the worst first, grouped by code, in the order in which they were found.
    pub findings: Vec<Finding>,
    /// How many of each code there are beyond those in the list.
    pub more: BTreeMap<&'static str, u64>,
    /// How many were left out because they are known.
    pub accepted: u64,
}

impl<'k> Findings<'k> {
    /// None so far; `known` are those that the webmaster accepts.
    pub fn new(known: &'k Accepted) -> Self {
        Self { known, kept: Vec::new(), counts: BTreeMap::new(), accepted: 0 }
    }

    /// Adds one.
    pub fn add(&mut self, kind: &'static FindingKind, place: Place<'_>, what: impl FnOnce() -> String) {
        self.add_with(kind, place, kind.mend, what);
    }

    /// Adds one that is mended in another way than others of its kind.
    pub fn add_with(
        &mut self,
        kind: &'static FindingKind,
        place: Place<'_>,
        mend: &'static str,
        what: impl FnOnce() -> String,
    ) {
        if self.known.holds(kind.code, place.url.or(place.file).unwrap_or_default()) {
            self.accepted += 1;
            return;
        }
        let count = self.counts.entry(kind.code).or_default();
        *count += 1;
        if *count > MOST_KEPT {
            return;
        }
        self.kept.push(Finding {
            code: kind.code,
            severity: kind.severity,
            file: place.file.map(str::to_owned),
            line: place.line,
            url: place.url.map(str::to_owned),
            what: what(),
            mend,
        });
    }

    /// Whether there are none, not even known ones.
    pub fn is_empty(&self) -> bool {
        self.counts.is_empty() && self.accepted == 0
    }

    /// Forgets those of a kind, because another finding says the same of all of them.
    pub(super) fn forget(&mut self, kind: &FindingKind) {
        self.kept.retain(|finding| finding.code != kind.code);
        self.counts.remove(kind.code);
    }

    /// Adds those of another collection after these.
    pub fn append(&mut self, others: Self) {
        let mut room: BTreeMap<&str, u64> = BTreeMap::new();
        for (code, count) in others.counts {
            let own = self.counts.entry(code).or_default();
            room.insert(code, MOST_KEPT.saturating_sub(*own));
            *own += count;
        }
        self.accepted += others.accepted;
        for finding in others.kept {
            if let Some(room) = room.get_mut(finding.code).filter(|room| **room > 0) {
                *room -= 1;
                self.kept.push(finding);
            }
        }
    }

    /// What was found first about a file as a whole that keeps it from being read.
    pub(super) fn first_about(&self, file: &str) -> Option<String> {
        const FATAL: [&str; 8] = [
            "file-missing",
            "file-status",
            "no-answer",
            "tls-trouble",
            "bot-wall",
            "file-broken",
            "other-root",
            "not-well-formed",
        ];
        let is_fatal = |one: &&Finding| one.file.as_deref() == Some(file) && FATAL.contains(&one.code);
        self.kept.iter().find(is_fatal).map(|finding| finding.what.clone())
    }

    /// All of them.
    pub fn finish(self) -> Collected {
        let Self { kept: mut findings, counts, accepted, .. } = self;
        let mut first: BTreeMap<&str, usize> = BTreeMap::new();
        findings.iter().enumerate().for_each(|(at, finding)| {
            first.entry(finding.code).or_insert(at);
        });
        findings.sort_by_key(|finding| (finding.severity, first.get(finding.code).copied()));
        let more = counts.into_iter().filter(|(_, count)| *count > MOST_KEPT);
        Collected { findings, more: more.map(|(code, count)| (code, count - MOST_KEPT)).collect(), accepted }
    }
}

impl Collected {
    /// How many findings there are of a severity, kept or not.
    pub fn count(&self, severity: Severity) -> u64 {
        let kept = self.findings.iter().filter(|finding| finding.severity == severity).count() as u64;
        let is_such = |code: &str| super::codes::named(code).is_some_and(|kind| kind.severity == severity);
        kept + self.more.iter().filter(|(code, _)| is_such(code)).map(|(_, more)| more).sum::<u64>()
    }
}

/// A text for a message: its beginning, if it is long.
pub(super) fn excerpt(text: &str) -> String {
    const MOST: usize = 80;
    match text.char_indices().nth(MOST) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::super::codes::{DISALLOWED, DUPLICATE, LOC_MISSING, named};
    use super::*;

    #[test]
    fn many_of_a_kind_are_counted_and_known_ones_are_left_out() {
        let known = Accepted::parse("disallowed /staff/**\n", &["disallowed"]).unwrap();
        let mut findings = Findings::new(&known);
        let place = Place::file("https://www.marrowvale.example/sitemap.xml");
        let url = |path: &str| format!("https://www.marrowvale.example{path}");
        findings.add(&DISALLOWED, place.about(&url("/staff/rota/")), String::new);
        findings.add(&DISALLOWED, place.about(&url("/yard/")), String::new);
        for part in 0..2 {
            let mut of_file = Findings::new(&known);
            (0..6_000).for_each(|line| of_file.add(&DUPLICATE, place.at(line), || format!("{part}")));
            findings.append(of_file);
        }
        findings.add(&LOC_MISSING, place.at(7), String::new);
        let all = findings.finish();
        let codes: Vec<&str> = all.findings.iter().map(|finding| finding.code).collect();
        assert_eq!((codes.len(), codes[0], codes[1], codes[2]), (10_002, "loc-missing", "disallowed", "duplicate"));
        assert_eq!((all.accepted, all.more.get("duplicate")), (1, Some(&2_000)));
        assert_eq!(all.findings.last().map(|last| last.what.as_str()), Some("1"));
        assert_eq!([Severity::Error, Severity::Warning].map(|severity| all.count(severity)), [1, 12_001]);
        assert_eq!(named("duplicate").map(|kind| kind.severity), Some(Severity::Warning));
    }
}
