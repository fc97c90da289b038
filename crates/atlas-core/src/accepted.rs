//! Accepted remarks and findings: those that the webmaster has seen and no longer wants to read. They are only counted.
//!
//! The file has one entry per line: a code, and a pattern that the URL must match. `#` begins a comment.
//!
//! ```text
//! unlinked /about/**
//! linked-not-found https://www.marrowvale.example/old/*   # goes with the new site
//! no-head
//! ```
//!
//! A pattern that begins with `/` is matched against the path; any other against the whole URL, or against the name of
//! the thing that the remark is about. A line without a pattern accepts every remark with its code.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};

use globset::{GlobBuilder, GlobMatcher};

use crate::address;

/// The accepted remarks, and how often each line has matched.
#[derive(Debug, Default)]
pub struct Accepted {
    lines: Vec<AcceptedLine>,
    /// The lines whose pattern is a plain text, by code and text: there may be thousands.
    plain: BTreeMap<String, BTreeMap<String, usize>>,
}

#[derive(Debug)]
struct AcceptedLine {
    number: usize,
    code: String,
    /// What it must match; `None` if everything with the code is accepted.
    pattern: Option<AcceptedPattern>,
    met: AtomicU64,
}

/// The pattern of a line.
#[derive(Debug)]
enum AcceptedPattern {
    /// A plain text, which is looked up.
    Plain,
    /// A pattern with wildcards.
    Glob(GlobMatcher),
}

/// A line that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BadLine {
    /// The line, counted from 1.
    pub line: usize,
    /// What is wrong and what was expected.
    pub message: String,
}

impl Accepted {
    /// Accepts nothing.
    pub const NONE: Self = Self { lines: Vec::new(), plain: BTreeMap::new() };

    /// Accepts nothing, for as long as anyone likes.
    pub fn none() -> &'static Self {
        static NONE: Accepted = Accepted::NONE;
        &NONE
    }

    /// Reads the text of the file; `codes` lists the known codes.
    ///
    /// # Errors
    ///
    /// Returns the first line that cannot be read.
    pub fn parse(text: &str, codes: &[&str]) -> Result<Self, BadLine> {
        let (mut lines, mut plain) = (Vec::new(), BTreeMap::<String, BTreeMap<String, usize>>::new());
        for (at, line) in text.lines().enumerate() {
            let line = line.trim_start_matches('\u{feff}');
            let said = line.find('#').filter(|at| line[..*at].trim().is_empty() || line[..*at].ends_with(' '));
            let mut words = line[..said.unwrap_or(line.len())].split_whitespace();
            let Some(code) = words.next() else { continue };
            let bad = |message: String| BadLine { line: at + 1, message };
            let patterns: Vec<&str> = words.collect();
            if !codes.contains(&code) {
                return Err(bad(format!("“{code}” is unknown; expected one of {}", codes.join(", "))));
            }
            if let [pattern] = patterns[..]
                && let Some(text) = plain_text(pattern)
            {
                plain.entry(code.to_owned()).or_default().entry(text).or_insert(lines.len());
            }
            let pattern = match patterns[..] {
                [] => None,
                [pattern] if plain_text(pattern).is_some() => Some(AcceptedPattern::Plain),
                [pattern] => Some(AcceptedPattern::Glob(matcher(pattern).map_err(bad)?)),
                _ => return Err(bad("expected a code and one pattern; begin a line of its own for each".to_owned())),
            };
            lines.push(AcceptedLine { number: at + 1, code: code.to_owned(), pattern, met: AtomicU64::new(0) });
        }
        Ok(Self { lines, plain })
    }

    /// Returns whether a remark with this code about this URL or name is accepted, and counts it if so.
    pub fn holds(&self, code: &str, about: &str) -> bool {
        if self.lines.is_empty() {
            return false;
        }
        let of_code = self.plain.get(code);
        let at = |text: &str| of_code.and_then(|plain| plain.get(text)).map(|at| &self.lines[*at]);
        let fits = |line: &&AcceptedLine| {
            line.code == code
                && match &line.pattern {
                    None => true,
                    Some(AcceptedPattern::Plain) => false,
                    Some(AcceptedPattern::Glob(glob)) => glob.is_match(about) || glob.is_match(address::path(about)),
                }
        };
        let found = at(about).or_else(|| at(address::path(about))).or_else(|| self.lines.iter().find(fits));
        if let Some(line) = found {
            line.met.fetch_add(1, Ordering::Relaxed);
        }
        found.is_some()
    }

    /// The number of accepted remarks by code, since [`Accepted::forget_counts`] was last called.
    pub fn counts(&self) -> BTreeMap<String, u64> {
        let mut counts = BTreeMap::new();
        for line in &self.lines {
            let met = line.met.load(Ordering::Relaxed);
            if met > 0 {
                *counts.entry(line.code.clone()).or_default() += met;
            }
        }
        counts
    }

    /// The number and code of each line that has matched nothing.
    pub fn unmet(&self) -> impl Iterator<Item = (usize, &str)> {
        let unmet = self.lines.iter().filter(|line| line.met.load(Ordering::Relaxed) == 0);
        unmet.map(|line| (line.number, line.code.as_str()))
    }

    /// Resets all counts.
    pub fn forget_counts(&self) {
        self.lines.iter().for_each(|line| line.met.store(0, Ordering::Relaxed));
    }
}

/// The text that alone matches a pattern, if it has no wildcard: classes of one letter (`[?]`) stand for that letter.
fn plain_text(pattern: &str) -> Option<String> {
    let mut text = String::with_capacity(pattern.len());
    let mut letters = pattern.chars();
    while let Some(letter) = letters.next() {
        match letter {
            '[' => {
                let only = letters.next().filter(|only| !matches!(only, '!' | '^' | ']'))?;
                letters.next().filter(|end| *end == ']')?;
                text.push(only);
            }
            '*' | '?' | ']' | '{' | '}' | '\\' => return None,
            letter => text.push(letter),
        }
    }
    Some(text)
}

/// Compiles a pattern: `*` stays within one part of a path, `**` crosses slashes.
fn matcher(pattern: &str) -> Result<GlobMatcher, String> {
    let glob = GlobBuilder::new(pattern).literal_separator(true).build();
    glob.map(|glob| glob.compile_matcher()).map_err(|why| format!("“{pattern}” is not a pattern: {}", why.kind()))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in "[a-z#/*{\\[ \n-]{0,200}", about in ".{0,60}") {
            match Accepted::parse(&text, &CODES) {
                Ok(accepted) => {
                    let held = accepted.holds("unlinked", &about);
                    prop_assert_eq!(accepted.counts().values().sum::<u64>(), u64::from(held));
                }
                Err(bad) => prop_assert!((1..=text.lines().count()).contains(&bad.line)),
            }
        }
    }

    const CODES: [&str; 2] = ["unlinked", "no-head"];

    #[rstest]
    #[case("unlinked", "unlinked", "https://www.marrowvale.example/about/", true)]
    #[case("unlinked /about/", "unlinked", "https://www.marrowvale.example/about/", true)]
    #[case("unlinked /about/*", "unlinked", "https://www.marrowvale.example/about/us/", false)]
    #[case("unlinked /about/**", "unlinked", "https://www.marrowvale.example/about/us/", true)]
    #[case("unlinked https://*.example/**", "unlinked", "https://www.marrowvale.example/about/", true)]
    #[case("# all\n\nunlinked journal # a section", "unlinked", "journal", true)]
    #[case("unlinked /a#b", "unlinked", "https://www.marrowvale.example/a#b", true)]
    #[case("unlinked /a[?]b=[[]", "unlinked", "https://www.marrowvale.example/a?b=[", true)]
    #[case("unlinked /a[?]b", "unlinked", "https://www.marrowvale.example/axb", false)]
    #[case("unlinked /a[bc]", "unlinked", "https://www.marrowvale.example/ac", true)]
    #[case("unlinked /about/", "no-head", "https://www.marrowvale.example/about/", false)]
    fn lines_accept(#[case] text: &str, #[case] code: &str, #[case] about: &str, #[case] wanted: bool) {
        assert_eq!(Accepted::parse(text, &CODES).unwrap().holds(code, about), wanted);
    }

    #[rstest]
    #[case("\nunlnked", 2, "expected one of unlinked, no-head")]
    #[case("unlinked /a/ /b/", 1, "one pattern")]
    #[case("unlinked [a", 1, "is not a pattern")]
    fn bad_lines_are_named(#[case] text: &str, #[case] line: usize, #[case] words: &str) {
        let bad = Accepted::parse(text, &CODES).unwrap_err();
        assert_eq!(bad.line, line);
        assert!(bad.message.contains(words), "{}", bad.message);
    }

    #[test]
    fn matched_lines_are_counted() {
        let accepted = Accepted::parse("unlinked /a/\nunlinked /b/\nno-head\n", &CODES).unwrap();
        for path in ["/a/", "/b/", "/c/"] {
            accepted.holds("unlinked", &format!("https://www.marrowvale.example{path}"));
        }
        assert_eq!(accepted.counts(), BTreeMap::from([("unlinked".to_owned(), 2)]));
        assert_eq!(accepted.unmet().collect::<Vec<_>>(), [(3, "no-head")]);
        accepted.forget_counts();
        assert!(accepted.counts().is_empty());
    }
}
