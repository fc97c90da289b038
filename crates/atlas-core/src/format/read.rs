//! Reading `urlset` and `sitemapindex` files, forgivingly: the contents of an element are passed on as found, for the
//! caller to judge.

use std::borrow::Cow;

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};
use quick_xml::name::{NamespaceResolver, ResolveResult};
use thiserror::Error;

use super::elements::{Element, VideoElement, WITHDRAWN_OF_PLAYER, may_repeat, rank, recognise};
use super::oddity::{Oddity, OddityKind};
use super::plain::plain_url;
use super::raw::{RawNews, RawSitemap, RawUrl, RawVideo, VideoText};
use super::urlset::Frame;
use super::well_formed::{fault, resolved};
use super::{IMAGE, NEWS, SITEMAP, VIDEO, XHTML};
use crate::language::Alternate;

/// The longest text of one element that is kept, in bytes. The rest is skipped.
const LONGEST_TEXT: usize = 64 * 1024;
/// The most pictures or videos of one URL that are kept. One more than the format allows is enough to judge.
const MOST_MEDIA: usize = 1001;
/// The most elements of one video that are kept.
const MOST_OF_VIDEO: usize = 100;
/// The most oddities of one URL that are kept.
const MOST_ODDITIES: usize = 20;

/// Why a file cannot be read to its end.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum ReadError {
    /// Something comes before `<?xml`, even a blank line.
    #[error("something precedes the XML declaration")]
    TextBeforeDeclaration,
    /// It is not well-formed XML.
    #[error("line {line}: {why}")]
    NotWellFormed {
        /// The line, counted from 1.
        line: u64,
        /// The parser's reason.
        why: String,
    },
    /// Its root is neither `urlset` nor `sitemapindex`.
    #[error("its root element is “{0}”, not urlset or sitemapindex")]
    OtherRoot(String),
    /// The root element is right but in no namespace or in another.
    #[error("its root element is not in the namespace {SITEMAP}")]
    OtherNamespace,
}

/// The kind of document.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Document {
    /// A `urlset`.
    Urlset,
    /// A `sitemapindex`.
    Index,
}

/// Takes what is found in a file, in its order.
pub trait SitemapVisitor<'a> {
    /// A `url` element.
    fn url(&mut self, url: RawUrl<'a>);

    /// A `sitemap` element.
    fn sitemap(&mut self, sitemap: RawSitemap<'a>);

    /// An odd element that is in neither.
    fn oddity(&mut self, oddity: Oddity);
}

/// Passes `url` and `sitemap` elements to closures.
struct Closures<U, S>(U, S);

impl<'a, U: FnMut(RawUrl<'a>), S: FnMut(RawSitemap<'a>)> SitemapVisitor<'a> for Closures<U, S> {
    fn url(&mut self, url: RawUrl<'a>) {
        (self.0)(url);
    }

    fn sitemap(&mut self, sitemap: RawSitemap<'a>) {
        (self.1)(sitemap);
    }

    fn oddity(&mut self, _: Oddity) {}
}

/// Reads one `url` element of a file that [`UrlsetWriter`](super::UrlsetWriter) wrote, without the file's frame.
/// Returns `None` if it is not one.
pub fn read_element(element: &[u8]) -> Option<RawUrl<'static>> {
    let file = [&Frame::ALL.open(None), element, Frame::CLOSE].concat();
    let mut found = None;
    read(&file, |url| found = Some(url.into_owned()), |_| ()).ok()?;
    found
}

/// Reads a file and passes each `url` or `sitemap` element to the caller; returns the kind of document. Memory use does
/// not grow with the file. Source: sitemaps protocol 0.9, and the image, video and news extensions.
///
/// # Errors
///
/// Returns a [`ReadError`] if the file is not a well-formed sitemap. Elements before the error have been passed on.
pub fn read<'a>(
    bytes: &'a [u8],
    on_url: impl FnMut(RawUrl<'a>),
    on_sitemap: impl FnMut(RawSitemap<'a>),
) -> Result<Document, ReadError> {
    visit(bytes, &mut Closures(on_url, on_sitemap))
}

/// As [`read`], for a visitor that is told of odd elements as well.
///
/// # Errors
///
/// As [`read`].
pub fn visit<'a>(bytes: &'a [u8], visitor: &mut impl SitemapVisitor<'a>) -> Result<Document, ReadError> {
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    let content = bytes.trim_ascii_start();
    if content.len() < bytes.len() && content.starts_with(b"<?xml") {
        return Err(ReadError::TextBeforeDeclaration);
    }
    let mut reader = Reader::from_reader(bytes);
    reader.config_mut().expand_empty_elements = true;
    reader.config_mut().check_comments = true;
    let mut file = Reading { lines: LineCount::of(bytes), ..Reading::default() };
    let mut after_tag = false;
    loop {
        if after_tag && file.is_between_urls() {
            file.plain_urls(&mut reader, visitor);
        }
        let at = reader.buffer_position() + file.skipped;
        let event = reader.read_event();
        let event = event.map_err(|error| file.broken(reader.error_position() + file.skipped, error.to_string()))?;
        // After a text, the parser has already seen the beginning of what follows.
        after_tag = matches!(event, Event::Start(_) | Event::End(_));
        if let Some(why) = fault(&event, at, file.open.len(), file.kind.is_some()) {
            return Err(file.broken(at, why));
        }
        match event {
            Event::Start(tag) => file.start(&tag, at, visitor)?,
            Event::End(_) => file.end(visitor),
            Event::Text(part) => file.text(part.decode().unwrap_or_default()),
            Event::CData(part) => file.text(part.decode().unwrap_or_default()),
            Event::GeneralRef(reference) => file.text(resolved(&reference).unwrap_or_default()),
            Event::Eof => return file.kind.ok_or_else(|| file.broken(at, "it contains no element".to_owned())),
            _ => {}
        }
    }
}

/// A file that is being read.
#[derive(Default)]
struct Reading<'a> {
    lines: LineCount<'a>,
    /// The number of bytes that the parser did not see.
    skipped: u64,
    namespaces: NamespaceResolver,
    kind: Option<Document>,
    /// Whether elements of the protocol have no prefix.
    unprefixed: bool,
    /// The elements that are open, and what has been met in each.
    open: Vec<(Element, Siblings)>,
    url: RawUrl<'a>,
    sitemap: RawSitemap<'a>,
    text: Cow<'a, str>,
    /// The attribute that belongs to the element of a video.
    detail: Option<String>,
}

/// What has been met in an element: the highest rank, and which ranks, as bits.
#[derive(Debug, Clone, Copy, Default)]
struct Siblings {
    highest: u8,
    ranks: u32,
}

impl<'a> Reading<'a> {
    fn broken(&mut self, position: u64, why: String) -> ReadError {
        ReadError::NotWellFormed { line: self.lines.at(position), why }
    }

    fn is_between_urls(&self) -> bool {
        self.unprefixed && self.open.len() == 1
    }

    /// Reads elements that consist of plain bytes, as most do, without the parser.
    fn plain_urls(&mut self, reader: &mut Reader<&'a [u8]>, visitor: &mut impl SitemapVisitor<'a>) {
        let rest: &'a [u8] = reader.get_ref();
        let start = reader.buffer_position() + self.skipped;
        let mut taken = 0;
        while let Some((at, length, mut url)) = plain_url(&rest[taken..]) {
            url.line = self.lines.at(start + (taken + at) as u64);
            visitor.url(url);
            taken += length;
        }
        *reader.get_mut() = &rest[taken..];
        self.skipped += taken as u64;
    }

    fn start(&mut self, tag: &BytesStart<'a>, at: u64, visitor: &mut impl SitemapVisitor<'a>) -> Result<(), ReadError> {
        self.namespaces.push(tag).map_err(|why| self.broken(at, why.to_string()))?;
        let (namespace, name) = self.namespaces.resolve_element(tag.name());
        let namespace = match namespace {
            ResolveResult::Bound(namespace) => known_namespace(namespace.into_inner()),
            _ => "",
        };
        let parent = self.open.last().map(|(element, _)| *element);
        let (element, odd) = recognise(parent, namespace, name.as_ref());
        if let Some(kind) = odd.or_else(|| self.out_of_place(element)) {
            self.odd(tag.name().as_ref(), at, kind, visitor);
        }
        match element {
            Element::Root => {
                self.kind = Some(root(namespace, name.as_ref())?);
                self.unprefixed = tag.name().prefix().is_none() && self.kind == Some(Document::Urlset);
            }
            Element::Url => self.url = RawUrl { line: self.lines.at(at), ..RawUrl::default() },
            Element::Sitemap => self.sitemap = RawSitemap { line: self.lines.at(at), ..RawSitemap::default() },
            Element::Image if self.url.images.len() < MOST_MEDIA => self.url.images.push(Cow::Borrowed("")),
            Element::Video if self.url.videos.len() < MOST_MEDIA => self.url.videos.push(RawVideo::default()),
            Element::Alternate if self.url.alternates.len() < MOST_MEDIA => {
                self.url.alternates.extend(alternate(tag));
            }
            Element::News => self.url.news = Some(RawNews::default()),
            Element::OfVideo(of) => {
                self.detail = attribute(tag, if of == VideoElement::Uploader { "info" } else { "relationship" });
                if of == VideoElement::Player {
                    for name in WITHDRAWN_OF_PLAYER.into_iter().filter(|name| attribute(tag, name).is_some()) {
                        self.odd(name.as_bytes(), at, OddityKind::Withdrawn, visitor);
                    }
                }
            }
            _ => {}
        }
        self.text = Cow::Borrowed("");
        self.open.push((element, Siblings::default()));
        Ok(())
    }

    /// Whether an element comes too late, or once too often.
    fn out_of_place(&mut self, element: Element) -> Option<OddityKind> {
        let rank = rank(element)?;
        let (_, met) = self.open.last_mut()?;
        let is_repeated = met.ranks & 1 << rank != 0 && !may_repeat(element);
        let is_late = rank < met.highest;
        met.ranks |= 1 << rank;
        met.highest = met.highest.max(rank);
        match (is_repeated, is_late) {
            (true, _) => Some(OddityKind::Repeated),
            (_, true) => Some(OddityKind::OutOfOrder),
            _ => None,
        }
    }

    fn odd(&mut self, name: &[u8], at: u64, kind: OddityKind, visitor: &mut impl SitemapVisitor<'a>) {
        let name = String::from_utf8_lossy(&name[..name.len().min(80)]).into_owned();
        let oddity = Oddity { line: self.lines.at(at), name, kind };
        let is_in = |wanted| self.open.iter().any(|(element, _)| *element == wanted);
        let oddities = match (is_in(Element::Url), is_in(Element::Sitemap)) {
            (true, _) => &mut self.url.oddities,
            (_, true) => &mut self.sitemap.oddities,
            _ => return visitor.oddity(oddity),
        };
        if oddities.len() < MOST_ODDITIES {
            oddities.push(oddity);
        }
    }

    fn end(&mut self, visitor: &mut impl SitemapVisitor<'a>) {
        let text = trimmed(std::mem::take(&mut self.text));
        self.namespaces.pop();
        match self.open.pop().map(|(element, _)| element) {
            Some(Element::Url) => visitor.url(std::mem::take(&mut self.url)),
            Some(Element::Sitemap) => visitor.sitemap(std::mem::take(&mut self.sitemap)),
            Some(element) => self.put(element, text),
            None => {}
        }
    }

    /// Stores the text of an element. Of several, the first counts.
    fn put(&mut self, element: Element, text: Cow<'a, str>) {
        let in_index = self.open.last().is_some_and(|(element, _)| *element == Element::Sitemap);
        let (url, sitemap) = (&mut self.url, &mut self.sitemap);
        let mut news = url.news.as_mut();
        let place = match element {
            Element::Loc if in_index => &mut sitemap.loc,
            Element::Loc => &mut url.loc,
            Element::Lastmod if in_index => &mut sitemap.lastmod,
            Element::Lastmod => &mut url.lastmod,
            Element::Changefreq => &mut url.changefreq,
            Element::Priority => &mut url.priority,
            Element::ImageLoc => {
                if let Some(image) = url.images.last_mut().filter(|image| image.is_empty()) {
                    *image = text;
                }
                return;
            }
            Element::OfVideo(element) => {
                let detail = self.detail.take();
                if let Some(video) = url.videos.last_mut().filter(|video| video.elements.len() < MOST_OF_VIDEO) {
                    video.elements.push(VideoText { element, text, detail });
                }
                return;
            }
            Element::NewsName | Element::NewsLanguage | Element::NewsDate | Element::NewsTitle => {
                let Some(news) = news.as_mut() else { return };
                match element {
                    Element::NewsName => &mut news.publication,
                    Element::NewsLanguage => &mut news.language,
                    Element::NewsDate => &mut news.published,
                    _ => &mut news.title,
                }
            }
            _ => return,
        };
        place.get_or_insert(text);
    }

    fn text(&mut self, more: Cow<'a, str>) {
        if self.text.is_empty() {
            self.text = if more.len() <= LONGEST_TEXT { more } else { Cow::Borrowed("") };
        } else if self.text.len() + more.len() <= LONGEST_TEXT {
            self.text.to_mut().push_str(&more);
        }
    }
}

/// A text without white space around it.
fn trimmed(text: Cow<'_, str>) -> Cow<'_, str> {
    match text {
        Cow::Borrowed(text) => Cow::Borrowed(text.trim()),
        Cow::Owned(text) => Cow::Owned(text.trim().to_owned()),
    }
}

fn root(namespace: &str, name: &[u8]) -> Result<Document, ReadError> {
    let kind = match name {
        b"urlset" => Document::Urlset,
        b"sitemapindex" => Document::Index,
        other => return Err(ReadError::OtherRoot(String::from_utf8_lossy(&other[..other.len().min(60)]).into_owned())),
    };
    if namespace == SITEMAP { Ok(kind) } else { Err(ReadError::OtherNamespace) }
}

/// A namespace of the protocol or an extension; another word for all others.
fn known_namespace(namespace: &[u8]) -> &'static str {
    let known = [SITEMAP, IMAGE, VIDEO, NEWS, XHTML].into_iter().find(|known| known.as_bytes() == namespace);
    known.unwrap_or(if namespace.is_empty() { "" } else { "other" })
}

/// The value of an attribute without a namespace.
fn attribute(tag: &BytesStart<'_>, name: &str) -> Option<String> {
    let attribute = tag.try_get_attribute(name).ok().flatten()?;
    let value = attribute.normalized_value(quick_xml::XmlVersion::Implicit1_0).ok()?;
    (value.len() <= LONGEST_TEXT).then(|| value.trim().to_owned())
}

/// A link to a translation. What it lacks is empty.
fn alternate(tag: &BytesStart<'_>) -> Option<Alternate<'static>> {
    attribute(tag, "rel").filter(|rel| rel == "alternate")?;
    let part = |name| attribute(tag, name).unwrap_or_default().into();
    Some(Alternate { language: part("hreflang"), url: part("href") })
}

/// The line numbers of ascending positions, which looks at each byte once.
#[derive(Default)]
pub(super) struct LineCount<'a> {
    bytes: &'a [u8],
    counted: usize,
    line: u64,
}

impl<'a> LineCount<'a> {
    pub(super) fn of(bytes: &'a [u8]) -> Self {
        Self { bytes, counted: 0, line: 1 }
    }

    pub(super) fn at(&mut self, position: u64) -> u64 {
        let position = usize::try_from(position).unwrap_or(usize::MAX).min(self.bytes.len());
        if position > self.counted {
            let newlines = memchr::memchr_iter(b'\n', &self.bytes[self.counted..position]).count();
            self.line += newlines as u64;
            self.counted = position;
        }
        self.line
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn urls(bytes: &[u8]) -> Result<Vec<RawUrl<'_>>, ReadError> {
        let mut urls = Vec::new();
        read(bytes, |url| urls.push(url), |_| ()).map(|_| urls)
    }

    const OPEN: &str = "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">";

    #[rstest]
    #[case::blank_line("\n<?xml version=\"1.0\"?><urlset/>".into(), "precedes the XML declaration")]
    #[case::cut_off(format!("{OPEN}<url><loc>https://"), "line 1")]
    #[case::mismatch(format!("{OPEN}\n<url></loc></url></urlset>"), "line 2")]
    #[case::entity(format!("{OPEN}<url><loc>&lamp;</loc></url></urlset>"), "&lamp;")]
    #[case::html("<html><body></body></html>".into(), "“html”")]
    #[case::no_namespace("<urlset></urlset>".into(), "namespace")]
    #[case::two_roots(format!("{OPEN}</urlset>{OPEN}</urlset>"), "second root")]
    #[case::nothing(String::new(), "no element")]
    #[case::text("lamp oil".into(), "outside the root")]
    #[case::declaration(format!("<?xml version=\"1.0\"\"?>{OPEN}</urlset>"), "declaration")]
    #[case::declaration_order(format!("<?xml encoding='utf-8' version='1.0'?>{OPEN}</urlset>"), "declaration")]
    fn says_why_a_file_cannot_be_read(#[case] file: String, #[case] why: &str) {
        let message = urls(file.as_bytes()).unwrap_err().to_string();
        assert!(message.contains(why), "{message}");
    }

    #[test]
    fn reads_other_writers_files() {
        let file = "\u{feff}<?xml version='1.0'?>\n<s:urlset xmlns:s='http://www.sitemaps.org/schemas/sitemap/0.9'
            xmlns:i='http://www.google.com/schemas/sitemap-image/1.1'><!-- x -->
            <s:url><s:loc> <![CDATA[https://www.marrowvale.example/?a&b]]> </s:loc><s:lastmod>2026-11</s:lastmod>
            <i:image><i:loc>https://cdn.example/a.svg</i:loc><i:caption>x</i:caption></i:image><other>y</other></s:url>
            <s:url/></s:urlset>";
        let urls = urls(file.as_bytes()).unwrap();
        assert_eq!(urls[0].loc.as_deref(), Some("https://www.marrowvale.example/?a&b"));
        assert_eq!((urls[0].line, urls[1].line), (4, 6));
        assert_eq!(urls[0].images, ["https://cdn.example/a.svg"]);
        assert_eq!(urls[1].loc, None);
    }

    /// An element of an extension whose namespace is missing is not read, and neither is one of the protocol in another
    /// namespace. What no standard defines is passed over in silence.
    #[rstest]
    #[case::undeclared(
        "<image:image><image:loc>https://www.marrowvale.example/a.svg</image:loc></image:image>",
        Some("image:image")
    )]
    #[case::no_prefix("<image><loc>https://www.marrowvale.example/a.svg</loc></image>", Some("image"))]
    #[case::wrong(
        "<v:video xmlns:v='https://www.marrowvale.example/video'><v:title>Cab</v:title></v:video>",
        Some("v:video")
    )]
    #[case::of_the_protocol("<lastmod xmlns=''>2026-11-05</lastmod>", Some("lastmod"))]
    #[case::translation("<xhtml:link rel='alternate' hreflang='cy' href='/cy/'/>", Some("xhtml:link"))]
    #[case::within_news(
        "<n:news xmlns:n='http://www.google.com/schemas/sitemap-news/0.9'><title>Cab</title></n:news>",
        Some("title")
    )]
    #[case::of_another_extension("<a:link xmlns:a='http://www.w3.org/2005/Atom' href='/halts.xml'/>", None)]
    #[case::another_standard("<pagemap><loc>https://www.marrowvale.example/b/</loc></pagemap>", None)]
    #[case::right("<i:image xmlns:i='http://www.google.com/schemas/sitemap-image/1.1'/>", None)]
    fn elements_outside_their_namespace_are_named(#[case] element: &str, #[case] wanted: Option<&str>) {
        let file = format!("{OPEN}<url><loc>https://www.marrowvale.example/halts/</loc>{element}</url></urlset>");
        let urls = urls(file.as_bytes()).unwrap();
        assert_eq!(urls[0].misplaced(), wanted);
        assert_eq!(urls[0].loc.as_deref(), Some("https://www.marrowvale.example/halts/"));
        let pictures = urls[0].images.iter().filter(|image| !image.is_empty()).count();
        assert_eq!((&urls[0].lastmod, pictures, urls[0].videos.len()), (&None, 0, 0));
    }
}
