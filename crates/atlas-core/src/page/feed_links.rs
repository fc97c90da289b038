//! The feeds that a page names.

use super::tokens::{self, Attributes, TokenSink};

/// Media types of feeds.
const FEEDS: [&str; 3] = ["application/rss+xml", "application/atom+xml", "application/feed+json"];

/// What the `link` elements of a page name as feeds, as written (HTML Living Standard, section 4.6.7.1).
pub fn feed_links(page: &[u8]) -> Vec<String> {
    let mut links = FeedLinks::default();
    tokens::read(page, &mut links);
    links.0
}

#[derive(Default)]
struct FeedLinks(Vec<String>);

impl TokenSink for FeedLinks {
    fn open(&mut self, tag: &[u8], attributes: &Attributes<'_>, _self_closing: bool) {
        if tag != b"link" {
            return;
        }
        let is_alternate =
            attributes.text("rel").split_ascii_whitespace().any(|word| word.eq_ignore_ascii_case("alternate"));
        let kind = attributes.text("type").to_ascii_lowercase();
        let href = attributes.text("href");
        if is_alternate && FEEDS.contains(&kind.trim()) && !href.is_empty() {
            self.0.push(href.into_owned());
        }
    }

    fn close(&mut self, _tag: &[u8]) {}

    fn text(&mut self, _text: &[u8]) {}
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn feeds_are_found() {
        let page = br#"<link rel="stylesheet" href="a.css"><link rel=alternate type="application/rss+xml" href="/feed.xml"><link rel=alternate hreflang=cy href="/cy/"><link rel="home ALTERNATE" type="Application/Atom+XML" href="atom">"#;
        assert_eq!(feed_links(page), ["/feed.xml", "atom"]);
    }
}
