//! Writing `urlset` files.

use super::text::{clean, each_escaped};
use super::{IMAGE, NEWS, SITEMAP, VIDEO, XHTML};
use crate::entry::{Changefreq, Entry, NewsArticle, Priority};
use crate::lastmod::Lastmod;
use crate::video::{VIDEO_DESCRIPTION_LONGEST, Video};

const DECLARATION: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n";

/// The frame around the `url` elements of a file: it declares the namespaces that its entries use, and no others.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Frame {
    /// Some entry has pictures.
    pub images: bool,
    /// Some entry has videos.
    pub videos: bool,
    /// Some entry is a news article.
    pub news: bool,
    /// Some entry has alternates.
    pub alternates: bool,
}

impl Frame {
    /// The end tag.
    pub const CLOSE: &[u8] = b"</urlset>\n";

    /// The frame that fits every entry.
    pub const ALL: Self = Self { images: true, videos: true, news: true, alternates: true };

    /// The beginning of the file; `style` is the stylesheet that displays it in a browser.
    pub fn open(self, style: Option<&str>) -> Vec<u8> {
        let mut out = begin(style, "urlset");
        let namespaces = [
            (self.images, "image", IMAGE),
            (self.videos, "video", VIDEO),
            (self.news, "news", NEWS),
            (self.alternates, "xhtml", XHTML),
        ];
        for (_, prefix, namespace) in namespaces.into_iter().filter(|(wanted, ..)| *wanted) {
            out += &format!(" xmlns:{prefix}=\"{namespace}\"");
        }
        (out + ">\n").into_bytes()
    }

    /// The most bytes that a frame takes. The rest of a file's limit is for its entries.
    pub fn most_bytes(style: Option<&str>) -> u64 {
        (Self::ALL.open(style).len() + Self::CLOSE.len()) as u64
    }

    /// The frame that fits both.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self::from_bits(self.bits() | other.bits())
    }

    /// The frame that an entry needs.
    pub fn of(entry: &Entry<'_>) -> Self {
        Self {
            images: !entry.images.is_empty(),
            videos: !entry.videos.is_empty(),
            news: entry.news.is_some(),
            alternates: !entry.alternates.is_empty(),
        }
    }

    /// The frame as a number, for storing: images 1, videos 2, news 4, alternates 8.
    pub fn bits(self) -> u8 {
        u8::from(self.images) | u8::from(self.videos) << 1 | u8::from(self.news) << 2 | u8::from(self.alternates) << 3
    }

    /// The inverse of [`Frame::bits`].
    pub fn from_bits(bits: u8) -> Self {
        let has = |bit: u8| bits & 1 << bit != 0;
        Self { images: has(0), videos: has(1), news: has(2), alternates: has(3) }
    }
}

/// The declaration, the stylesheet, and the root element up to its attributes.
pub(super) fn begin(style: Option<&str>, root: &str) -> String {
    let style = style.map(|style| format!("<?xml-stylesheet type=\"text/css\" href=\"{style}\"?>\n"));
    format!("{DECLARATION}{}<{root} xmlns=\"{SITEMAP}\"", style.unwrap_or_default())
}

/// Something that an element can be written to.
pub(super) trait ElementSink {
    /// Takes bytes.
    fn put(&mut self, bytes: &[u8]);

    /// Takes a date.
    fn put_date(&mut self, date: Lastmod);
}

impl ElementSink for Vec<u8> {
    #[inline]
    fn put(&mut self, bytes: &[u8]) {
        self.extend_from_slice(bytes);
    }

    fn put_date(&mut self, date: Lastmod) {
        date.push_to(self);
    }
}

/// Counts the bytes instead of writing them.
struct Counter(u64);

impl ElementSink for Counter {
    #[inline]
    fn put(&mut self, bytes: &[u8]) {
        self.0 += bytes.len() as u64;
    }

    fn put_date(&mut self, date: Lastmod) {
        self.0 += date.length() as u64;
    }
}

/// The number of bytes of an entry's `url` element.
pub fn url_bytes(entry: &Entry<'_>) -> u64 {
    let mut counter = Counter(0);
    write_url(&mut counter, entry);
    counter.0
}

/// The end of every `url` element. No text inside the element can contain it.
pub const URL_END: &[u8] = b"</url>\n";

/// What every `url` element may have; most have nothing else.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bare<'a> {
    /// The `loc`, in the spelling of [`Address`](crate::address::Address). It is ASCII, as bytes, so that nothing is
    /// checked a million times.
    pub address: &'a [u8],
    /// When the page last changed, if known.
    pub lastmod: Option<Lastmod>,
    /// A hint about how often the page changes.
    pub changefreq: Option<Changefreq>,
    /// A hint about this page's weight among its siblings.
    pub priority: Option<Priority>,
}

impl Bare<'_> {
    /// The number of bytes of its `url` element.
    pub fn bytes(&self) -> u64 {
        let mut counter = Counter(0);
        write_bare(&mut counter, self);
        counter.0
    }

    fn begin(&self, out: &mut impl ElementSink) {
        out.put(b"<url><loc>");
        each_escaped(self.address, |part| out.put(part));
        out.put(b"</loc>");
        if let Some(lastmod) = self.lastmod {
            out.put(b"<lastmod>");
            out.put_date(lastmod);
            out.put(b"</lastmod>");
        }
        if let Some(changefreq) = self.changefreq {
            element(out, "changefreq", changefreq.as_str());
        }
        if let Some(priority) = self.priority {
            element(out, "priority", &priority.to_string());
        }
    }
}

/// Writes the `url` element of an entry that has nothing else; the same bytes as [`write_url`].
pub(super) fn write_bare(out: &mut impl ElementSink, bare: &Bare<'_>) {
    bare.begin(out);
    out.put(URL_END);
}

/// Writes one `url` element on a line of its own. Videos that lack a required field must have been removed before.
pub(super) fn write_url(out: &mut impl ElementSink, entry: &Entry<'_>) {
    let Entry { lastmod, changefreq, priority, .. } = *entry;
    Bare { address: entry.address().as_bytes(), lastmod, changefreq, priority }.begin(out);
    for image in &entry.images {
        out.put(b"<image:image>");
        element(out, "image:loc", image);
        out.put(b"</image:image>");
    }
    for video in &entry.videos {
        out.put(b"<video:video>");
        write_video(out, video);
        out.put(b"</video:video>");
    }
    if let Some(news) = &entry.news {
        write_news(out, news);
    }
    for alternate in &entry.alternates {
        out.put(b"<xhtml:link rel=\"alternate\"");
        attribute(out, "hreflang", &alternate.language);
        attribute(out, "href", &alternate.url);
        out.put(b"/>");
    }
    out.put(URL_END);
}

/// Writes the elements in the order of the news extension.
fn write_news(out: &mut impl ElementSink, news: &NewsArticle<'_>) {
    out.put(b"<news:news><news:publication>");
    element(out, "news:name", &clean(&news.publication));
    element(out, "news:language", &news.language);
    out.put(b"</news:publication><news:publication_date>");
    out.put_date(news.published);
    out.put(b"</news:publication_date>");
    element(out, "news:title", &clean(news.title.trim()));
    out.put(b"</news:news>");
}

/// Writes the elements in the order of the video extension.
fn write_video(out: &mut impl ElementSink, video: &Video) {
    let description = video.description.as_deref().map(|description| first_letters(description.trim()));
    let number = |number: Option<String>| number.unwrap_or_default();
    let word = |word: Option<bool>| word.map(|word| if word { "yes" } else { "no" });
    let mut text = |name: &str, attribute: Option<(&str, &str)>, text: Option<&str>| {
        let text = clean(text.unwrap_or(""));
        if !text.is_empty() {
            element_with(out, name, attribute, &text);
        }
    };
    text("video:thumbnail_loc", None, video.thumbnail_loc.as_deref());
    text("video:title", None, video.title.as_deref());
    text("video:description", None, description);
    text("video:content_loc", None, video.content_loc.as_deref());
    text("video:player_loc", None, video.player_loc.as_deref());
    text("video:duration", None, Some(&number(video.duration.map(|seconds| seconds.to_string()))));
    text("video:expiration_date", None, video.expiration_date.as_deref());
    text("video:rating", None, Some(&number(video.rating.map(|rating| format!("{rating:.1}")))));
    text("video:view_count", None, Some(&number(video.view_count.map(|count| count.to_string()))));
    text("video:publication_date", None, video.publication_date.as_deref());
    video.tags.iter().for_each(|tag| text("video:tag", None, Some(tag)));
    text("video:family_friendly", None, word(video.family_friendly));
    if let Some(access) = &video.restriction {
        text("video:restriction", Some(("relationship", access.relationship())), Some(&access.names));
    }
    text("video:requires_subscription", None, word(video.requires_subscription));
    let info = video.uploader_info.as_deref().map(|info| ("info", info));
    text("video:uploader", info, video.uploader.as_deref());
    if let Some(access) = &video.platform {
        text("video:platform", Some(("relationship", access.relationship())), Some(&access.names));
    }
    text("video:live", None, word(video.live));
}

fn first_letters(description: &str) -> &str {
    match description.char_indices().nth(VIDEO_DESCRIPTION_LONGEST) {
        Some((end, _)) => &description[..end],
        None => description,
    }
}

pub(super) fn element(out: &mut impl ElementSink, name: &str, text: &str) {
    element_with(out, name, None, text);
}

fn element_with(out: &mut impl ElementSink, name: &str, with: Option<(&str, &str)>, text: &str) {
    out.put(b"<");
    out.put(name.as_bytes());
    if let Some((name, value)) = with {
        attribute(out, name, value);
    }
    out.put(b">");
    each_escaped(text.as_bytes(), |part| out.put(part));
    out.put(b"</");
    out.put(name.as_bytes());
    out.put(b">");
}

fn attribute(out: &mut impl ElementSink, name: &str, value: &str) {
    out.put(b" ");
    out.put(name.as_bytes());
    out.put(b"=\"");
    each_escaped(value.as_bytes(), |part| out.put(part));
    out.put(b"\"");
}
