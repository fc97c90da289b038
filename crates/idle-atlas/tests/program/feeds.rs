//! The source `feed`.

use rstest::rstest;

use crate::support::{TestSite, has, source, words};

const RSS: &str = r#"<?xml version="1.0"?><rss version="2.0"><channel><title>News</title><link>https://www.marrowvale.example/</link>
<item><title>Gala &amp; steam</title><link>https://www.marrowvale.example/news/gala/</link><pubDate>Sat, 02 May 2026 09:00:00 GMT</pubDate><category>events</category>
<description>&lt;p&gt;Steam all day.&lt;/p&gt;&lt;img src="/pictures/gala.svg"&gt;</description><enclosure url="https://www.marrowvale.example/e.jpg" type="image/jpeg" length="9"/>
<enclosure url="/gala.webm" type="video/webm" length="9"/></item>
<item><title>Nowhere</title></item></channel></rss>"#;
const ATOM: &str = r#"<feed xmlns="http://www.w3.org/2005/Atom"><title>News</title><id>urn:x</id><updated>2026-05-02T09:00:00Z</updated>
<entry><title>Gala &amp; steam</title><id>urn:1</id><link href="/news/gala/"/><updated>2026-05-02T09:00:00Z</updated><content type="html">&lt;img src="/pictures/gala.svg"&gt;</content></entry></feed>"#;
const JSON_FEED: &str = r#"{"version": "https://jsonfeed.org/version/1.1", "title": "News", "items": [{"id": "1", "url": "https://www.marrowvale.example/news/gala/", "title": "Gala & steam", "date_published": "2026-05-02T09:00:00Z", "content_html": "<img src='/pictures/gala.svg'>", "summary": "Steam all day.", "attachments": [{"url": "https://www.marrowvale.example/gala.webm", "mime_type": "video/webm", "duration_in_seconds": 95}]}]}"#;

#[rstest]
#[case("news.xml", RSS)]
#[case("news.atom", ATOM)]
#[case("news.json", JSON_FEED)]
fn feeds(#[case] name: &str, #[case] text: &str) {
    let site = TestSite::new(&source("feed", &format!("file = \"{name}\"\nsection = \"news\"")));
    site.write(name, text);
    site.build();
    assert_eq!(site.lastmod("/news/gala/").as_deref(), Some("2026-05-02T09:00:00Z"));
    let words = words(&site, "/news/gala/");
    assert!(has(&words, "title", "Gala & steam"), "{words:?}");
    assert!(has(&words, "images", "https://www.marrowvale.example/pictures/gala.svg"), "{words:?}");
    let videos = |said: &[(String, String)]| said.iter().filter(|(field, _)| field == "videos").count();
    match name {
        "news.xml" => {
            assert!(has(&words, "images", "https://www.marrowvale.example/e.jpg"), "{words:?}");
            assert_eq!(videos(&words), 1);
            site.run(&["survey"]).says(1, &["news.xml: entry 2: it has no link", "video that is not written"]);
        }
        "news.json" => assert!(has(&words, "videos", "https://www.marrowvale.example/gala.webm"), "{words:?}"),
        _ => assert_eq!(videos(&words), 0),
    }
}

/// A number that the library for feeds cannot hold ends its work, not ours.
#[test]
fn a_panic_of_the_reader_is_a_failed_source() {
    let config = source("feed", "file = \"news.xml\"") + &source("table", "file = \"t.csv\"");
    let site = TestSite::new(&config);
    site.write("news.xml", RSS);
    site.write("t.csv", "url\n/a/\n");
    site.run(&["build"]).says(1, &["2 entries"]);
    let long = RSS
        .replace("<rss ", "<rss xmlns:itunes=\"http://www.itunes.com/dtds/podcast-1.0.dtd\" ")
        .replace("</item>", "<itunes:duration>99999999999999999999999</itunes:duration></item>");
    site.write("news.xml", long);
    site.write("t.csv", "url\n/a/\n/b/\n");
    site.run(&["build"]).says(1, &["3 entries", "feed news.xml: it could not be read", "report this as a bug"]);
    assert!(site.paths().contains("/news/gala/"));
}
