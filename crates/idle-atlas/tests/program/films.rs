//! Videos and pictures: found where pages hide them, completed from other places, and switched by section.

#[cfg(feature = "test-engine")]
use atlas_io::test_engine::{Mood, TestEngine, TestEngineSettings};
use rstest::rstest;

use crate::support::{HTML, TestSite};

fn head_and_body(head: &str, body: &str) -> String {
    format!(
        "<html><head><title>The cutting</title>{head}</head><body><main><p>Down the bank from the summit, seen from the cab.</p>{body}</main>"
    )
}

const PLAYER: &str =
    "[[player]]\nurl = \"https://films.example/embed/{id}\"\nthumbnail = \"https://films.example/stills/{id}.jpg\"\n";

#[rstest]
#[case::element("", "<video src=/f.webm poster=/p.jpg></video>", Some("https://www.marrowvale.example/f.webm"))]
#[case::open_graph(
    "<meta property=og:video content=/f.webm><meta property=og:image content=/p.jpg>",
    "",
    Some("https://www.marrowvale.example/f.webm")
)]
#[case::graph(
    "<script type='application/ld+json'>{\"@graph\": [[{\"@type\": \"WebPage\", \"video\": {\"@type\": \"VideoObject\", \"name\": \"Film\", \"thumbnailUrl\": \"/p.jpg\", \"contentUrl\": \"/f.webm\"}}]]}</script>",
    "",
    Some("https://www.marrowvale.example/f.webm")
)]
#[case::player(
    "",
    "<iframe data-src='https://films.example/embed/c7?autoplay=1'></iframe>",
    Some("https://films.example/embed/c7")
)]
#[case::map("", "<iframe src='https://maps.example/7'></iframe>", None)]
#[case::no_thumbnail("", "<video src=/f.webm></video>", None)]
fn films_are_found(#[case] head: &str, #[case] body: &str, #[case] wanted: Option<&str>) {
    let site = TestSite::new(&format!("{HTML}{PLAYER}"));
    site.write("public/film.html", head_and_body(head, body));
    site.build();
    let listed = site.listed();
    let video = listed["sitemap.xml"][0].videos.first();
    assert_eq!(video.and_then(|video| video.place()), wanted);
    if let Some(video) = video {
        assert_eq!(video.description.as_deref(), Some("Down the bank from the summit, seen from the cab."));
    }
    if body.contains("/f.webm") && wanted.is_none() {
        site.run(&["survey", "--verbose"]).says(0, &["film.html (no thumbnail"]);
        site.run(&["survey"]).says(0, &["1  video that is not written", "film.html"]);
    }
}

#[test]
fn one_film_described_in_three_ways_is_one_video() {
    let site = TestSite::new(HTML);
    let head = "<meta property=og:video content=/f.webm><meta property=og:image content=/lead.jpg><script type='application/ld+json'>{\"@type\": \"VideoObject\", \"name\": \"The film\", \"contentUrl\": \"https://www.marrowvale.example/f.webm\", \"duration\": \"PT95S\"}</script>";
    site.write("public/film.html", head_and_body(head, "<video><source src=/f.webm></video>"));
    site.build();
    let listed = site.listed();
    let videos = &listed["sitemap.xml"][0].videos;
    assert_eq!(videos.len(), 1);
    assert_eq!((videos[0].title.as_deref(), videos[0].duration), (Some("The film"), Some(95)));
    assert_eq!(videos[0].thumbnail_loc.as_deref(), Some("https://www.marrowvale.example/lead.jpg"));
}

#[cfg(feature = "test-engine")]
fn engine(mood: Mood) -> TestEngine {
    TestEngine::start(TestEngineSettings { mood, ..TestEngineSettings::fair() }).unwrap()
}

#[cfg(feature = "test-engine")]
#[test]
fn providers_supply_what_a_page_lacks() {
    let engine = engine(Mood::Fair);
    let site = TestSite::new(&format!(
        "{HTML}[[oembed]]\nmatching = [\"https://films.example/**\"]\nendpoint = \"{}\"\n",
        engine.films()
    ));
    site.write("public/a.html", head_and_body("", "<iframe src='https://films.example/embed/cutting'></iframe>"));
    site.write("public/b.html", head_and_body("", "<iframe src='https://films.example/embed/unknown-7'></iframe>"));
    site.build();
    let listed = site.listed();
    let videos: Vec<_> = listed["sitemap.xml"].iter().flat_map(|url| &url.videos).collect();
    assert_eq!(videos.len(), 1, "the provider does not know the other");
    assert_eq!(videos[0].title.as_deref(), Some("Film cutting"));
    assert_eq!(videos[0].player_loc.as_deref(), Some("https://films.example/embed/cutting"));
    assert_eq!(videos[0].thumbnail_loc.as_deref(), Some("https://films.example/stills/cutting.jpg"));
    assert_eq!((videos[0].duration, videos[0].uploader.as_deref()), (Some(95), Some("Marrow Vale Films")));
}

#[cfg(feature = "test-engine")]
#[test]
fn a_failing_provider_is_asked_again_later() {
    let engine = engine(Mood::Status(503));
    let site = TestSite::new(&format!(
        "{HTML}[[oembed]]\nmatching = [\"https://films.example/**\"]\nendpoint = \"{}\"\n",
        engine.films()
    ));
    site.write("public/a.html", head_and_body("", "<iframe src='https://films.example/embed/cutting'></iframe>"));
    site.run(&["survey"])
        .says(0, &["a.html: oEmbed: ", "503", "its videos may lack something until then", "1 entry would be listed"]);
    engine.set_mood(Mood::Fair);
    assert_eq!(site.json(&["survey"])["sections"][0]["videos"], 1);
}

#[cfg(feature = "test-engine")]
#[test]
fn links_on_pages_are_followed_only_when_asked_and_never_into_this_machine() {
    let engine = engine(Mood::Fair);
    let link = format!(
        "<link rel=alternate type='application/json+oembed' href='{}?url=https%3A%2F%2Ffilms.example%2Fembed%2Fc7'>",
        engine.films()
    );
    let site = TestSite::new(&format!("{HTML}[videos]\noembed = true\n"));
    site.write("public/a.html", head_and_body(&link, ""));
    assert_eq!(site.json(&["survey"])["sections"][0]["videos"], 0, "a page cannot send the tool to this machine");
    let at_home = TestSite::at_url(&engine.films().replace("oembed", ""), &format!("{HTML}[videos]\noembed = true\n"));
    at_home.write("public/a.html", head_and_body(&link, ""));
    assert_eq!(at_home.json(&["survey"])["sections"][0]["videos"], 1, "unless the site itself is there");
    at_home.configure(HTML);
    assert_eq!(at_home.json(&["survey"])["sections"][0]["videos"], 0, "and not unasked");
}

#[test]
fn pictures_and_videos_are_switched_by_section() {
    let sections = "[[section]]\nname = \"journal\"\nmatching = [\"/journal/**\"]\nimages = false\n[[section]]\nname = \"films\"\nmatching = [\"/films/**\"]\nvideos = false\n";
    let site = TestSite::new(&format!("{HTML}{sections}[images]\nmost_per_page = 2\ndrop_parameters = [\"sig\"]\n"));
    let body = "<img src='/a.jpg?sig=1'><img src=/b.jpg><img src=/c.jpg><img src=data:image/png,x><video src=/f.webm poster=/p.jpg></video>";
    for page in ["journal/x.html", "films/x.html", "x.html"] {
        site.write(&format!("public/{page}"), head_and_body("", body));
    }
    site.build();
    let counts = |path: &str| {
        let listed = site.listed();
        let url = listed.values().flatten().find(|url| url.loc.as_deref().unwrap().ends_with(path)).unwrap().clone();
        (url.images.len(), url.videos.len())
    };
    assert_eq!(counts("example/x.html"), (2, 1));
    assert_eq!(counts("/journal/x.html"), (0, 1));
    assert_eq!(counts("/films/x.html"), (2, 0));
    let before = site.outputs();
    for page in ["journal/x.html", "films/x.html", "x.html"] {
        site.write(&format!("public/{page}"), head_and_body("", &body.replace("sig=1", "sig=2")));
    }
    site.build();
    assert_eq!(site.outputs(), before, "a new signature makes no new picture");
}

#[test]
fn documents_are_listed_when_asked_for() {
    let site = TestSite::new(&format!("{HTML}documents = [\"pdf\"]\n"));
    site.page("index.html", "Home", "x");
    site.write("public/timetable.PDF", "%PDF-1.7 ...");
    site.write("public/notes.odt", "...");
    site.build();
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), ["/", "/timetable.PDF"]);
}
