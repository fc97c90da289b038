//! Text that XML can contain.

use std::borrow::Cow;

/// Whether XML 1.0 allows a character (section 2.2) and no reader would change it.
fn is_allowed(letter: char) -> bool {
    matches!(letter, ' '..='\u{d7ff}' | '\u{e000}'..='\u{fffd}' | '\u{10000}'..) && letter != '\u{7f}'
}

/// Whether XML 1.0 allows a character (section 2.2).
pub(super) fn is_xml_char(letter: char) -> bool {
    matches!(letter, '\t' | '\n' | '\r' | ' '..='\u{d7ff}' | '\u{e000}'..='\u{fffd}' | '\u{10000}'..)
}

/// A text on one line, without the characters that XML 1.0 does not allow: white space becomes spaces, the rest is
/// removed, and the ends are trimmed.
///
/// ```
/// assert_eq!(atlas_core::format::clean(" cab\u{0}\tride\r\n\u{fffe}"), "cab ride");
/// ```
pub fn clean(text: &str) -> Cow<'_, str> {
    let text = text.trim();
    // Without an early exit, so that many bytes are checked in one step.
    let plain = text.bytes().fold(true, |plain, byte| plain & matches!(byte, b' '..=b'~'));
    if plain || text.chars().all(is_allowed) {
        return Cow::Borrowed(text);
    }
    let kept: String = text
        .chars()
        .filter_map(|letter| match letter {
            letter if is_allowed(letter) => Some(letter),
            '\t' | '\n' | '\r' => Some(' '),
            _ => None,
        })
        .collect();
    Cow::Owned(kept.trim().to_owned())
}

/// Appends text with `& ' " < >` escaped.
pub(crate) fn push_escaped(out: &mut Vec<u8>, text: &str) {
    each_escaped(text.as_bytes(), |part| out.extend_from_slice(part));
}

/// Passes on text with `& ' " < >` escaped, piece by piece (sitemaps protocol 0.9, "entity escaping").
pub(crate) fn each_escaped(text: &[u8], mut take: impl FnMut(&[u8])) {
    let mut rest = text;
    if !has_special(rest) {
        return take(rest);
    }
    while let Some(at) = first_special(rest) {
        take(&rest[..at]);
        take(match rest[at] {
            b'&' => b"&amp;",
            b'\'' => b"&apos;",
            b'"' => b"&quot;",
            b'<' => b"&lt;",
            _ => b"&gt;",
        });
        rest = &rest[at + 1..];
    }
    take(rest);
}

/// Whether anything has to be escaped. Without an early exit and without branches, so that many bytes are checked in
/// one step: few texts need escaping.
pub(crate) fn has_special(text: &[u8]) -> bool {
    let special = |byte: u8| (byte == b'&') | (byte == b'\'') | (byte == b'"') | (byte == b'<') | (byte == b'>');
    text.iter().fold(0, |any, byte| any | u8::from(special(*byte))) != 0
}

fn first_special(text: &[u8]) -> Option<usize> {
    let quote = memchr::memchr2(b'\'', b'"', text);
    let before = &text[..quote.unwrap_or(text.len())];
    memchr::memchr3(b'&', b'<', b'>', before).or(quote)
}
