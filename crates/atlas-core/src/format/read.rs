//! Reading `urlset` and `sitemapindex` files, forgivingly: the contents of an element are passed on as found, for the
//! caller to judge.

use quick_xml::NsReader;
use quick_xml::events::{BytesStart, Event};
use quick_xml::name::ResolveResult;
use thiserror::Error;

use super::raw::{RawSitemap, RawUrl};
use super::urlset::Frame;
use super::{IMAGE, NEWS, SITEMAP, VIDEO, XHTML};
use crate::language::Alternate;
use crate::video::{Access, MOST_TAGS, Video, read_yes_or_no};

/// The longest text of one element that is kept, in bytes. The rest is skipped.
const LONGEST_TEXT: usize = 64 * 1024;
/// The most pictures or videos of one URL that are kept. One more than the format allows is enough to judge.
const MOST_MEDIA: usize = 1001;

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

/// Reads one `url` element of a file that [`UrlsetWriter`](super::UrlsetWriter) wrote, without the file's frame.
/// Returns `None` if it is not one.
pub fn read_element(element: &[u8]) -> Option<RawUrl> {
    let file = [&Frame::ALL.open(None), element, Frame::CLOSE].concat();
    let mut found = None;
    read(&file, |url| found = Some(url), |_| ()).ok()?;
    found
}

/// Reads a file and passes each `url` or `sitemap` element to the caller; returns the kind of document. Memory use does
/// not grow with the file. Source: sitemaps protocol 0.9, and the image, video and news extensions.
///
/// # Errors
///
/// Returns a [`ReadError`] if the file is not a well-formed sitemap. Elements before the error have been passed on.
pub fn read(
    bytes: &[u8],
    mut on_url: impl FnMut(RawUrl),
    mut on_sitemap: impl FnMut(RawSitemap),
) -> Result<Document, ReadError> {
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    let content = bytes.trim_ascii_start();
    if content.len() < bytes.len() && content.starts_with(b"<?xml") {
        return Err(ReadError::TextBeforeDeclaration);
    }
    let mut reader = NsReader::from_reader(bytes);
    reader.config_mut().expand_empty_elements = true;
    let mut lines = LineCount { bytes, counted: 0, line: 1 };
    let mut kind = None;
    let mut open: Vec<Element> = Vec::new();
    let mut url = RawUrl::default();
    let mut sitemap = RawSitemap::default();
    let mut text = String::new();
    let mut detail = String::new();
    loop {
        let at = reader.buffer_position();
        let event = reader.read_event();
        let position = if event.is_err() { reader.error_position() } else { at };
        let mut broken = |why: String| ReadError::NotWellFormed { line: lines.at(position), why };
        match event.map_err(|error| broken(error.to_string()))? {
            Event::Start(tag) => {
                let part = part_of(&reader, &tag, &open);
                match part {
                    Element::Root if kind.is_some() => return Err(broken("a second root element".to_owned())),
                    Element::Root => kind = Some(root(&reader, &tag)?),
                    Element::Url => url = RawUrl { line: lines.at(at), ..RawUrl::default() },
                    Element::Sitemap => sitemap = RawSitemap { line: lines.at(at), ..RawSitemap::default() },
                    Element::Video if url.videos.len() < MOST_MEDIA => url.videos.push(Video::default()),
                    Element::Alternate if url.alternates.len() < MOST_MEDIA => url.alternates.extend(alternate(&tag)),
                    Element::Misplaced => {
                        url.misplaced.get_or_insert_with(|| String::from_utf8_lossy(tag.name().as_ref()).into_owned());
                    }
                    Element::OfVideo(_) => {
                        detail = attribute(&tag, "relationship").or(attribute(&tag, "info")).unwrap_or_default()
                    }
                    _ => {}
                }
                text.clear();
                open.push(part);
            }
            Event::End(_) => {
                match open.pop() {
                    Some(Element::Url) => on_url(std::mem::take(&mut url)),
                    Some(Element::Sitemap) => on_sitemap(std::mem::take(&mut sitemap)),
                    Some(Element::OfVideo(element)) if url.videos.len() <= MOST_MEDIA => {
                        put_video(element, text.trim(), &detail, url.videos.last_mut());
                    }
                    Some(part) => put(part, &open, text.trim(), &mut url, &mut sitemap),
                    None => {}
                }
                text.clear();
            }
            Event::Text(part) => {
                push(&mut text, &part.decode().map_err(|error| broken(error.to_string()))?);
                if open.is_empty() && !text.trim().is_empty() {
                    return Err(broken("text outside the root element".to_owned()));
                }
            }
            Event::CData(part) => push(&mut text, &part.decode().map_err(|error| broken(error.to_string()))?),
            Event::GeneralRef(reference) => {
                let name = reference.decode().map_err(|error| broken(error.to_string()))?;
                let letter = match reference.resolve_char_ref() {
                    Ok(Some(letter)) => letter,
                    Ok(None) => named(&name).ok_or_else(|| broken(format!("unknown entity “&{name};”")))?,
                    Err(error) => return Err(broken(error.to_string())),
                };
                push(&mut text, letter.encode_utf8(&mut [0; 4]));
            }
            Event::Eof if !open.is_empty() => {
                return Err(broken("the file ends in the middle of an element".to_owned()));
            }
            Event::Eof => return kind.ok_or_else(|| broken("it contains no element".to_owned())),
            _ => {}
        }
    }
}

/// The known elements, by where they occur.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Element {
    Root,
    Url,
    Sitemap,
    Loc,
    Lastmod,
    Changefreq,
    Priority,
    Image,
    ImageLoc,
    Video,
    OfVideo(VideoElement),
    Alternate,
    News,
    NewsPublication,
    NewsName,
    NewsLanguage,
    NewsDate,
    NewsTitle,
    /// An element that is defined in a namespace, but not in this one.
    Misplaced,
    Other,
}

/// The elements of a video.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum VideoElement {
    Thumbnail,
    Title,
    Description,
    Content,
    Player,
    Duration,
    Expiration,
    Rating,
    ViewCount,
    Publication,
    Tag,
    FamilyFriendly,
    Restriction,
    Subscription,
    Uploader,
    Platform,
    Live,
}

impl VideoElement {
    fn named(name: &[u8]) -> Option<Self> {
        Some(match name {
            b"thumbnail_loc" => Self::Thumbnail,
            b"title" => Self::Title,
            b"description" => Self::Description,
            b"content_loc" => Self::Content,
            b"player_loc" => Self::Player,
            b"duration" => Self::Duration,
            b"expiration_date" => Self::Expiration,
            b"rating" => Self::Rating,
            b"view_count" => Self::ViewCount,
            b"publication_date" => Self::Publication,
            b"tag" => Self::Tag,
            b"family_friendly" => Self::FamilyFriendly,
            b"restriction" => Self::Restriction,
            b"requires_subscription" => Self::Subscription,
            b"uploader" => Self::Uploader,
            b"platform" => Self::Platform,
            b"live" => Self::Live,
            _ => return None,
        })
    }
}

fn part_of(reader: &NsReader<&[u8]>, tag: &BytesStart<'_>, open: &[Element]) -> Element {
    let (namespace, name) = reader.resolver().resolve_element(tag.name());
    let namespace = match namespace {
        ResolveResult::Bound(namespace) => namespace.into_inner(),
        _ => b"",
    };
    let namespace = std::str::from_utf8(namespace).unwrap_or("");
    match (open.last(), namespace, name.as_ref()) {
        (None, ..) => Element::Root,
        (Some(Element::Root), SITEMAP, b"url") => Element::Url,
        (Some(Element::Root), SITEMAP, b"sitemap") => Element::Sitemap,
        (Some(Element::Url | Element::Sitemap), SITEMAP, b"loc") => Element::Loc,
        (Some(Element::Url | Element::Sitemap), SITEMAP, b"lastmod") => Element::Lastmod,
        (Some(Element::Url), SITEMAP, b"changefreq") => Element::Changefreq,
        (Some(Element::Url), SITEMAP, b"priority") => Element::Priority,
        (Some(Element::Url), IMAGE, b"image") => Element::Image,
        (Some(Element::Image), IMAGE, b"loc") => Element::ImageLoc,
        (Some(Element::Url), VIDEO, b"video") => Element::Video,
        (Some(Element::Video), VIDEO, name) => VideoElement::named(name).map_or(Element::Other, Element::OfVideo),
        (Some(Element::Url), XHTML, b"link") => Element::Alternate,
        (Some(Element::Url), NEWS, b"news") => Element::News,
        (Some(Element::News), NEWS, b"publication") => Element::NewsPublication,
        (Some(Element::NewsPublication), NEWS, b"name") => Element::NewsName,
        (Some(Element::NewsPublication), NEWS, b"language") => Element::NewsLanguage,
        (Some(Element::News), NEWS, b"publication_date") => Element::NewsDate,
        (Some(Element::News), NEWS, b"title") => Element::NewsTitle,
        // Nothing else has these names, whatever namespace the writer took for theirs.
        (Some(Element::Url), _, b"image" | b"video" | b"news") => Element::Misplaced,
        (Some(Element::Url), "", b"loc" | b"lastmod" | b"changefreq" | b"priority") => Element::Misplaced,
        // Other extensions may use the following names, in namespaces of their own.
        (Some(Element::Url), "" | SITEMAP, b"link") => Element::Misplaced,
        (Some(Element::Image), "" | SITEMAP, b"loc") => Element::Misplaced,
        (Some(Element::Video), "" | SITEMAP, name) if VideoElement::named(name).is_some() => Element::Misplaced,
        (Some(Element::News), "" | SITEMAP, b"publication" | b"publication_date" | b"title") => Element::Misplaced,
        (Some(Element::NewsPublication), "" | SITEMAP, b"name" | b"language") => Element::Misplaced,
        _ => Element::Other,
    }
}

fn root(reader: &NsReader<&[u8]>, tag: &BytesStart<'_>) -> Result<Document, ReadError> {
    let (namespace, name) = reader.resolver().resolve_element(tag.name());
    let kind = match name.as_ref() {
        b"urlset" => Document::Urlset,
        b"sitemapindex" => Document::Index,
        other => return Err(ReadError::OtherRoot(String::from_utf8_lossy(&other[..other.len().min(60)]).into_owned())),
    };
    match namespace {
        ResolveResult::Bound(namespace) if namespace.into_inner() == SITEMAP.as_bytes() => Ok(kind),
        _ => Err(ReadError::OtherNamespace),
    }
}

/// Stores the text of an element.
fn put(part: Element, open: &[Element], text: &str, url: &mut RawUrl, sitemap: &mut RawSitemap) {
    let in_index = open.last() == Some(&Element::Sitemap);
    let owned = || Some(text.to_owned());
    match part {
        Element::Loc if in_index => sitemap.loc = owned(),
        Element::Loc => url.loc = owned(),
        Element::Lastmod if in_index => sitemap.lastmod = owned(),
        Element::Lastmod => url.lastmod = owned(),
        Element::Changefreq => url.changefreq = owned(),
        Element::Priority => url.priority = owned(),
        Element::ImageLoc if url.images.len() < MOST_MEDIA => url.images.push(text.to_owned()),
        Element::NewsName => url.news.publication = owned(),
        Element::NewsLanguage => url.news.language = owned(),
        Element::NewsDate => url.news.published = owned(),
        Element::NewsTitle => url.news.title = owned(),
        _ => {}
    }
}

/// Stores the text of an element of a video; `detail` is the attribute that belongs to it.
fn put_video(element: VideoElement, text: &str, detail: &str, video: Option<&mut Video>) {
    use VideoElement as V;
    let Some(video) = video else { return };
    let owned = || Some(text.to_owned());
    match element {
        V::Thumbnail => video.thumbnail_loc = owned(),
        V::Title => video.title = owned(),
        V::Description => video.description = owned(),
        V::Content => video.content_loc = owned(),
        V::Player => video.player_loc = owned(),
        V::Duration => video.duration = text.parse().ok(),
        V::Expiration => video.expiration_date = owned(),
        V::Rating => video.rating = text.parse().ok(),
        V::ViewCount => video.view_count = text.parse().ok(),
        V::Publication => video.publication_date = owned(),
        V::Tag if video.tags.len() <= MOST_TAGS => video.tags.push(text.to_owned()),
        V::Tag => {}
        V::FamilyFriendly => video.family_friendly = read_yes_or_no(text),
        V::Restriction => video.restriction = Access::new(detail, text),
        V::Subscription => video.requires_subscription = read_yes_or_no(text),
        V::Uploader => {
            video.uploader = owned();
            video.uploader_info = Some(detail.to_owned()).filter(|info| !info.is_empty());
        }
        V::Platform => video.platform = Access::new(detail, text),
        V::Live => video.live = read_yes_or_no(text),
    }
}

/// The value of an attribute without a namespace.
fn attribute(tag: &BytesStart<'_>, name: &str) -> Option<String> {
    let attribute = tag.try_get_attribute(name).ok().flatten()?;
    let value = attribute.normalized_value(quick_xml::XmlVersion::Implicit1_0).ok()?;
    (value.len() <= LONGEST_TEXT).then(|| value.trim().to_owned())
}

fn alternate(tag: &BytesStart<'_>) -> Option<Alternate<'static>> {
    attribute(tag, "rel").filter(|rel| rel == "alternate")?;
    Some(Alternate { language: attribute(tag, "hreflang")?.into(), url: attribute(tag, "href")?.into() })
}

fn push(text: &mut String, more: &str) {
    if text.len() + more.len() <= LONGEST_TEXT {
        text.push_str(more);
    }
}

/// The five entities of XML 1.0 section 4.6. Others would need a document type, which no sitemap has.
fn named(name: &str) -> Option<char> {
    Some(match name {
        "amp" => '&',
        "lt" => '<',
        "gt" => '>',
        "apos" => '\'',
        "quot" => '"',
        _ => return None,
    })
}

/// The line numbers of ascending positions, which looks at each byte once.
struct LineCount<'a> {
    bytes: &'a [u8],
    counted: usize,
    line: u64,
}

impl LineCount<'_> {
    fn at(&mut self, position: u64) -> u64 {
        let position = usize::try_from(position).unwrap_or(usize::MAX).min(self.bytes.len());
        if position > self.counted {
            let newlines = self.bytes[self.counted..position].iter().filter(|byte| **byte == b'\n').count();
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

    fn urls(bytes: &[u8]) -> Result<Vec<RawUrl>, ReadError> {
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
        assert_eq!(urls[0].misplaced.as_deref(), wanted);
        assert_eq!(urls[0].loc.as_deref(), Some("https://www.marrowvale.example/halts/"));
        assert_eq!((&urls[0].lastmod, urls[0].images.len(), urls[0].videos.len()), (&None, 0, 0));
    }
}
