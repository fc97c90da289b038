//! The reader itself: tokens in, a [`Page`] out.

use html5gum::emitters::callback::{CallbackEmitter, CallbackEvent};
use html5gum::{Span, Tokenizer};

use super::digest::Content;
use super::linked_data::LinkedData;
use super::media::{Offer, is_inline};
use super::{
    Heading, LARGEST_DATA, LONGEST_TEXT, Link, MOST_HEADINGS, MOST_IMAGES, MOST_LINKS, MOST_VIDEOS, Page, PageError,
    Reader, encoding,
};
use crate::address::{Address, Base, LONGEST};
use crate::entry::Video;
use crate::lastmod::Lastmod;

/// Reads a page that lives at `address`. Never fails on bad HTML, only on what is no text at all.
pub fn read(bytes: &[u8], address: &Address, reader: &Reader) -> Result<Page, PageError> {
    let text = encoding::decode(bytes)?;
    let mut reading = Reading::new(address, reader);
    let mut emitter: CallbackEmitter<_> = CallbackEmitter::new(|event: CallbackEvent<'_>, _: Span<()>| {
        reading.take(event);
        None
    });
    emitter.naively_switch_states(true);
    let Ok(()) = Tokenizer::new_with_emitter(&text[..], emitter).finish();
    Ok(reading.finish())
}

/// The attributes that say anything here.
const ATTRIBUTES: [&[u8]; 20] = [
    b"charset",
    b"class",
    b"content",
    b"data-src",
    b"data-srcset",
    b"height",
    b"href",
    b"http-equiv",
    b"id",
    b"lang",
    b"name",
    b"poster",
    b"property",
    b"rel",
    b"role",
    b"src",
    b"srcset",
    b"type",
    b"width",
    b"xml:lang",
];

/// Attributes of the tag at hand, in one buffer that is used again for every tag.
#[derive(Default)]
struct Attributes {
    bytes: Vec<u8>,
    /// The attribute's place in [`ATTRIBUTES`], and where its value stands in `bytes`.
    known: Vec<(usize, usize, usize)>,
    open: Option<usize>,
}

impl Attributes {
    fn clear(&mut self) {
        self.bytes.clear();
        self.known.clear();
        self.open = None;
    }

    fn name(&mut self, name: &[u8]) {
        self.open = ATTRIBUTES.binary_search(&name).ok();
        if let Some(at) = self.open {
            self.known.push((at, self.bytes.len(), self.bytes.len()));
        }
    }

    fn value(&mut self, value: &[u8]) {
        if self.open.take().is_some()
            && let Some(last) = self.known.last_mut()
        {
            self.bytes.extend_from_slice(value);
            last.2 = self.bytes.len();
        }
    }

    fn bytes(&self, name: &str) -> &[u8] {
        let wanted = |(at, _, _): &&(usize, usize, usize)| ATTRIBUTES[*at] == name.as_bytes();
        self.known.iter().find(wanted).map_or(&[], |&(_, start, end)| &self.bytes[start..end])
    }

    /// The value as text; empty where the attribute is missing or is no UTF-8.
    fn text(&self, name: &str) -> &str {
        std::str::from_utf8(self.bytes(name)).unwrap_or("").trim()
    }
}

/// Where text goes besides the digest.
enum Listening {
    No,
    Title,
    Heading(u8),
    LinkedData,
}

struct Reading<'a> {
    reader: &'a Reader,
    page: Page,
    address: &'a Address,
    base: Option<Base>,
    content: Content,
    tag: Vec<u8>,
    attributes: Attributes,
    listening: Listening,
    heard: Vec<u8>,
    svg_depth: u32,
    // Words of the head that are weighed against each other at the end.
    og_title: Option<String>,
    og_description: Option<String>,
    og_images: Vec<Address>,
    og_video: Option<Video>,
    data: LinkedData,
    no_image_index: bool,
    /// The `video` element that is open.
    film: Option<Video>,
    films: Vec<Video>,
}

impl<'a> Reading<'a> {
    fn new(address: &'a Address, reader: &'a Reader) -> Self {
        Self {
            reader,
            page: Page::default(),
            address,
            base: Base::of(address).ok(),
            content: Content::new(),
            tag: Vec::new(),
            attributes: Attributes::default(),
            listening: Listening::No,
            heard: Vec::new(),
            svg_depth: 0,
            og_title: None,
            og_description: None,
            og_images: Vec::new(),
            og_video: None,
            data: LinkedData::default(),
            no_image_index: false,
            film: None,
            films: Vec::new(),
        }
    }

    fn take(&mut self, event: CallbackEvent<'_>) {
        match event {
            CallbackEvent::OpenStartTag { name } => {
                self.tag.clear();
                self.tag.extend_from_slice(name);
                self.attributes.clear();
            }
            CallbackEvent::AttributeName { name } => self.attributes.name(name),
            CallbackEvent::AttributeValue { value } => self.attributes.value(value),
            CallbackEvent::CloseStartTag { self_closing } => {
                let tag = std::mem::take(&mut self.tag);
                self.start(&tag, self_closing);
                self.tag = tag;
            }
            CallbackEvent::EndTag { name } => self.end(name),
            CallbackEvent::String { value } => self.text(value),
            CallbackEvent::Comment { .. } | CallbackEvent::Doctype { .. } | CallbackEvent::Error(_) => {}
        }
    }

    fn start(&mut self, tag: &[u8], self_closing: bool) {
        match tag {
            b"html" => {
                let languages = [self.attributes.text("lang"), self.attributes.text("xml:lang")];
                self.page.language = languages.into_iter().find(|tag| !tag.is_empty()).map(cut);
            }
            b"head" => self.page.has_head = true,
            b"svg" if !self_closing => self.svg_depth += 1,
            b"title" if self.svg_depth == 0 && self.page.title.is_none() => self.listen(Listening::Title),
            b"base" => self.rebase(),
            b"meta" => self.meta(),
            b"link" => self.link_element(),
            b"script" if self.attributes.text("type").eq_ignore_ascii_case("application/ld+json") => {
                self.listen(Listening::LinkedData);
            }
            b"h1" | b"h2" | b"h3" | b"h4" | b"h5" | b"h6" if self.content.is_content() => {
                self.listen(Listening::Heading(tag[1] - b'0'));
            }
            b"a" | b"area" => self.link(),
            b"img" if self.content.is_content() => self.picture(),
            b"video" => self.film_begins(),
            b"source" if self.film.is_some() => self.film_source(),
            _ => {}
        }
        if !self_closing && !is_void(tag) {
            let attributes = &self.attributes;
            self.content.open(tag, attributes.bytes("role"), attributes.bytes("class"), attributes.bytes("id"));
        }
    }

    fn end(&mut self, tag: &[u8]) {
        match tag {
            b"title" | b"script" | b"h1" | b"h2" | b"h3" | b"h4" | b"h5" | b"h6" => self.heard_out(),
            b"svg" => self.svg_depth = self.svg_depth.saturating_sub(1),
            b"video" => self.film_ends(),
            _ => {}
        }
        self.content.close(tag);
    }

    fn text(&mut self, text: &[u8]) {
        let most = match self.listening {
            Listening::No => 0,
            Listening::LinkedData => LARGEST_DATA,
            Listening::Title | Listening::Heading(_) => LONGEST_TEXT,
        };
        let room = most.saturating_sub(self.heard.len());
        self.heard.extend_from_slice(&text[..text.len().min(room)]);
        if !matches!(self.listening, Listening::Title) {
            self.content.text(text);
        }
    }

    fn listen(&mut self, listening: Listening) {
        self.heard_out();
        self.listening = listening;
    }

    /// Puts what was heard in its place.
    fn heard_out(&mut self) {
        let heard = std::mem::take(&mut self.heard);
        match std::mem::replace(&mut self.listening, Listening::No) {
            Listening::No => {}
            Listening::Title => self.page.title = folded(&heard),
            Listening::Heading(level) => {
                if let Some(text) = folded(&heard)
                    && self.page.headings.len() < MOST_HEADINGS
                {
                    self.page.headings.push(Heading { level, text });
                }
            }
            Listening::LinkedData => {
                let block = LinkedData::read(&heard);
                self.data.modified = self.data.modified.take().or(block.modified);
                self.data.published = self.data.published.take().or(block.published);
                self.data.images.extend(block.images);
                self.data.videos.extend(block.videos);
                self.data.videos.truncate(MOST_VIDEOS);
            }
        }
    }

    /// The address that a reference stands for; none where it would be too long for a sitemap.
    fn complete(&self, reference: &str) -> Option<Address> {
        let short = |text: &str| text.len() <= LONGEST;
        let address = self.base.as_ref().filter(|_| short(reference))?.join(reference).ok()?;
        Some(address).filter(|address| short(address.as_str()))
    }

    /// `base` changes what relative URLs mean (HTML Standard); only the first counts.
    fn rebase(&mut self) {
        if let Some(address) = self.complete(self.attributes.text("href")) {
            self.base = Base::of(&address).ok();
        }
    }

    fn meta(&mut self) {
        let attributes = &self.attributes;
        let name = [attributes.text("name"), attributes.text("property")].into_iter().find(|name| !name.is_empty());
        let name = name.unwrap_or("").to_ascii_lowercase();
        let content = attributes.text("content").to_owned();
        let content = content.as_str();
        match name.as_str() {
            "description" => self.page.description = folded(content.as_bytes()),
            "robots" => self.robots(&name, content),
            token if self.reader.tokens.iter().any(|known| known == token) => self.robots(&name, content),
            "idle-atlas" => self.page.keep = own_word(content),
            "article:modified_time" => self.page.modified = self.date(content),
            "article:published_time" => self.page.published = self.date(content),
            "og:title" => self.og_title = folded(content.as_bytes()),
            "og:description" => self.og_description = folded(content.as_bytes()),
            "og:image" | "og:image:url" | "og:image:secure_url" => {
                if let Some(image) = self.complete(content).filter(|_| !content.is_empty() && !is_inline(content)) {
                    self.og_images.push(image);
                }
            }
            "og:video" | "og:video:url" | "og:video:secure_url" => {
                let place = self.complete(content).filter(|_| !content.is_empty());
                let place = place.map(|address| address.as_str().to_owned());
                self.og_video.get_or_insert_default().content_loc = place;
            }
            "og:video:type" if content.eq_ignore_ascii_case("text/html") => {
                let video = self.og_video.get_or_insert_default();
                video.player_loc = video.content_loc.take();
            }
            "og:video:duration" => {
                let seconds = content.parse().ok().filter(|seconds| (1..=28_800).contains(seconds));
                self.og_video.get_or_insert_default().duration = seconds;
            }
            _ if self.attributes.text("http-equiv").eq_ignore_ascii_case("refresh") => {
                self.page.refresh = self.sent_on(content)
            }
            _ => {}
        }
    }

    fn date(&self, text: &str) -> Option<Lastmod> {
        Lastmod::read(text, &self.reader.timezone)
    }

    fn robots(&mut self, name: &str, content: &str) {
        let has = |word: &str| content.split(',').any(|part| part.trim().eq_ignore_ascii_case(word));
        if self.page.noindex.is_none() && (has("noindex") || has("none")) {
            self.page.noindex = Some(cut(&format!("<meta name=\"{name}\" content=\"{content}\">")));
        }
        self.no_image_index |= has("noimageindex");
    }

    /// `<meta http-equiv="refresh" content="0; url=/new/">`: a redirect where it names another URL and the delay is short.
    fn sent_on(&self, content: &str) -> Option<Address> {
        let (delay, rest) = content.split_once([';', ','])?;
        let delay: f64 = delay.trim().parse().ok()?;
        let rest = rest.trim();
        let rest = match rest.get(..3) {
            Some(start) if start.eq_ignore_ascii_case("url") => rest[3..].trim_start().strip_prefix('=')?.trim(),
            _ => rest,
        };
        let target = self.complete(rest.trim_matches(['"', '\'']))?;
        (delay <= 10.0 && target != *self.address).then_some(target)
    }

    fn link_element(&mut self) {
        let rel = self.attributes.text("rel");
        let is_canonical = rel.split_ascii_whitespace().any(|word| word.eq_ignore_ascii_case("canonical"));
        let href = self.attributes.text("href");
        if is_canonical && self.page.canonical.is_none() && !href.is_empty() {
            self.page.canonical = self.complete(href);
        }
    }

    fn link(&mut self) {
        let href = self.attributes.text("href");
        if !href.is_empty() && href.len() <= LONGEST_TEXT && self.page.links.len() < MOST_LINKS {
            self.page.links.push(Link { href: href.to_owned(), rel: cut(self.attributes.text("rel")) });
        }
    }

    fn picture(&mut self) {
        let attributes = &self.attributes;
        let offer = Offer {
            src: attributes.text("src"),
            srcset: attributes.text("srcset"),
            lazy_src: attributes.text("data-src"),
            lazy_srcset: attributes.text("data-srcset"),
            width: attributes.text("width"),
            height: attributes.text("height"),
        };
        if let Some(address) = offer.choose().and_then(|reference| self.complete(reference)) {
            push_new(&mut self.page.images, address);
        }
    }

    fn film_begins(&mut self) {
        self.film_ends();
        let place = |reference: &str| {
            let address = self.complete(reference).filter(|_| !reference.is_empty() && !is_inline(reference))?;
            Some(address.as_str().to_owned())
        };
        self.film = Some(Video {
            content_loc: place(self.attributes.text("src")),
            thumbnail_loc: place(self.attributes.text("poster")),
            ..Video::default()
        });
    }

    fn film_source(&mut self) {
        let reference = self.attributes.text("src");
        let address = self.complete(reference).filter(|_| !reference.is_empty() && !is_inline(reference));
        if let Some(film) = &mut self.film
            && film.content_loc.is_none()
        {
            film.content_loc = address.map(|address| address.as_str().to_owned());
        }
    }

    fn film_ends(&mut self) {
        if let Some(film) = self.film.take().filter(|film| film.content_loc.is_some())
            && self.films.len() < MOST_VIDEOS
        {
            self.films.push(film);
        }
    }

    fn finish(mut self) -> Page {
        self.heard_out();
        self.film_ends();
        self.page.digest = self.content.digest();
        self.page.has_head |= self.page.title.is_some();
        let first_heading = self.page.headings.iter().find(|heading| heading.level == 1).map(|h| h.text.clone());
        self.page.title = self.page.title.take().or(self.og_title.take()).or(first_heading);
        self.page.description = self.page.description.take().or(self.og_description.take());
        self.page.modified = self.page.modified.or_else(|| self.date(self.data.modified.as_deref()?));
        self.page.published = self.page.published.or_else(|| self.date(self.data.published.as_deref()?));
        let lead = self.og_images.first().map(|image| image.as_str().to_owned());
        self.gather_images();
        self.gather_videos(lead);
        self.page
    }

    /// Pictures in the content first, then the lead pictures that stand only in the head.
    fn gather_images(&mut self) {
        let linked: Vec<Address> = self.data.images.iter().filter_map(|reference| self.complete(reference)).collect();
        for image in std::mem::take(&mut self.og_images).into_iter().chain(linked) {
            push_new(&mut self.page.images, image);
        }
        if self.no_image_index {
            self.page.images.clear();
        }
    }

    /// Linked data knows most about a film, Open Graph less, the element least: one film told in several ways is one
    /// video, and what nobody says of it is taken from the page.
    fn gather_videos(&mut self, lead: Option<String>) {
        let place = |reference: &Option<String>| Some(self.complete(reference.as_deref()?)?.as_str().to_owned());
        let date = |text: &Option<String>| self.date(text.as_deref()?).map(|date| date.to_string());
        let linked = self.data.videos.iter().map(|video| Video {
            thumbnail_loc: place(&video.thumbnail_loc),
            content_loc: place(&video.content_loc),
            player_loc: place(&video.player_loc),
            expiration_date: date(&video.expiration_date),
            publication_date: date(&video.publication_date),
            ..video.clone()
        });
        let graph = self.og_video.iter().filter(|video| video.place().is_some()).cloned();
        let mut videos: Vec<Video> = Vec::new();
        for telling in linked.chain(graph).chain(self.films.iter().cloned()) {
            match videos.iter_mut().find(|known| known.same_as(&telling)) {
                Some(known) => known.complete_from(&telling),
                None => videos.push(telling),
            }
        }
        let from_page = Video {
            title: self.page.title.clone(),
            description: self.page.description.clone(),
            thumbnail_loc: lead,
            ..Video::default()
        };
        videos.iter_mut().for_each(|video| video.complete_from(&from_page));
        self.page.videos = videos;
    }
}

fn push_new(images: &mut Vec<Address>, image: Address) {
    if images.len() < MOST_IMAGES && !images.contains(&image) {
        images.push(image);
    }
}

/// `keep=no` and its kin, among other words separated by commas.
fn own_word(content: &str) -> Option<bool> {
    content.split(',').filter_map(|part| part.split_once('=')).find_map(|(key, value)| {
        let value = value.trim().to_ascii_lowercase();
        match (key.trim(), value.as_str()) {
            ("keep", "no" | "false") => Some(false),
            ("keep", "yes" | "true") => Some(true),
            _ => None,
        }
    })
}

/// Text with its white space folded; `None` where nothing is left.
fn folded(bytes: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(bytes);
    let words: Vec<&str> = text.split_whitespace().collect();
    (!words.is_empty()).then(|| cut(&words.join(" ")))
}

fn cut(text: &str) -> String {
    let mut end = text.len().min(LONGEST_TEXT);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    text[..end].to_owned()
}

/// Elements that have no end tag. Source: HTML Standard, "void elements".
fn is_void(tag: &[u8]) -> bool {
    matches!(
        tag,
        b"area"
            | b"base"
            | b"br"
            | b"col"
            | b"embed"
            | b"hr"
            | b"img"
            | b"input"
            | b"link"
            | b"meta"
            | b"source"
            | b"track"
            | b"wbr"
    )
}

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const HERE: &str = "https://www.marrowvale.example/films/cutting/";

    fn page(html: &str) -> Page {
        let reader = Reader { timezone: TimeZone::get("Europe/London").unwrap(), tokens: vec!["lampbot".into()] };
        read(html.as_bytes(), &Address::parse(HERE).unwrap(), &reader).unwrap()
    }

    #[test]
    fn attributes_are_in_order_for_the_search() {
        assert!(ATTRIBUTES.is_sorted());
    }

    #[test]
    fn reads_the_head() {
        let page = page(
            r#"<!doctype html><html lang="en-GB"><head><title> Fares &amp;
               tickets </title><meta name=description content="What it costs">
               <link rel=canonical href="/fares/"><meta property="article:modified_time" content="2026-05-01 10:00">
               <script type="application/ld+json">{"@type":"WebPage","datePublished":"2025-01-02"}</script></head>
               <body><h1>Fares</h1><a href="/halts/" rel="nofollow ugc">x</a></body></html>"#,
        );
        assert_eq!(page.title.as_deref(), Some("Fares & tickets"));
        assert_eq!(page.description.as_deref(), Some("What it costs"));
        assert_eq!(page.language.as_deref(), Some("en-GB"));
        assert_eq!(page.canonical.unwrap().as_str(), "https://www.marrowvale.example/fares/");
        assert_eq!(page.modified.unwrap().to_string(), "2026-05-01T10:00:00+01:00");
        assert_eq!(page.published.unwrap().to_string(), "2025-01-02");
        assert_eq!(page.headings, [Heading { level: 1, text: "Fares".into() }]);
        assert_eq!(page.links, [Link { href: "/halts/".into(), rel: "nofollow ugc".into() }]);
        assert!(page.has_head);
    }

    #[rstest]
    #[case("<meta name=robots content='noindex, nofollow'>", true)]
    #[case("<META NAME=ROBOTS CONTENT=NONE>", true)]
    #[case("<meta name=lampbot content=noindex>", true)]
    #[case("<meta name=otherbot content=noindex>", false)]
    #[case("<meta name=robots content='index, follow, noindexed'>", false)]
    fn robots_directives_for_everyone_or_for_named_crawlers(#[case] html: &str, #[case] wanted: bool) {
        assert_eq!(page(html).noindex.is_some(), wanted);
    }

    #[rstest]
    #[case("<meta http-equiv=refresh content='0; url=/new/'>", Some("https://www.marrowvale.example/new/"))]
    #[case("<meta http-equiv=Refresh content='3;URL=\"../\"'>", Some("https://www.marrowvale.example/films/"))]
    #[case("<meta http-equiv=refresh content='0;/new/'>", Some("https://www.marrowvale.example/new/"))]
    #[case("<meta http-equiv=refresh content='300; url=/new/'>", None)]
    #[case("<meta http-equiv=refresh content='60'>", None)]
    #[case("<meta http-equiv=refresh content='0; url=/films/cutting/'>", None)]
    fn a_refresh_to_elsewhere_is_a_redirect(#[case] html: &str, #[case] wanted: Option<&str>) {
        assert_eq!(page(html).refresh.as_ref().map(Address::as_str), wanted);
    }

    #[test]
    fn pictures_of_the_content_and_the_lead() {
        let page = page(
            r#"<meta property=og:image content="/lead.svg"><header><img src="/logo.svg"></header><main>
               <img src=small.svg srcset="small.svg 300w, big.svg 900w"><img src="data:image/gif;base64,x" data-src=lazy.svg>
               <img src=count.gif width=1 height=1><img src=lazy.svg></main>"#,
        );
        let images: Vec<&str> = page.images.iter().map(Address::path).collect();
        assert_eq!(images, ["/films/cutting/big.svg", "/films/cutting/lazy.svg", "/lead.svg"]);
        assert!(self::page("<meta name=robots content=noimageindex><img src=a.svg>").images.is_empty());
    }

    #[test]
    fn references_too_long_for_a_sitemap_are_left_out() {
        let long = "x".repeat(3000);
        let page =
            page(&format!("<img src={long}><img src=a.svg><video src={long}></video><link rel=canonical href={long}>"));
        assert_eq!((page.images.len(), page.videos.len(), page.canonical), (1, 0, None));
    }

    #[test]
    fn one_film_told_three_ways_is_one_video() {
        let page = page(
            r#"<title>Cutting</title><meta name=description content="From the cab">
               <meta property=og:video content="/films/cutting.webm"><meta property=og:image content="/films/lead.svg">
               <script type="application/ld+json">{"@type":"VideoObject","name":"The cutting in frost",
                 "contentUrl":"/films/cutting.webm","uploadDate":"2026-01-05T09:00:00Z","duration":"PT2M"}</script>
               <video poster="still.svg"><source src="/films/cutting.webm"><source src="/films/cutting.mp4"></video>"#,
        );
        let [video] = &page.videos[..] else { panic!("{:?}", page.videos) };
        assert_eq!(video.title.as_deref(), Some("The cutting in frost"));
        assert_eq!(video.description.as_deref(), Some("From the cab"));
        assert_eq!(video.thumbnail_loc.as_deref(), Some("https://www.marrowvale.example/films/cutting/still.svg"));
        assert_eq!(video.duration, Some(120));
        assert_eq!(video.lacks(HERE), []);
    }

    #[test]
    fn an_open_graph_player_is_a_player() {
        let page = page(
            "<meta property=og:video content='https://player.example/7'><meta property=og:video:type content=text/html>",
        );
        assert_eq!(page.videos[0].player_loc.as_deref(), Some("https://player.example/7"));
        assert_eq!(page.videos[0].content_loc, None);
    }

    #[rstest]
    #[case::menu("<nav>Home</nav><main>Text</main>", "<nav>Home Fares</nav><main>Text</main>", true)]
    #[case::old_style("<div class='menu top'>Home</div><p>Text", "<div class='menu top'>Home Fares</div><p>Text", true)]
    #[case::role("<div role=navigation>a</div><p>Text", "<div role=navigation>b</div><p>Text", true)]
    #[case::footer("<p>Text<footer>2025</footer>", "<p>Text<footer>2026</footer>", true)]
    #[case::script("<p>Text<script>1</script>", "<p>Text<script>2</script><style>a{}</style>", true)]
    #[case::spacing("<p>Text  of\n it", "<p>Text <b>of</b> it", true)]
    #[case::outside_main("<p>Ad 1<main>Text</main>", "<p>Ad 2<main>Text</main>", true)]
    #[case::nested("<div id=nav><div>a</div>b</div><p>Text", "<div id=nav><div>a</div>c</div><p>Text", true)]
    #[case::content("<nav>Home</nav><main>Text</main>", "<nav>Home</nav><main>Texts</main>", false)]
    #[case::words_join("<p>Tex t", "<p>Text", false)]
    #[case::only_a_menu("<nav>Home</nav>", "<nav>Fares</nav>", false)]
    #[case::header_of_article(
        "<article><header>A</header>x</article>",
        "<article><header>B</header>x</article>",
        false
    )]
    #[case::head_title("<title>A</title><p>Text", "<title>B</title><p>Text", true)]
    fn the_digest_is_of_the_content(#[case] one: &str, #[case] other: &str, #[case] same: bool) {
        assert_eq!(page(one).digest == page(other).digest, same);
    }

    #[rstest]
    #[case("<meta name=idle-atlas content='keep=no'>", Some(false))]
    #[case("<meta name=idle-atlas content='keep = yes'>", Some(true))]
    #[case("<meta name=idle-atlas content='keep=perhaps'>", None)]
    fn its_own_word(#[case] html: &str, #[case] wanted: Option<bool>) {
        assert_eq!(page(html).keep, wanted);
    }

    #[test]
    fn a_page_without_a_head_and_a_title_within_a_drawing() {
        let page = page("<svg><title>Lamp</title></svg><h1>Lampworks</h1>");
        assert!(!page.has_head);
        assert_eq!(page.title.as_deref(), Some("Lampworks"));
    }

    #[test]
    fn base_moves_what_follows() {
        let page = page("<base href='https://cdn.example/x/'><img src=a.svg>");
        assert_eq!(page.images[0].as_str(), "https://cdn.example/x/a.svg");
    }

    proptest! {
        #[test]
        fn any_bytes_can_be_read(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
            let reader = Reader { timezone: TimeZone::UTC, tokens: vec![] };
            let _ = read(&bytes, &Address::parse(HERE).unwrap(), &reader);
        }

        #[test]
        fn any_soup_of_tags_can_be_read(pieces in proptest::collection::vec(prop_oneof![
            Just("<nav>"), Just("</nav>"), Just("<main>"), Just("</main>"), Just("<script type=application/ld+json>"),
            Just("{\"@graph\":["), Just("</script>"), Just("<svg>"), Just("<title>"), Just("<video src=a>"), Just("<img src='"),
            Just("<base href=//>"), Just("<meta http-equiv=refresh content='0;url='>"), Just("'"), Just("text "), Just("<h1>"),
        ], 0..40)) {
            let html = pieces.concat();
            let (once, twice) = (page(&format!("x{html}")), page(&format!("x{html}")));
            prop_assert_eq!(once, twice);
        }
    }
}
