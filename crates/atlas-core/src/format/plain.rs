//! Reading `url` elements that consist of plain bytes: an address and perhaps a date and hints, without attributes,
//! entities or comments. Most elements of most files are like this; the parser reads the others.

use std::borrow::Cow;

use super::raw::RawUrl;

/// The next element, if it is plain: where it begins, where it ends, and its contents without the line. Other elements,
/// and what is not in order, are left to the parser.
pub(super) fn plain_url(bytes: &[u8]) -> Option<(usize, usize, RawUrl<'_>)> {
    let mut at = Cursor { bytes, at: 0 };
    at.skip_space();
    let start = at.at;
    at.take(b"<url>")?;
    at.skip_space();
    let loc = at.element(b"<loc>", b"</loc>")?;
    let mut url = RawUrl { loc: Some(loc), ..RawUrl::default() };
    at.skip_space();
    if at.rest().starts_with(b"<lastmod>") {
        url.lastmod = Some(at.element(b"<lastmod>", b"</lastmod>")?);
        at.skip_space();
    }
    if at.rest().starts_with(b"<changefreq>") {
        url.changefreq = Some(at.element(b"<changefreq>", b"</changefreq>")?);
        at.skip_space();
    }
    if at.rest().starts_with(b"<priority>") {
        url.priority = Some(at.element(b"<priority>", b"</priority>")?);
        at.skip_space();
    }
    at.take(b"</url>")?;
    Some((start, at.at, url))
}

struct Cursor<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Cursor<'a> {
    fn rest(&self) -> &'a [u8] {
        &self.bytes[self.at..]
    }

    fn skip_space(&mut self) {
        while matches!(self.bytes.get(self.at), Some(b' ' | b'\n' | b'\r' | b'\t')) {
            self.at += 1;
        }
    }

    fn take(&mut self, expected: &[u8]) -> Option<()> {
        self.rest().starts_with(expected).then(|| self.at += expected.len())
    }

    /// An element whose text is ASCII without anything that has a meaning in XML.
    fn element(&mut self, open: &[u8], close: &[u8]) -> Option<Cow<'a, str>> {
        self.take(open)?;
        let length = memchr::memchr(b'<', self.rest())?;
        let text = &self.rest()[..length];
        let is_plain = |byte: &u8| matches!(byte, b' '..=b'~') && *byte != b'&' && *byte != b'>';
        if !text.iter().all(is_plain) {
            return None;
        }
        self.at += length;
        self.take(close)?;
        std::str::from_utf8(text).ok().map(|text| Cow::Borrowed(text.trim()))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::whole(
        " <url><loc>https://a.example/</loc><lastmod>2026-11-01</lastmod><changefreq>daily</changefreq><priority>0.5</priority></url>x",
        Some(("https://a.example/", Some("2026-11-01"), 1))
    )]
    #[case::spaced("<url>\n<loc> https://a.example/ </loc>\n</url>", Some(("https://a.example/", None, 0)))]
    #[case::entity("<url><loc>https://a.example/?a&amp;b</loc></url>", None)]
    #[case::raw_letters("<url><loc>https://a.example/â</loc></url>", None)]
    #[case::comment("<url><!-- x --><loc>https://a.example/</loc></url>", None)]
    #[case::attribute("<url><loc x=''>https://a.example/</loc></url>", None)]
    #[case::another_order("<url><lastmod>2026-11-01</lastmod><loc>https://a.example/</loc></url>", None)]
    #[case::picture("<url><loc>https://a.example/</loc><image:image/></url>", None)]
    #[case::cut_off("<url><loc>https://a.example/", None)]
    #[case::end("</urlset>", None)]
    fn plain_elements_are_read(#[case] text: &str, #[case] wanted: Option<(&str, Option<&str>, usize)>) {
        let found = plain_url(text.as_bytes());
        let found = found.as_ref().map(|(at, _, url)| (url.loc.as_deref().unwrap(), url.lastmod.as_deref(), *at));
        assert_eq!(found, wanted);
    }
}
