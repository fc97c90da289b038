//! Reading the other forms of a sitemap: feeds (RSS 2.0, Atom 1.0) and plain text with one URL a line (sitemaps protocol
//! 0.9, "other sitemap formats").

use std::borrow::Cow;

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

use super::raw::RawUrl;
use super::read::{LineCount, ReadError};
use super::well_formed::{fault, resolved};

/// The form of a feed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Feed {
    /// RSS 2.0, or an earlier version.
    Rss,
    /// Atom 1.0.
    Atom,
}

/// Reads a feed and passes on its items as entries: `link` and `pubDate` or `date`, or `link` and `updated`.
///
/// # Errors
///
/// Returns a [`ReadError`] if the file is not a well-formed feed. Items before the error have been passed on.
pub fn read_feed<'a>(bytes: &'a [u8], mut on_url: impl FnMut(RawUrl<'a>)) -> Result<Feed, ReadError> {
    let mut reader = Reader::from_reader(bytes);
    reader.config_mut().expand_empty_elements = true;
    reader.config_mut().check_comments = true;
    let mut lines = LineCount::of(bytes);
    let mut feed = None;
    // The depth, that of the open item, and the item itself.
    let (mut depth, mut item_depth, mut item) = (0u32, None, RawUrl::default());
    let mut text = String::new();
    loop {
        let at = reader.buffer_position();
        let event = reader.read_event();
        let position = if event.is_err() { reader.error_position() } else { at };
        let mut broken = |why: String| ReadError::NotWellFormed { line: lines.at(position), why };
        let event = event.map_err(|error| broken(error.to_string()))?;
        if let Some(why) = fault(&event, at, depth as usize, feed.is_some()) {
            return Err(broken(why));
        }
        match event {
            Event::Start(tag) => {
                depth += 1;
                text.clear();
                let name = tag.local_name();
                match (feed, name.as_ref()) {
                    (None, b"rss" | b"RDF") => feed = Some(Feed::Rss),
                    (None, b"feed") => feed = Some(Feed::Atom),
                    (None, other) => {
                        return Err(ReadError::OtherRoot(String::from_utf8_lossy(other).into_owned()));
                    }
                    (Some(_), b"item" | b"entry") if item_depth.is_none() => {
                        item = RawUrl { line: lines.at(at), ..RawUrl::default() };
                        item_depth = Some(depth);
                    }
                    (Some(Feed::Atom), b"link") if item_depth == Some(depth - 1) => {
                        if let Some(target) = alternate(&tag) {
                            item.loc.get_or_insert(target.into());
                        }
                    }
                    _ => {}
                }
            }
            Event::End(tag) => {
                let is_of_item = item_depth.is_some_and(|item| item == depth - 1);
                let value =
                    || Some(text.trim()).filter(|text| !text.is_empty()).map(|text| Cow::Owned(text.to_owned()));
                match (feed, tag.local_name().as_ref()) {
                    (Some(Feed::Rss), b"link") if is_of_item => item.loc = item.loc.take().or_else(value),
                    (Some(Feed::Rss), b"pubDate" | b"date") if is_of_item => item.lastmod = value(),
                    (Some(Feed::Atom), b"updated") if is_of_item => item.lastmod = value(),
                    _ if item_depth == Some(depth) => {
                        on_url(std::mem::take(&mut item));
                        item_depth = None;
                    }
                    _ => {}
                }
                depth -= 1;
                text.clear();
            }
            Event::Text(part) => text += &part.decode().unwrap_or_default(),
            Event::CData(part) => text += &part.decode().unwrap_or_default(),
            Event::GeneralRef(reference) => text += &resolved(&reference).unwrap_or_default(),
            Event::Eof => return feed.ok_or_else(|| broken("it contains no element".to_owned())),
            _ => {}
        }
        text.truncate(text.floor_char_boundary(4096));
    }
}

/// The target of an Atom link to the page itself (RFC 4287 section 4.2.7.2).
fn alternate(tag: &BytesStart<'_>) -> Option<String> {
    let value = |name: &str| {
        let attribute = tag.try_get_attribute(name).ok().flatten()?;
        Some(attribute.normalized_value(quick_xml::XmlVersion::Implicit1_0).ok()?.trim().to_owned())
    };
    let is_page = value("rel").is_none_or(|rel| rel == "alternate");
    value("href").filter(|_| is_page)
}

/// The lines of a text file as entries; blank lines are skipped.
pub fn read_lines(bytes: &[u8]) -> impl Iterator<Item = RawUrl<'_>> {
    let lines = bytes.split(|byte| *byte == b'\n').zip(1..);
    lines.filter(|(text, _)| !text.trim_ascii().is_empty()).map(|(text, line)| RawUrl {
        line,
        loc: Some(String::from_utf8_lossy(text.trim_ascii())),
        ..RawUrl::default()
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::rss(
        "<rss><channel><link>https://a.example/</link><item><title>A &amp; B</title><link>https://a.example/1</link>\n<pubDate>Mon, 23 Nov 2026 07:07:29 GMT</pubDate></item></channel></rss>",
        Ok(Feed::Rss),
        "https://a.example/1 Mon, 23 Nov 2026 07:07:29 GMT"
    )]
    #[case::atom(
        "<feed xmlns='http://www.w3.org/2005/Atom'><link href='/'/><entry><link rel='edit' href='x'/><link href='https://a.example/?a&amp;b'/><author><updated>no</updated></author><updated>2026-11-23</updated></entry></feed>",
        Ok(Feed::Atom),
        "https://a.example/?a&b 2026-11-23"
    )]
    #[case::page("<html/>", Err("html"), "")]
    #[case::entity("<rss><channel><title>a &nbsp; b</title></channel></rss>", Err("&nbsp;"), "")]
    #[case::cut_off("<rss><channel>", Err("ends in the middle"), "")]
    fn feeds_are_read(#[case] text: &str, #[case] wanted: Result<Feed, &str>, #[case] first: &str) {
        let mut urls = Vec::new();
        let read = read_feed(text.as_bytes(), |url| urls.push(url));
        match wanted {
            Ok(feed) => assert_eq!(read, Ok(feed)),
            Err(why) => assert!(read.unwrap_err().to_string().contains(why)),
        }
        let told = |url: &RawUrl<'_>| {
            format!("{} {}", url.loc.as_deref().unwrap_or_default(), url.lastmod.as_deref().unwrap_or_default())
        };
        assert_eq!(urls.first().map(told).unwrap_or_default(), first);
    }

    #[test]
    fn lines_are_urls() {
        let lines: Vec<_> = read_lines(b"https://a.example/\r\n\n x \n").collect();
        assert_eq!(
            lines.iter().map(|url| (url.line, url.loc.as_deref().unwrap())).collect::<Vec<_>>(),
            [(1, "https://a.example/"), (3, "x")]
        );
    }
}
