//! Finding a link on a page again: its line and its words.

use super::encoding;
use super::reading::folded;
use super::tokens::{self, Attributes, TokenSink};
use crate::address::{Address, Base};

/// A link on a page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkSpot {
    /// The line of its start tag, counted from 1.
    pub line: u64,
    /// Its words, white space folded; empty if it has none.
    pub words: String,
}

struct Finder<'f> {
    wanted: &'f dyn Fn(&Address, bool) -> bool,
    base: Option<Base>,
    at: usize,
    /// The position of the link that is open, and its words so far.
    open: Option<(usize, Vec<u8>)>,
    found: Vec<(usize, String)>,
}

impl Finder<'_> {
    fn end(&mut self) {
        if let Some((at, heard)) = self.open.take() {
            self.found.push((at, folded(&heard).unwrap_or_default()));
        }
    }
}

impl TokenSink for Finder<'_> {
    fn at(&mut self, position: usize) {
        self.at = position;
    }

    fn open(&mut self, tag: &[u8], attributes: &Attributes<'_>, _: bool) {
        match tag {
            b"base" => {
                let target = self.base.as_ref().and_then(|base| base.join(&attributes.text("href")).ok());
                self.base = target.and_then(|target| Base::of(&target).ok()).or(self.base.take());
            }
            b"a" | b"area" => {
                self.end();
                let href = attributes.text("href");
                let reference = href.split('#').next().unwrap_or("");
                let target = self.base.as_ref().and_then(|base| base.join(reference).ok());
                let nofollow =
                    attributes.text("rel").split_ascii_whitespace().any(|word| word.eq_ignore_ascii_case("nofollow"));
                if !reference.is_empty() && target.is_some_and(|target| (self.wanted)(&target, nofollow)) {
                    self.open = Some((self.at, Vec::new()));
                }
            }
            // A picture speaks by its alt.
            b"img" => {
                if let Some((_, heard)) = &mut self.open {
                    heard.extend_from_slice(attributes.text("alt").as_bytes());
                }
            }
            _ => {}
        }
    }

    fn close(&mut self, tag: &[u8]) {
        if tag == b"a" {
            self.end();
        }
    }

    fn text(&mut self, text: &[u8]) {
        if let Some((_, heard)) = &mut self.open {
            heard.extend_from_slice(text);
        }
    }
}

/// The links of a page at `address` that are wanted, by their target and whether they are marked nofollow.
///
/// ```
/// use atlas_core::address::Address;
/// use atlas_core::page::{LinkSpot, link_spots};
///
/// let page = b"<p>\n<a href='/old/'>The old\n <b>timetable</b></a>";
/// let here = Address::parse("https://www.marrowvale.example/").unwrap();
/// let found = link_spots(page, &here, &|target, _| target.path() == "/old/");
/// assert_eq!(found, [LinkSpot { line: 2, words: "The old timetable".into() }]);
/// ```
pub fn link_spots(bytes: &[u8], address: &Address, wanted: &dyn Fn(&Address, bool) -> bool) -> Vec<LinkSpot> {
    let Ok(text) = encoding::decode(bytes) else { return Vec::new() };
    let mut finder = Finder { wanted, base: Base::of(address).ok(), at: 0, open: None, found: Vec::new() };
    tokens::read(&text, &mut finder);
    finder.end();
    let line = |at: usize| memchr::memchr_iter(b'\n', &text[..at]).count() as u64 + 1;
    finder.found.into_iter().map(|(at, words)| LinkSpot { line: line(at), words }).collect()
}
