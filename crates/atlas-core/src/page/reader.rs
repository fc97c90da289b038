//! The page reader: tokens in, a [`Page`] out.

use super::media::ImageCandidate;
use super::reading::{Listening, PageReading, cut, folded, title_of};
use super::tokens::{self, Attributes, TokenSink};
use super::{LARGEST_DATA, LONGEST_TEXT, Page, PageError, PageReader, encoding};
use crate::address::Address;
use crate::titles;
use crate::video::Video;

/// Reads the page at `address`. Bad HTML is never an error.
///
/// # Errors
///
/// Returns a [`PageError`] if the bytes are not text.
pub fn read(bytes: &[u8], address: &Address, reader: &PageReader) -> Result<Page, PageError> {
    let text = encoding::decode(bytes)?;
    let mut reading = PageReading::new(address, reader);
    tokens::read(&text, &mut reading);
    Ok(reading.finish())
}

/// The words of a piece of HTML, with white space collapsed.
pub fn text_of(html: &str) -> String {
    struct Words(Vec<u8>);
    impl TokenSink for Words {
        fn open(&mut self, tag: &[u8], _: &Attributes<'_>, _: bool) {
            if matches!(tag, b"p" | b"br" | b"li" | b"div" | b"td" | b"h1" | b"h2" | b"h3") {
                self.0.push(b' ');
            }
        }

        fn close(&mut self, _: &[u8]) {}

        fn text(&mut self, text: &[u8]) {
            self.0.extend_from_slice(text);
        }
    }
    let mut words = Words(Vec::new());
    tokens::read(html.as_bytes(), &mut words);
    folded(&words.0).unwrap_or_default()
}

impl TokenSink for PageReading<'_> {
    fn open(&mut self, tag: &[u8], attributes: &Attributes<'_>, self_closing: bool) {
        match tag {
            b"html" => {
                let languages = [attributes.text("lang"), attributes.text("xml:lang")];
                self.page.language = languages.into_iter().find(|tag| !tag.is_empty()).map(|tag| cut(&tag));
            }
            b"head" => self.page.has_head = true,
            b"svg" if !self_closing => self.svg_depth += 1,
            b"title" if self.svg_depth == 0 => {
                self.page.facts.titles = self.page.facts.titles.saturating_add(1);
                if self.page.title.is_none() {
                    self.listen(Listening::Title);
                }
            }
            b"base" => self.rebase(attributes),
            b"meta" => self.meta(attributes),
            b"link" => self.link_element(attributes),
            b"script" if attributes.text("type").eq_ignore_ascii_case("application/ld+json") => {
                self.listen(Listening::LinkedData);
            }
            b"script" => self.page.scripts += 1,
            b"h1" | b"h2" | b"h3" | b"h4" | b"h5" | b"h6" => {
                let facts = &mut self.page.facts;
                facts.first_level = facts.first_level.saturating_add(u8::from(tag == b"h1"));
                if self.content.is_content() {
                    self.listen(Listening::Heading(tag[1] - b'0'));
                }
            }
            b"input" => self.page.facts.password |= attributes.text("type").eq_ignore_ascii_case("password"),
            b"p" if self.page.first_paragraph.is_none() && self.content.is_content() => {
                self.listen(Listening::Paragraph);
            }
            b"a" | b"area" => self.link(attributes),
            b"picture" => self.picture = None,
            // The fallback of a lazy picture is inside a noscript.
            b"img" if self.content.is_content() || self.content.is_for_no_script() => self.image(attributes),
            b"video" => {
                let place = |name: &str| self.file(&attributes.text(name));
                let (content, poster) = (place("src").or(place("data-src")), place("poster"));
                self.films.begin(content, poster, title_of(attributes));
            }
            b"source" if self.films.is_open() => {
                let content = self.file(&attributes.text("src")).or(self.file(&attributes.text("data-src")));
                self.films.source(content);
            }
            b"source" => {
                let offer = ImageCandidate::largest_of([&attributes.text("srcset"), &attributes.text("data-srcset")]);
                self.picture = ImageCandidate::larger(self.picture.take(), offer);
            }
            b"iframe" => self.frame(attributes),
            _ => {}
        }
        if !self_closing && !is_void(tag) {
            self.content.open(tag, attributes.raw("role"), attributes.raw("class"), attributes.raw("id"));
        }
    }

    fn close(&mut self, tag: &[u8]) {
        match tag {
            b"title" | b"script" | b"p" | b"h1" | b"h2" | b"h3" | b"h4" | b"h5" | b"h6" => self.heard_out(),
            b"svg" => self.svg_depth = self.svg_depth.saturating_sub(1),
            b"video" => self.films.end(),
            b"picture" => self.picture = None,
            _ => {}
        }
        self.content.close(tag);
    }

    fn text(&mut self, text: &[u8]) {
        let most = match self.listening {
            Listening::No => 0,
            Listening::LinkedData => LARGEST_DATA,
            Listening::Title | Listening::Heading(_) | Listening::Paragraph => LONGEST_TEXT,
        };
        let room = most.saturating_sub(self.heard.len());
        self.heard.extend_from_slice(&text[..text.len().min(room)]);
        if !matches!(self.listening, Listening::Title) {
            self.content.text(text);
            if self.content.is_content() {
                self.page.text_bytes += text.trim_ascii().len();
                self.page.facts.words = self.page.facts.words.saturating_add(words_in(text));
            }
        }
    }
}

impl PageReading<'_> {
    fn finish(mut self) -> Page {
        self.heard_out();
        self.weigh_content();
        self.page.digest = self.content.digest();
        self.page.has_head |= self.page.title.is_some();
        let first_heading = self.page.headings.iter().find(|heading| heading.level == 1).map(|h| h.text.clone());
        let stated = self.data.headline.take().and_then(|text| folded(text.as_bytes()));
        self.page.headline = stated.or(self.og_title.clone()).or(first_heading.clone());
        // If the first heading is only a name after a separator, it names the site or a section.
        let own = self.page.headline.as_deref().and_then(titles::ending).map(|(own, _)| own.trim().to_owned());
        if own.is_some() && own == first_heading {
            self.page.headline = own;
        }
        self.page.title = self.page.title.take().or(self.og_title.take()).or(first_heading);
        self.page.description = self.page.description.take().or(self.og_description.take());
        self.page.first_paragraph = self.page.first_paragraph.take().or(self.short_paragraph.take());
        self.page.modified = self.page.modified.or_else(|| self.date(self.data.modified.as_deref()?));
        self.page.published = self.page.published.or_else(|| self.date(self.data.published.as_deref()?));
        let lead = self.og_images.first().map(|image| image.as_str().to_owned());
        self.gather_images();
        let films = std::mem::take(&mut self.films);
        let linked = std::mem::take(&mut self.data.videos);
        let stated = linked.iter().map(|video| {
            let settled = video.clone().settled(|reference| self.file(reference), |date| self.date(date));
            // The text is kept, because it shows whether the date has a zone.
            Video { publication_date: video.publication_date.clone(), ..settled }
        });
        self.page.stated_videos = stated.collect();
        self.page.videos =
            films.gather(linked, &self.page, lead, |reference| self.file(reference), |text| self.date(text));
        // Something else on the page may name the player of a film.
        let plain = |address: &str| address.split(['?', '#']).next().unwrap_or(address).to_owned();
        let told: Vec<String> =
            self.page.videos.iter().filter_map(|video| video.player_loc.as_deref()).map(plain).collect();
        self.page.unknown_players.retain(|player| !told.contains(&plain(player.as_str())));
        self.page
    }
}

impl PageReading<'_> {
    /// The facts that follow from what was found.
    fn weigh_content(&mut self) {
        let origin = self.address.origin();
        let within = |link: &&super::Link| link.nofollow && link.address.origin() == origin;
        let nofollow = self.page.links.iter().filter(within).count();
        let levels: Vec<u8> = self.page.headings.iter().map(|heading| heading.level).collect();
        let facts = &mut self.page.facts;
        facts.nofollow = u8::try_from(nofollow).unwrap_or(u8::MAX);
        facts.headings = u8::try_from(levels.len()).unwrap_or(u8::MAX);
        facts.skips_level = levels.windows(2).any(|pair| pair[1] > pair[0] + 1);
    }
}

/// The number of words: of bytes that are no white space and follow some, or nothing.
fn words_in(text: &[u8]) -> u32 {
    let is_space = |byte: u8| byte.is_ascii_whitespace();
    let first = text.first().is_some_and(|byte| !is_space(*byte));
    let begun = text.windows(2).filter(|pair| is_space(pair[0]) && !is_space(pair[1])).count();
    u32::from(first) + begun as u32
}

/// Elements without an end tag (HTML Standard, "void elements").
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

    use super::super::Player;
    use super::*;
    use crate::page::{Heading, Link};
    use crate::query::Parameters;
    use crate::video::Video;

    const HERE: &str = "https://www.marrowvale.example/films/cutting/";

    fn page(html: &str) -> Page {
        let reader = PageReader {
            timezone: TimeZone::get("Europe/London").unwrap(),
            tokens: vec!["lampbot".into()],
            players: vec![
                Player::new("https://films.example/embed/{id}", None, Some("https://films.example/{id}.jpg")).unwrap(),
            ],
            drop_parameters: Parameters::new(&["sig", "x-*"]).unwrap(),
            ..PageReader::default()
        };
        read(html.as_bytes(), &Address::parse(HERE).unwrap(), &reader).unwrap()
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
        let halts = Address::parse("https://www.marrowvale.example/halts/").unwrap();
        assert_eq!(page.links, [Link { address: halts, nofollow: true }]);
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
    fn one_film_described_three_ways_is_one_video() {
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
    #[case::part_of_a_class("<ul id=skip_nav><li>Home</ul><p>Text", "<ul id=skip_nav><li>Fares</ul><p>Text", true)]
    #[case::run_together("<div class=navHeader>Home</div><p>Text", "<div class=navHeader>Fares</div><p>Text", true)]
    #[case::navvies("<div class=navvies>Home</div><p>Text", "<div class=navvies>Fares</div><p>Text", false)]
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
    fn a_page_decides_about_itself(#[case] html: &str, #[case] wanted: Option<bool>) {
        assert_eq!(page(html).own_word.keep, wanted);
    }

    #[test]
    fn a_page_without_a_head_and_a_title_within_a_drawing() {
        let page = page("<svg><title>Lamp</title></svg><h1>Lampworks</h1>");
        assert!(!page.has_head);
        assert_eq!(page.title.as_deref(), Some("Lampworks"));
    }

    #[test]
    fn base_affects_what_follows() {
        let page = page("<base href='https://cdn.example/x/'><img src=a.svg>");
        assert_eq!(page.images[0].as_str(), "https://cdn.example/x/a.svg");
    }

    proptest! {
        #[test]
        fn any_bytes_can_be_read(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
            let reader = PageReader::default();
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

    #[rstest]
    #[case::lazy("<img src='data:image/gif;base64,R0' data-original=/a.jpg>", &["a.jpg"])]
    #[case::fallback("<img data-x=1><noscript><img src=/a.jpg></noscript>", &["a.jpg"])]
    #[case::picture("<picture><source srcset='/b.webp 1600w'><img src=/a.jpg></picture><img src=/c.jpg>", &["b.webp", "c.jpg"])]
    #[case::signed("<img src='/a.jpg?sig=1&w=3&X-day=2'><img src='/a.jpg?w=3&sig=2'>", &["a.jpg?w=3"])]
    #[case::icons("<img src=/a.svg width=16 height=16><img src=/icons/a.svg><img src=/favicon.ico>", &[])]
    #[case::lead("<meta property=og:image content=/lead.jpg><img src=/a.jpg>", &["a.jpg", "lead.jpg"])]
    fn pictures(#[case] html: &str, #[case] wanted: &[&str]) {
        let found: Vec<String> = page(html).images.iter().map(|image| image.path()[1..].to_owned()).collect();
        assert_eq!(found, wanted);
    }

    #[test]
    fn lead_pictures_can_be_left_out() {
        let reader = PageReader { lead_picture: false, ..PageReader::default() };
        let html = b"<meta property=og:image content=/lead.jpg><video src=/a.webm></video>";
        let page = read(html, &Address::parse(HERE).unwrap(), &reader).unwrap();
        assert_eq!(page.images, []);
        assert!(page.videos[0].thumbnail_loc.is_some(), "it may still stand for the film");
    }

    #[test]
    fn a_player_in_a_frame_takes_what_it_lacks_from_the_page() {
        let page = page(
            "<title>Cutting</title><main><p>Short.<p>Down the bank from the summit, seen from the cab of No. 3.</p>
             <iframe src='https://films.example/embed/c7?autoplay=1'></iframe><iframe data-src='https://maps.example/1'></iframe>",
        );
        let wanted = Video {
            player_loc: Some("https://films.example/embed/c7".into()),
            thumbnail_loc: Some("https://films.example/c7.jpg".into()),
            title: Some("Cutting".into()),
            description: Some("Down the bank from the summit, seen from the cab of No. 3.".into()),
            ..Video::default()
        };
        assert_eq!(page.videos, [wanted]);
        assert_eq!(page.frames.len(), 2);
        assert!(page.unknown_players.is_empty(), "the player is known, and a map is none");
    }

    #[test]
    fn translations_and_oembed_are_found_in_the_head() {
        let page = page(
            "<link rel=alternate hreflang=cy href=/cy/><link rel=alternate hreflang=x-default href=/>
             <link rel=alternate type=application/json+oembed href='/o?url=1'><link rel=alternate type=application/rss+xml href=/feed>
             <meta name=robots content='nofollow, unavailable_after: Wednesday, 3 Mar 2027 10:00:00 GMT'>",
        );
        let alternates: Vec<(&str, &str)> =
            page.alternates.iter().map(|one| (one.language.as_ref(), crate::address::path(&one.url))).collect();
        assert_eq!(alternates, [("cy", "/cy/"), ("x-default", "/")]);
        assert_eq!(page.oembed.as_ref().map(Address::path), Some("/o?url=1"));
        assert!(page.nofollow && page.noindex.is_none());
    }

    #[rstest]
    #[case("noindex", true, false)]
    #[case("lampbot: noindex, nofollow", true, true)]
    #[case("otherbot: noindex", false, false)]
    #[case("none", true, true)]
    #[case("unavailable_after: 25 Jun 2027 15:00:00 GMT", false, false)]
    fn the_header_can_say_the_same(#[case] value: &str, #[case] noindex: bool, #[case] nofollow: bool) {
        let words = super::super::robots_header(value, &["lampbot".into()]);
        assert_eq!((words.noindex, words.nofollow), (noindex, nofollow));
        assert_eq!(words.unavailable_after.is_some(), value.starts_with("unavailable"));
    }

    #[rstest]
    #[case(
        "<title>A word first</title><h1>Please prove that a human is reading this</h1><script></script>",
        true,
        false
    )]
    #[case("<title>Stop</title><p>We have to check your browser before the gate opens.</p>", true, false)]
    #[case("<title>Access to the yard is denied</title>", true, false)]
    #[case("<title>Checks of the track</title><p>Each human hand counts, and every lamp is lit.</p>", false, false)]
    #[case("<div id=app></div><script src=/a.js></script>", false, true)]
    #[case("<main><p>The lamp room is open on Sundays, and on the days when a steam train runs.", false, false)]
    fn pages_that_say_nothing(#[case] html: &str, #[case] wall: bool, #[case] script: bool) {
        let page = page(html);
        assert_eq!((page.is_wall(), page.needs_script()), (wall, script));
    }

    #[rstest]
    #[case::heading("<title>Frost | Vale</title><h1>Frost</h1>", "Frost")]
    #[case::graph("<title>Frost | Vale</title><meta property=og:title content=Frost>", "Frost")]
    #[case::graph_with_the_name(
        "<title>Frost | Vale</title><meta property=og:title content='Frost – The Vale'><h1>Frost</h1>",
        "Frost"
    )]
    #[case::another_heading("<title>Frost | Vale</title><h1>Ice</h1>", "Frost | Vale")]
    #[case::no_name("<title>Frost</title><h1>Ice</h1>", "Frost")]
    fn the_site_name_is_removed_from_a_title(#[case] html: &str, #[case] wanted: &str) {
        assert_eq!(page(html).own_title().as_deref(), Some(wanted));
    }

    #[test]
    fn words_without_their_marks() {
        assert_eq!(super::text_of("<p>Frost &amp; <b>fog</b>gy<p>days"), "Frost & foggy days");
    }
}
