//! HTML as tokens: tags with their attributes, and the text between them.
//!
//! The states are those of the HTML Standard, section "Tokenization", but the tokenizer jumps to the next byte that
//! matters, so that text costs next to nothing. Nothing is copied except text with character references. Parse errors
//! are handled as browsers handle them.

use std::borrow::Cow;

use memchr::{memchr, memchr2, memmem};

/// The most attributes of one tag that are kept: a page may have a million of them.
const MOST_ATTRIBUTES: usize = 256;

/// Receives the tokens of a page in order. Names are in lower case.
pub(super) trait TokenSink {
    /// Called with the position of a tag before it is opened.
    fn at(&mut self, _: usize) {}

    /// A start tag.
    fn open(&mut self, name: &[u8], attributes: &Attributes<'_>, self_closing: bool);
    /// An end tag.
    fn close(&mut self, name: &[u8]);
    /// A piece of text, with character references replaced. One run of text may come in several pieces.
    fn text(&mut self, text: &[u8]);
}

/// The attributes of one start tag.
pub(super) struct Attributes<'p> {
    page: &'p [u8],
    /// The positions of each attribute's name and value in the page.
    places: Vec<((usize, usize), (usize, usize))>,
}

impl<'p> Attributes<'p> {
    /// Whether there is an attribute with this name, empty or not.
    pub(super) fn has(&self, name: &str) -> bool {
        self.places.iter().any(|((start, end), _)| self.page[*start..*end].eq_ignore_ascii_case(name.as_bytes()))
    }

    /// The value as written on the page; empty if the attribute is missing. The first of several counts.
    pub(super) fn raw(&self, name: &str) -> &'p [u8] {
        let named = |((start, end), _): &&((usize, usize), (usize, usize))| {
            self.page[*start..*end].eq_ignore_ascii_case(name.as_bytes())
        };
        self.places.iter().find(named).map_or(&[], |(_, (start, end))| &self.page[*start..*end])
    }

    /// The value as text, with character references replaced, trimmed; empty if the attribute is missing or not UTF-8.
    pub(super) fn text(&self, name: &str) -> Cow<'p, str> {
        let Ok(raw) = std::str::from_utf8(self.raw(name)) else { return Cow::Borrowed("") };
        match memchr(b'&', raw.as_bytes()) {
            None => Cow::Borrowed(raw.trim()),
            Some(_) => Cow::Owned(htmlize::unescape_attribute(raw).trim().to_owned()),
        }
    }

    /// Reads attributes from `at` to the end of their tag. Returns the end of the tag, and whether it closes itself.
    /// `None` if the page ends first: then there is no tag.
    fn read(&mut self, mut at: usize) -> Option<(usize, bool)> {
        let page = self.page;
        self.places.clear();
        loop {
            at += page.get(at..)?.iter().position(|byte| !is_space(*byte))?;
            match page[at] {
                b'>' => return Some((at + 1, false)),
                b'/' if *page.get(at + 1)? == b'>' => return Some((at + 2, true)),
                b'/' => {
                    at += 1;
                    continue;
                }
                _ => {}
            }
            let start = at;
            // A leading equals sign is part of the name.
            at += 1;
            at += page.get(at..)?.iter().position(|byte| is_space(*byte) || matches!(byte, b'/' | b'>' | b'='))?;
            let name = (start, at);
            at += page.get(at..)?.iter().position(|byte| !is_space(*byte))?;
            let mut value = (at, at);
            if page[at] == b'=' {
                at += 1;
                at += page.get(at..)?.iter().position(|byte| !is_space(*byte))?;
                match page[at] {
                    quote @ (b'"' | b'\'') => {
                        value = (at + 1, at + 1 + memchr(quote, &page[at + 1..])?);
                        at = value.1 + 1;
                    }
                    b'>' => value = (at, at),
                    _ => {
                        let length = page[at..].iter().position(|byte| is_space(*byte) || *byte == b'>')?;
                        value = (at, at + length);
                        at += length;
                    }
                }
            }
            if self.places.len() < MOST_ATTRIBUTES {
                self.places.push((name, value));
            }
        }
    }
}

/// Tokenizes a page.
pub(super) fn read(page: &[u8], sink: &mut impl TokenSink) {
    let mut attributes = Attributes { page, places: Vec::new() };
    let mut name = Vec::new();
    // The pending text begins at `from`.
    let (mut from, mut at) = (0, 0);
    while let Some(found) = memchr(b'<', &page[at..]) {
        let here = at + found;
        let Some(&next) = page.get(here + 1) else { break };
        let closes = next == b'/';
        let letter = if closes { page.get(here + 2).copied() } else { Some(next) };
        match letter {
            Some(letter) if letter.is_ascii_alphabetic() => {
                say(sink, &page[from..here]);
                let start = here + 1 + usize::from(closes);
                let length = page[start..].iter().position(|byte| is_space(*byte) || matches!(byte, b'/' | b'>'));
                let Some((end, self_closing)) = length.and_then(|length| attributes.read(start + length)) else {
                    return;
                };
                name.clear();
                name.extend(page[start..start + length.unwrap_or(0)].iter().map(u8::to_ascii_lowercase));
                at = end;
                if closes {
                    sink.close(&name);
                } else {
                    sink.at(here);
                    sink.open(&name, &attributes, self_closing);
                    at = raw_text(page, end, &name, sink);
                }
                from = at;
            }
            // "</" at the very end, or a lone "<", is text.
            None => break,
            Some(_) if closes || matches!(next, b'!' | b'?') => {
                say(sink, &page[from..here]);
                at = after_declaration(page, here);
                from = at;
            }
            Some(_) => at = here + 1,
        }
    }
    say(sink, &page[from..]);
}

fn say(sink: &mut impl TokenSink, text: &[u8]) {
    match memchr(b'&', text) {
        None if text.is_empty() => {}
        None => sink.text(text),
        Some(_) => sink.text(&htmlize::unescape_bytes_in(text, htmlize::Context::General)),
    }
}

/// Elements whose content is text up to their own end tag. Returns the start of that end tag.
fn raw_text(page: &[u8], at: usize, name: &[u8], sink: &mut impl TokenSink) -> usize {
    let end = match name {
        b"title" | b"textarea" | b"style" | b"xmp" | b"iframe" | b"noembed" | b"noframes" => end_tag(page, at, name),
        b"script" => end_of_script(page, at),
        b"plaintext" => page.len(),
        _ => return at,
    };
    let text = &page[at..end];
    match name {
        b"title" | b"textarea" => say(sink, text),
        _ if text.is_empty() => {}
        _ => sink.text(text),
    }
    end
}

/// The start of the next end tag with this name, or the end of the page.
fn end_tag(page: &[u8], at: usize, name: &[u8]) -> usize {
    let mut ends = memmem::find_iter(&page[at..], b"</").map(|found| at + found);
    ends.find(|end| is_tag(page, end + 2, name)).unwrap_or(page.len())
}

/// The end of a script, which may contain a comment, and a script element within that.
fn end_of_script(page: &[u8], mut at: usize) -> usize {
    let (mut in_comment, mut in_inner) = (false, false);
    while let Some(found) = memchr2(b'<', b'-', &page[at..]) {
        at += found;
        let rest = &page[at..];
        if !in_comment && rest.starts_with(b"<!--") {
            in_comment = true;
            at += 2;
        } else if in_comment && rest.starts_with(b"-->") {
            (in_comment, in_inner) = (false, false);
            at += 3;
        } else if rest.starts_with(b"</") && is_tag(page, at + 2, b"script") {
            if !in_inner {
                return at;
            }
            in_inner = false;
            at += 2;
        } else {
            in_inner |= in_comment && rest[0] == b'<' && is_tag(page, at + 1, b"script");
            at += 1;
        }
    }
    page.len()
}

fn is_tag(page: &[u8], at: usize, name: &[u8]) -> bool {
    let end = at + name.len();
    page.get(at..end).is_some_and(|found| found.eq_ignore_ascii_case(name))
        && page.get(end).is_some_and(|byte| is_space(*byte) || matches!(byte, b'/' | b'>'))
}

/// The end of a comment, a document type or anything else in `<!…>`, `<?…>` or `</…>`.
fn after_declaration(page: &[u8], at: usize) -> usize {
    let rest = &page[at..];
    let end = if rest.starts_with(b"<!--") {
        // The dashes that open a comment may also close it, but not together with an exclamation mark.
        let plain = memmem::find(&rest[2..], b"-->").map(|end| end + 5);
        let shouted = memmem::find(&rest[4..plain.unwrap_or(rest.len())], b"--!>").map(|end| end + 8);
        shouted.or(plain)
    } else {
        memchr(b'>', rest).map(|end| end + 1)
    };
    end.map_or(page.len(), |end| at + end)
}

fn is_space(byte: u8) -> bool {
    matches!(byte, b' ' | b'\n' | b'\t' | b'\r' | b'\x0c')
}

#[cfg(test)]
mod tests {
    use html5gum::emitters::callback::{CallbackEmitter, CallbackEvent};
    use html5gum::{Span, Tokenizer};
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    /// Tokens as text, with runs of text joined.
    #[derive(Default)]
    struct Written(String, bool);

    impl Written {
        fn token(&mut self, token: &str) {
            self.0 += token;
            self.1 = false;
        }

        fn chars(&mut self, text: &[u8]) {
            if !self.1 {
                self.0.push('\n');
            }
            self.0 += &String::from_utf8_lossy(text);
            self.1 = true;
        }
    }

    impl TokenSink for Written {
        fn open(&mut self, name: &[u8], attributes: &Attributes<'_>, self_closing: bool) {
            self.token(&format!("\n+{}", String::from_utf8_lossy(name)));
            let mut seen = Vec::new();
            for ((start, end), _) in &attributes.places {
                let name = String::from_utf8_lossy(&attributes.page[*start..*end]).to_ascii_lowercase();
                if !seen.contains(&name) {
                    self.token(&format!(" {name}={}", attributes.text(&name)));
                    seen.push(name);
                }
            }
            self.token(if self_closing { "/" } else { "" });
        }

        fn close(&mut self, name: &[u8]) {
            self.token(&format!("\n-{}", String::from_utf8_lossy(name)));
        }

        fn text(&mut self, text: &[u8]) {
            self.chars(text);
        }
    }

    fn ours(html: &str) -> String {
        let mut written = Written::default();
        read(html.as_bytes(), &mut written);
        written.0
    }

    /// The same by a tokenizer that follows the standard state by state.
    fn standard(html: &str) -> String {
        let mut written = Written::default();
        // A start tag counts once it is closed; the page may end before. End tags may have attributes, which are
        // ignored.
        let mut open: Option<(String, Vec<(String, String)>)> = None;
        let mut emitter: CallbackEmitter<_> = CallbackEmitter::new(|event: CallbackEvent<'_>, _: Span<()>| {
            let lossy = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
            match event {
                CallbackEvent::OpenStartTag { name } => open = Some((lossy(name), Vec::new())),
                CallbackEvent::AttributeName { name } => {
                    open.iter_mut().for_each(|(_, attributes)| attributes.push((lossy(name), String::new())));
                }
                CallbackEvent::AttributeValue { value } => {
                    if let Some((_, text)) = open.as_mut().and_then(|(_, attributes)| attributes.last_mut()) {
                        *text = lossy(value);
                    }
                }
                CallbackEvent::CloseStartTag { self_closing } => {
                    let (name, mut attributes) = open.take().unwrap();
                    let mut seen = Vec::new();
                    attributes.retain(|(name, _)| {
                        !seen.contains(name) && {
                            seen.push(name.clone());
                            true
                        }
                    });
                    written.token(&format!("\n+{name}"));
                    attributes.iter().for_each(|(name, value)| written.token(&format!(" {name}={}", value.trim())));
                    written.token(if self_closing { "/" } else { "" });
                }
                CallbackEvent::EndTag { name } => {
                    open = None;
                    written.token(&format!("\n-{}", lossy(name)));
                }
                CallbackEvent::String { value } => written.chars(value),
                CallbackEvent::Comment { .. } | CallbackEvent::Doctype { .. } => written.1 = false,
                CallbackEvent::Error(_) => {}
            }
            None
        });
        emitter.naively_switch_states(true);
        let Ok(_) = Tokenizer::new_with_emitter(html, emitter).finish();
        written.0
    }

    #[rstest]
    #[case("<p class=a ID='b' c = \"d&amp;e\" / f/>x &lt; y<br/></P >", "\n+p class=a id=b c=d&e f=/\nx < y\n+br/\n-p")]
    #[case("a<!-- <b> -->c<!-->d<!--->e<!--x--!>f", "\na\nc\nd\ne\nf")]
    #[case(
        "<script>if (a<b) '<p>' <!-- <script> </script> --></script>x",
        "\n+script\nif (a<b) '<p>' <!-- <script> </script> -->\n-script\nx"
    )]
    #[case("<title>a&amp;<b></title><style>&amp;<b></style>", "\n+title\na&<b>\n-title\n+style\n&amp;<b>\n-style")]
    #[case("1 < 2 <3 </ x>y</>z<", "\n1 < 2 <3 \ny\nz<")]
    #[case("<a href=x?a=1&copy=2&amp;b>", "\n+a href=x?a=1&copy=2&b")]
    #[case("<p><img src=a", "\n+p")]
    fn tokens_by_example(#[case] html: &str, #[case] wanted: &str) {
        // A comment within a run of text does not divide it for the sink.
        assert_eq!(ours(html).replace('\n', ""), wanted.replace('\n', ""));
    }

    proptest! {
        #![proptest_config(ProptestConfig::default())]
        #[test]
        fn tokens_match_the_standard(pieces in proptest::collection::vec(prop_oneof![
            Just("<"), Just(">"), Just("</"), Just("/"), Just("/>"), Just("="), Just("\""), Just("'"), Just(" "), Just("\n"), Just("!"),
            Just("-"), Just("--"), Just("<!--"), Just("-->"), Just("--!>"), Just("<!"), Just("<?"), Just("<!doctype html>"),
            Just("<p"), Just("<a "), Just("a"), Just("B"), Just("x=1"), Just("href='/y'"), Just("<script>"), Just("</script>"),
            Just("<SCRIPT"), Just("</script"), Just("<title>"), Just("</title>"), Just("<textarea>"), Just("</textarea "),
            Just("<style>"), Just("</style>"), Just("<iframe>"), Just("</iframe>"), Just("&amp;"), Just("&lt"), Just("&copy=1"), Just("&#38;"),
            Just("&#x2F;"), Just("&nosuch;"), Just("ŵ"),
        ], 0..24)) {
            let html = pieces.concat();
            prop_assert_eq!(ours(&html).replace('\n', ""), standard(&html).replace('\n', ""), "{}", html);
        }
    }
}
