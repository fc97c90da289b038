//! The layout of results: how much is shown, in which time zone, and how wide.

use std::borrow::Cow;

use jiff::tz::TimeZone;
use textwrap::core::display_width;
use textwrap::{Options, WordSeparator, WordSplitter};

use super::style::FAINT;

/// On a terminal with fewer columns, URLs of the site are shown without scheme and host.
const NARROW: usize = 100;
/// The longest list in the demo.
const FEW_IN_BRIEF: usize = 3;
/// Marks where something was cut out.
const CUT: char = '…';

/// The layout of results.
#[derive(Debug, Clone)]
pub struct Layout {
    /// Whether to show everything rather than the first few.
    pub verbose: bool,
    /// Whether it is part of the demo: what the demo itself says, and long lists, are omitted.
    pub brief: bool,
    /// The zone in which times are shown.
    pub zone: TimeZone,
    /// The columns of the terminal; `None` if the output is not a terminal, and nothing is cut.
    pub width: Option<usize>,
    /// The scheme and host of the site.
    pub origin: String,
}

impl Layout {
    /// Whether URLs are shown without scheme and host.
    fn is_narrow(&self) -> bool {
        self.width.is_some_and(|width| width < NARROW) && !self.origin.is_empty()
    }

    /// A text with the site's URLs shortened if necessary.
    pub fn urls<'t>(&self, text: &'t str) -> Cow<'t, str> {
        let whole = format!("{}/", self.origin);
        if self.is_narrow() && text.contains(&whole) {
            Cow::Owned(text.replace(&whole, "/"))
        } else {
            Cow::Borrowed(text)
        }
    }

    /// The line that names the host of shortened URLs.
    pub fn host(&self) -> String {
        if self.is_narrow() { format!("{FAINT}URLs are on {}{FAINT:#}\n\n", self.origin) } else { String::new() }
    }

    /// The line with the next step.
    pub fn next(&self, command: &str) -> String {
        if self.brief { String::new() } else { format!("{FAINT}Next: {command}{FAINT:#}\n") }
    }

    /// How many examples to show, if `few` is the usual number.
    pub fn shown(&self, few: usize) -> usize {
        match (self.verbose, self.brief) {
            (true, _) => usize::MAX,
            (false, true) => few.min(FEW_IN_BRIEF),
            (false, false) => few,
        }
    }
}

/// A text whose lines are at most this wide. Longer lines are continued with a hanging indent.
pub fn fold(text: &str, width: usize) -> String {
    if text.lines().all(|line| display_width(line) <= width) {
        return text.to_owned();
    }
    let mut out = String::with_capacity(text.len() + text.len() / 8);
    for line in text.split_inclusive('\n') {
        let end = if line.ends_with('\n') { "\n" } else { "" };
        let line = line.trim_end_matches('\n');
        if display_width(line) <= width {
            out += line;
        } else {
            let blanks = line.len() - line.trim_start_matches(' ').len();
            let indent = " ".repeat((blanks + 2).min(width / 3));
            let options = Options::new(width)
                .word_separator(WordSeparator::AsciiSpace)
                .word_splitter(WordSplitter::NoHyphenation)
                .subsequent_indent(&indent);
            out += &textwrap::wrap(line, options).join("\n");
        }
        out += end;
    }
    out
}

/// A text shortened in the middle to at most this width.
pub fn cut(text: &str, width: usize) -> String {
    if display_width(text) <= width {
        return text.to_owned();
    }
    let room = width.saturating_sub(1);
    let take = |letters: &mut dyn Iterator<Item = char>, room: usize| {
        let mut used = 0;
        let mut taken = Vec::new();
        for letter in letters {
            used += display_width(letter.encode_utf8(&mut [0; 4]));
            if used > room {
                break;
            }
            taken.push(letter);
        }
        taken
    };
    let head: String = take(&mut text.chars(), room / 2).into_iter().collect();
    let tail: String = take(&mut text.chars().rev(), room - room / 2).into_iter().rev().collect();
    format!("{head}{CUT}{tail}")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    proptest! {
        #[test]
        fn no_line_is_wider_and_no_word_is_lost(
            words in proptest::collection::vec("[a-zâ灯/-]{1,12}", 0..60),
            width in 30usize..120,
        ) {
            let text = format!("  {}\n", words.join(" "));
            let folded = fold(&text, width);
            prop_assert!(folded.lines().all(|line| display_width(line) <= width), "{folded}");
            prop_assert_eq!(folded.split_whitespace().collect::<Vec<_>>(), words);
        }

        #[test]
        fn cut_text_keeps_both_ends(text in "[a-zâ灯/]{0,80}", width in 3usize..60) {
            let short = cut(&text, width);
            prop_assert!(display_width(&short) <= width, "{short}");
            if short != text {
                let (head, tail) = short.split_once(CUT).unwrap();
                prop_assert!(text.starts_with(head) && text.ends_with(tail), "{short}");
            }
        }
    }

    fn layout(width: Option<usize>) -> Layout {
        let origin = "https://www.marrowvale.example".to_owned();
        Layout { verbose: false, brief: false, zone: TimeZone::UTC, width, origin }
    }

    #[rstest]
    #[case(None, "https://www.marrowvale.example/fares/")]
    #[case(Some(100), "https://www.marrowvale.example/fares/")]
    #[case(Some(99), "/fares/")]
    fn urls_are_shortened_on_narrow_terminals(#[case] width: Option<usize>, #[case] wanted: &str) {
        assert_eq!(layout(width).urls("https://www.marrowvale.example/fares/"), wanted);
        let other = "https://marrowvale.example/ (linked from https://www.marrowvale.example.example/)";
        assert_eq!(layout(width).urls(other), other);
    }

    #[rstest]
    #[case("/journal/", 9, "/journal/")]
    #[case("/journal/frost-on-the-cutting/", 11, "/jour…ting/")]
    #[case("/dyddiadur/mân-newyddion/", 12, "/dydd…ddion/")]
    #[case("灯灯灯灯灯灯", 5, "灯…灯")]
    fn the_middle_is_cut_out(#[case] text: &str, #[case] width: usize, #[case] wanted: &str) {
        assert_eq!(cut(text, width), wanted);
        assert!(display_width(&cut(text, width)) <= width);
    }

    #[test]
    fn wrapped_lines_are_indented() {
        let text = "short\n  a line that is longer than twenty columns\n\n  \u{1b}[33mwarned\u{1b}[0m of this\n";
        let wanted =
            "short\n  a line that is\n    longer than\n    twenty columns\n\n  \u{1b}[33mwarned\u{1b}[0m of this\n";
        assert_eq!(fold(text, 20), wanted);
        assert!(fold(&"x".repeat(99), 30).lines().all(|line| display_width(line) <= 30));
    }
}
