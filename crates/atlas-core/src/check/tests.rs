//! What the inspection finds in small files, and that it finds nothing else.

use jiff::tz::TimeZone;
use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::accepted::Accepted;
use crate::format;
use crate::lastmod::Lastmod;

const MAIN: &str = "https://www.marrowvale.example/sitemap.xml";
const ROBOTS: &str = "https://www.marrowvale.example/robots.txt";
const HALTS: &str = "<loc>https://www.marrowvale.example/halts/</loc>";

fn inspection() -> Inspection<'static> {
    let now = Lastmod::read("2026-11-23T12:00:00Z", &TimeZone::UTC).unwrap();
    Inspection::new(now, Accepted::none(), PageSample::None)
}

fn inspect(robots: &str, files: &[(&str, &str)]) -> Report {
    let mut inspection = inspection();
    inspection.robots(ROBOTS, &FetchResult::Bytes(robots.as_bytes().to_vec()).into(), None);
    while let Some(wanted) = inspection.next_wanted() {
        let known = files.iter().find(|(name, _)| wanted.address.ends_with(name));
        let fetched = known.map_or(FetchResult::Missing, |(_, text)| FetchResult::Bytes(text.as_bytes().to_vec()));
        if fetched == FetchResult::Missing && wanted.is_guess() {
            continue;
        }
        let judged = inspection.judge().file(&wanted, fetched.into());
        inspection.take(&wanted, judged);
    }
    inspection.finish()
}

fn codes(report: &Report) -> Vec<&str> {
    report.findings.iter().map(|finding| finding.code).collect()
}

fn urlset(inside: &str) -> String {
    let open = String::from_utf8(format::Frame::ALL.open(None)).unwrap();
    format!("{open}{inside}</urlset>")
}

fn index(inside: &str) -> String {
    format!("<sitemapindex xmlns=\"{}\">{inside}</sitemapindex>", format::SITEMAP)
}

fn declared() -> String {
    format!("User-agent: *\nDisallow: /staff/\nSitemap: {MAIN}\n")
}

/// The findings about one entry with these contents.
fn of_entry(inside: &str) -> Report {
    inspect(&declared(), &[("sitemap.xml", &urlset(&format!("<url>{inside}</url>")))])
}

#[rstest]
#[case::good("<loc>https://www.marrowvale.example/a</loc><lastmod>2026-11-01</lastmod>", &[])]
#[case::no_loc("", &["loc-missing"])]
#[case::relative("<loc>/a</loc>", &["loc-no-url"])]
#[case::raw("<loc>https://www.marrowvale.example/â</loc>", &["loc-no-url"])]
#[case::host("<loc>https://marrowvale.example/a</loc>", &["other-host"])]
#[case::scheme("<loc>http://www.marrowvale.example/a</loc>", &["other-host"])]
#[case::barred("<loc>https://www.marrowvale.example/staff/a</loc>", &["section-shut"])]
#[case::no_date("<loc>https://www.marrowvale.example/a</loc><lastmod>soon</lastmod>", &["lastmod-no-date"])]
#[case::form("<loc>https://www.marrowvale.example/a</loc><lastmod>2026-11</lastmod>", &["lastmod-form"])]
#[case::future("<loc>https://www.marrowvale.example/a</loc><lastmod>2027-01-01</lastmod>", &["lastmod-future"])]
#[case::hint("<loc>https://www.marrowvale.example/a</loc><priority>7</priority>", &["hint-unknown"])]
#[case::word("<loc>https://www.marrowvale.example/a</loc><changefreq>often</changefreq>", &["hint-unknown"])]
#[case::order("<lastmod>2026-11-01</lastmod><loc>https://www.marrowvale.example/a</loc>", &["element-order"])]
#[case::twice("<loc>https://www.marrowvale.example/a</loc><loc>https://www.marrowvale.example/b</loc>", &["element-twice"])]
#[case::unknown("<loc>https://www.marrowvale.example/a</loc><lastmodified>2026-11-01</lastmodified>", &["element-unknown"])]
#[case::foreign("<loc>https://www.marrowvale.example/a</loc><x:y xmlns:x='https://lamp.example/'><x:z/></x:y>", &["namespace-unknown"])]
#[case::unprefixed("<loc>https://www.marrowvale.example/a</loc><image/>", &["namespace"])]
#[case::caption(
    "<loc>https://www.marrowvale.example/a</loc><image:image><image:loc>https://www.marrowvale.example/a.svg</image:loc><image:caption>x</image:caption></image:image>",
    &["withdrawn"]
)]
#[case::picture_nowhere("<loc>https://www.marrowvale.example/a</loc><image:image/>", &["image-no-url"])]
#[case::relative_picture("<loc>https://www.marrowvale.example/a</loc><image:image><image:loc>/a.svg</image:loc></image:image>", &["image-no-url"])]
fn what_is_wrong_with_a_url(#[case] inside: &str, #[case] wanted: &[&str]) {
    let report = of_entry(inside);
    assert_eq!(codes(&report), wanted, "{:#?}", report.findings);
    assert!(report.findings.iter().all(|finding| finding.file.as_deref() == Some(MAIN)));
}

const WHOLE_VIDEO: [(&str, &str); 4] = [
    ("thumbnail_loc", "https://www.marrowvale.example/cab.jpg"),
    ("title", "Cab ride"),
    ("description", "From the cab."),
    ("content_loc", "https://www.marrowvale.example/cab.mp4"),
];

/// A video in which one element is replaced, or another added at its end.
fn video(name: &str, element: &str) -> String {
    let parts = WHOLE_VIDEO.map(|(known, text)| match known == name {
        true => element.to_owned(),
        false => format!("<video:{known}>{text}</video:{known}>"),
    });
    let added = if WHOLE_VIDEO.iter().any(|(known, _)| *known == name) { "" } else { element };
    format!("{HALTS}<video:video>{}{added}</video:video>", parts.concat())
}

#[rstest]
#[case::whole("", "", &[])]
#[case::no_title("title", "", &["video-incomplete"])]
#[case::no_place("content_loc", "", &["video-no-place"])]
#[case::the_page("content_loc", "<video:content_loc>https://www.marrowvale.example/halts/</video:content_loc>", &["video-is-page"])]
#[case::relative("thumbnail_loc", "<video:thumbnail_loc>cab.jpg</video:thumbnail_loc>", &["video-no-url"])]
#[case::duration("duration", "<video:duration>28801</video:duration>", &["video-duration"])]
#[case::rating("rating", "<video:rating>5.5</video:rating>", &["video-rating"])]
#[case::views("view_count", "<video:view_count>12k</video:view_count>", &["video-views"])]
#[case::date("publication_date", "<video:publication_date>spring</video:publication_date>", &["video-date"])]
#[case::expired("expiration_date", "<video:expiration_date>2019-01-01</video:expiration_date>", &["video-expired"])]
#[case::flag("live", "<video:live>true</video:live>", &["video-yes-no"])]
#[case::countries("restriction", "<video:restriction relationship='allow'>GB UK</video:restriction>", &["video-countries"])]
#[case::no_relationship("restriction", "<video:restriction>GB</video:restriction>", &["video-countries"])]
#[case::platforms("platform", "<video:platform relationship='deny'>desktop</video:platform>", &["video-platforms"])]
#[case::uploader("uploader", "<video:uploader info='https://quay.example/ada'>Ada</video:uploader>", &["video-uploader"])]
#[case::withdrawn("price", "<video:price currency='GBP'>1</video:price>", &["withdrawn"])]
#[case::order("duration", "<video:live>no</video:live><video:duration>60</video:duration>", &["element-order"])]
fn what_is_wrong_with_a_video(#[case] name: &str, #[case] element: &str, #[case] wanted: &[&str]) {
    let report = of_entry(&video(name, element));
    assert_eq!(codes(&report), wanted, "{:#?}", report.findings);
}

#[test]
fn videos_with_too_much() {
    let tags = "<video:tag>x</video:tag>".repeat(33);
    assert_eq!(codes(&of_entry(&video("tag", &tags))), ["video-tags"]);
    let long = format!("<video:description>{}</video:description>", "x".repeat(2_049));
    assert_eq!(codes(&of_entry(&video("description", &long))), ["video-description"]);
}

#[rstest]
#[case::whole("<news:publication><news:name>Gazette</news:name><news:language>en</news:language></news:publication><news:publication_date>2026-11-22</news:publication_date><news:title>x</news:title>", &[])]
#[case::no_title("<news:publication><news:name>Gazette</news:name><news:language>en</news:language></news:publication><news:publication_date>2026-11-22</news:publication_date>", &["news-incomplete"])]
#[case::language("<news:publication><news:name>Gazette</news:name><news:language>english</news:language></news:publication><news:publication_date>2026-11-22</news:publication_date><news:title>x</news:title>", &["news-language"])]
#[case::old("<news:publication><news:name>Gazette</news:name><news:language>en</news:language></news:publication><news:publication_date>2026-11-02</news:publication_date><news:title>x</news:title>", &["news-too-old"])]
fn what_is_wrong_with_an_article(#[case] inside: &str, #[case] wanted: &[&str]) {
    assert_eq!(codes(&of_entry(&format!("{HALTS}<news:news>{inside}</news:news>"))), wanted);
}

/// A page with links to its translations: `/a en=/a cy=/b`.
fn page(text: &str) -> String {
    let (path, links) = text.split_once(' ').unwrap_or((text, ""));
    let link = |link: &str| {
        let (language, path) = link.split_once('=').unwrap();
        format!("<xhtml:link rel='alternate' hreflang='{language}' href='https://www.marrowvale.example{path}'/>")
    };
    let links: String = links.split_whitespace().map(link).collect();
    format!("<url><loc>https://www.marrowvale.example{path}</loc>{links}</url>")
}

#[rstest]
#[case::returned(&["/a en=/a cy=/b x-default=/a", "/b en=/a cy=/b x-default=/a"], &[])]
#[case::one_way(&["/a en=/a cy=/b", "/b"], &["alternate-not-returned"])]
#[case::nowhere(&["/a en=/a cy=/b"], &["alternate-not-in"])]
#[case::not_itself(&["/a cy=/b", "/b cy=/b en=/a"], &["alternate-not-itself"])]
#[case::language(&["/a en-UK=/a"], &["alternate-language"])]
#[case::two(&["/a en=/a cy=/b cy=/c", "/b cy=/b en=/a", "/c cy=/c en=/a"], &["alternate-twice"])]
fn what_is_wrong_with_translations(#[case] pages: &[&str], #[case] wanted: &[&str]) {
    let all: String = pages.iter().map(|text| page(text)).collect();
    assert_eq!(codes(&inspect(&declared(), &[("sitemap.xml", &urlset(&all))])), wanted);
    // The same in a file for each page.
    let files: Vec<(String, String)> =
        pages.iter().map(|text| (format!("{}.xml", &text[1..2]), urlset(&page(text)))).collect();
    let named = |name: &String| format!("<sitemap><loc>https://www.marrowvale.example/{name}</loc></sitemap>");
    let main = index(&files.iter().map(|(name, _)| named(name)).collect::<String>());
    let mut given = vec![("sitemap.xml", main.as_str())];
    given.extend(files.iter().map(|(name, text)| (name.as_str(), text.as_str())));
    assert_eq!(codes(&inspect(&declared(), &given)), wanted);
}

#[rstest]
#[case::nothing(urlset(""), "nothing-in-it")]
#[case::broken("<urlset".into(), "not-well-formed")]
#[case::control(urlset(&format!("<url>{HALTS}</url>\n<!-- \u{1} --><url><loc>https://www.marrowvale.example/\u{1}</loc></url>")), "not-well-formed")]
#[case::deep(urlset(&"<a>".repeat(100)), "not-well-formed")]
#[case::web_page("<html/>".into(), "other-root")]
#[case::many(urlset(&(0..50_001).map(|n| format!("<url><loc>https://www.marrowvale.example/{n}</loc></url>")).collect::<String>()), "too-many-urls")]
#[case::large(" ".repeat(52_428_801), "too-many-bytes")]
#[case::twice(urlset(&format!("<url>{HALTS}</url>").repeat(2)), "duplicate")]
#[case::marked(format!("\u{feff}{}", urlset(&format!("<url>{HALTS}</url>"))), "byte-order-mark")]
fn what_is_wrong_with_a_file(#[case] file: String, #[case] wanted: &str) {
    let report = inspect(&declared(), &[("sitemap.xml", &file)]);
    assert!(codes(&report).contains(&wanted), "{:#?}", report.findings);
    assert!(report.findings.iter().all(|finding| [wanted, "element-unknown"].contains(&finding.code)));
}

#[test]
fn a_blank_line_is_named_and_the_rest_is_read() {
    let file = format!("\n{}", urlset(&format!("<url>\n{HALTS}<lastmod>soon</lastmod></url>")));
    let report = inspect(&declared(), &[("sitemap.xml", &file)]);
    assert_eq!(codes(&report), ["before-declaration", "lastmod-no-date"]);
    assert_eq!(report.findings[1].line, Some(4));
    assert_eq!(report.files[0].entries, 1);
}

#[test]
fn an_index_and_its_files() {
    let child = |name: &str, date: &str| {
        format!("<sitemap><loc>https://www.marrowvale.example/{name}</loc><lastmod>{date}</lastmod></sitemap>")
    };
    let all = [
        child("a.xml", "2026-10-01"),
        child("gone.xml", "2026-10-01"),
        child("inner.xml", "2026-10-01"),
        child("sitemap.xml", "2026-10-01"),
        "<sitemap><loc>https://cdn.example/b.xml</loc></sitemap>".to_owned(),
    ]
    .concat();
    let one = "<url><loc>https://www.marrowvale.example/x</loc><lastmod>2026-11-02</lastmod></url>";
    let report = inspect(
        &declared(),
        &[("sitemap.xml", &index(&all)), ("a.xml", &urlset(one)), ("inner.xml", &index(&child("c.xml", "2026-10-01")))],
    );
    let mut found = codes(&report);
    found.sort_unstable();
    let missing = ["file-missing"; 3];
    assert_eq!(found, [&["child-elsewhere"][..], &missing, &["index-behind", "index-in-index", "index-loop"]].concat());
    let entries: Vec<u64> = report.files.iter().map(|file| file.entries).collect();
    assert_eq!(entries, [5, 1, 1]);
}

#[test]
fn indexes_that_never_end_are_given_up() {
    let mut inspection = inspection();
    inspection.robots(ROBOTS, &FetchResult::Bytes(declared().into_bytes()).into(), None);
    let mut files = 0;
    while let Some(wanted) = inspection.next_wanted() {
        files += 1;
        let next = format!("<sitemap><loc>https://www.marrowvale.example/{files}.xml</loc></sitemap>");
        let judged = inspection.judge().file(&wanted, FetchResult::Bytes(index(&next).into_bytes()).into());
        inspection.take(&wanted, judged);
    }
    let report = inspection.finish();
    assert_eq!(files, 4);
    assert_eq!(codes(&report), ["index-in-index", "index-in-index", "index-in-index", "index-loop"]);
}

#[test]
fn robots_txt_that_shuts_the_site_or_is_silent() {
    assert_eq!(codes(&inspect("User-agent: *\nDisallow: /\n", &[])), ["site-shut", "not-declared"]);
    assert_eq!(codes(&inspect("", &[])), ["not-declared"]);
    assert_eq!(codes(&inspect("<!DOCTYPE html><title>x</title>", &[])), ["robots-not-text", "not-declared"]);
}

/// Crawlers that the configuration names count as well.
#[test]
fn rules_for_named_crawlers_count() {
    let mut inspection = inspection();
    inspection.heed(&["lampbot".to_owned()]);
    let robots =
        format!("User-agent: lampbot\nDisallow: /yard/\nDisallow: /$\nUser-agent: *\nDisallow:\nSitemap: {MAIN}\n");
    inspection.robots(ROBOTS, &FetchResult::Bytes(robots.into_bytes()).into(), None);
    let wanted = inspection.next_wanted().unwrap();
    let file = urlset(&format!("<url>{HALTS}</url><url><loc>https://www.marrowvale.example/yard/</loc></url>"));
    let judged = inspection.judge().file(&wanted, FetchResult::Bytes(file.into_bytes()).into());
    inspection.take(&wanted, judged);
    let report = inspection.finish();
    assert_eq!(codes(&report), ["site-shut", "disallowed"]);
    assert!(report.findings[1].what.contains("bars lampbot from it"), "{:#?}", report.findings);
}

/// What robots.txt does not declare is looked for where it usually is.
#[test]
fn undeclared_sitemaps_are_found() {
    let report =
        inspect("", &[("sitemap_index.xml", &index("")), ("sitemap.txt", "https://www.marrowvale.example/\n")]);
    assert_eq!(report.files.iter().map(|file| file.form).collect::<Vec<_>>(), [Form::Index, Form::Text]);
    assert_eq!(codes(&report), ["nothing-in-it", "not-declared"]);
}

#[rstest]
#[case::text("https://www.marrowvale.example/\nlamp oil\n", Form::Text, &["loc-no-url"])]
#[case::rss(
    "<rss><channel><item><link>https://www.marrowvale.example/a</link><pubDate>Mon, 02 Nov 2026 07:07:29 GMT</pubDate></item></channel></rss>",
    Form::Rss,
    &[]
)]
#[case::atom(
    "<feed xmlns='http://www.w3.org/2005/Atom'><entry><link href='https://quay.example/'/><updated>2026-11-02T07:07:29Z</updated></entry></feed>",
    Form::Atom,
    &["other-host"]
)]
fn other_forms_are_read(#[case] text: &str, #[case] form: Form, #[case] wanted: &[&str]) {
    let report = inspect(&declared(), &[("sitemap.xml", text)]);
    assert_eq!((report.files[0].form, codes(&report)), (form, wanted.to_vec()));
}

#[test]
fn files_that_are_not_utf8_are_read_all_the_same() {
    let text = "<?xml version='1.0' encoding='ISO-8859-1'?>".to_owned() + &urlset("x").split_off(39);
    let text = text.replace("x</urlset>", &format!("<!-- br\u{e2}n --><url>{HALTS}</url></urlset>"));
    let latin: Vec<u8> = text.chars().map(|letter| letter as u8).collect();
    let mut inspection = inspection();
    inspection.single(MAIN);
    let wanted = inspection.next_wanted().unwrap();
    let judged = inspection.judge().file(&wanted, FetchResult::Bytes(latin).into());
    inspection.take(&wanted, judged);
    let report = inspection.finish();
    assert_eq!((codes(&report), report.files[0].entries), (vec!["not-utf8"], 1));
}

#[rstest]
#[case::same_day("2026-11-01", &["dates-all-same"])]
#[case::now("2026-11-23T11:59:58Z", &["dates-now", "dates-all-same"])]
fn dates_that_mean_nothing(#[case] date: &str, #[case] wanted: &[&str]) {
    let url = |n: usize| format!("<url><loc>https://www.marrowvale.example/{n}</loc><lastmod>{date}</lastmod></url>");
    let file = |most: usize| urlset(&(0..most).map(url).collect::<String>());
    assert_eq!(codes(&inspect(&declared(), &[("sitemap.xml", &file(10))])), wanted);
    assert_eq!(codes(&inspect(&declared(), &[("sitemap.xml", &file(9))])), [""; 0]);
}

#[test]
fn a_copy_that_differs() {
    let mut inspection = inspection();
    inspection.robots(ROBOTS, &FetchResult::Bytes(declared().into_bytes()).into(), Some(MAIN));
    let wanted = inspection.next_wanted().unwrap();
    let file = urlset(&format!("<url>{HALTS}</url>")).into_bytes();
    let copies = [PackedCopy::Different, PackedCopy::Same, PackedCopy::Broken("cut off".into())];
    for copy in copies {
        let fetched = FetchedFile { result: FetchResult::Bytes(file.clone()), answer: None, copy };
        let judged = inspection.judge().file(&wanted, fetched);
        inspection.take(&wanted, judged);
    }
    let report = inspection.finish();
    let of_copies: Vec<&str> = codes(&report).into_iter().filter(|code| *code != "duplicate").collect();
    assert_eq!(of_copies, ["copy-differs", "file-broken"]);
    assert_eq!(report.findings[0].mend, "Build again: servers that send precompressed files send the old one.");
}

#[rstest]
#[case::fine(ServerAnswer { status: 200, content_type: "application/xml".into(), ..ServerAnswer::default() }, &[])]
#[case::html(ServerAnswer { status: 200, content_type: "text/html; charset=utf-8".into(), ..ServerAnswer::default() }, &["content-type"])]
#[case::packed_in_secret(
    ServerAnswer { status: 200, content_type: "text/xml".into(), sent_gzip: true, still_gzip: true, ..ServerAnswer::default() },
    &["content-encoding"]
)]
#[case::not_packed(
    ServerAnswer { status: 200, content_type: "text/xml".into(), content_encoding: "gzip".into(), ..ServerAnswer::default() },
    &["content-encoding"]
)]
#[case::packed(
    ServerAnswer { status: 200, content_type: "text/xml".into(), content_encoding: "gzip".into(), sent_gzip: true, ..ServerAnswer::default() },
    &[]
)]
#[case::slow(ServerAnswer { status: 200, content_type: "text/xml".into(), milliseconds: 14_000, ..ServerAnswer::default() }, &["file-slow"])]
#[case::moved(
    ServerAnswer { status: 200, content_type: "text/xml".into(), redirects: vec!["https://www.marrowvale.example/map.xml".into()], ..ServerAnswer::default() },
    &["file-redirect"]
)]
#[case::wall(ServerAnswer { status: 403, content_type: "text/html".into(), is_wall: true, ..ServerAnswer::default() }, &["bot-wall"])]
#[case::shut(ServerAnswer { status: 403, ..ServerAnswer::default() }, &["file-status"])]
#[case::silent(ServerAnswer { silence: Some((Silence::Tls, "certificate expired".into())), ..ServerAnswer::default() }, &["tls-trouble"])]
#[case::dead(ServerAnswer { silence: Some((Silence::NoAnswer, "refused".into())), ..ServerAnswer::default() }, &["no-answer"])]
fn how_a_server_answers(#[case] answer: ServerAnswer, #[case] wanted: &[&str]) {
    let mut inspection = inspection();
    inspection.single(MAIN);
    let wanted_file = inspection.next_wanted().unwrap();
    let result = match answer.status {
        200 => FetchResult::Bytes(urlset(&format!("<url>{HALTS}</url>")).into_bytes()),
        _ => FetchResult::Failed,
    };
    let judged =
        inspection.judge().file(&wanted_file, FetchedFile { result, answer: Some(answer), copy: PackedCopy::Absent });
    inspection.take(&wanted_file, judged);
    assert_eq!(codes(&inspection.finish()), wanted);
}

/// As long as robots.txt cannot be read, engines fetch nothing.
#[test]
fn a_failing_robots_txt_shuts_the_site() {
    let mut inspection = inspection();
    let answer = ServerAnswer { status: 503, ..ServerAnswer::default() };
    let fetched = FetchedFile { result: FetchResult::Failed, answer: Some(answer), copy: PackedCopy::Absent };
    inspection.robots(ROBOTS, &fetched, Some(MAIN));
    assert_eq!(inspection.next_wanted(), None);
    assert_eq!(codes(&inspection.finish()), ["robots-failing"]);
}

/// A sitemap with something of everything.
const RICH: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\" xmlns:image=\"http://www.google.com/schemas/sitemap-image/1.1\" xmlns:video=\"http://www.google.com/schemas/sitemap-video/1.1\" xmlns:xhtml=\"http://www.w3.org/1999/xhtml\">
<url><loc>https://www.marrowvale.example/</loc><lastmod>2026-11-01</lastmod><changefreq>daily</changefreq><priority>0.5</priority></url>
<url><loc>https://www.marrowvale.example/?a&amp;b</loc><!-- x --><image:image><image:loc>https://www.marrowvale.example/a.svg</image:loc></image:image></url>
<url>\n<loc><![CDATA[https://www.marrowvale.example/cab/]]></loc><video:video><video:thumbnail_loc>https://www.marrowvale.example/c.jpg</video:thumbnail_loc><video:title>Cab &#8211; ride</video:title><video:description>x</video:description><video:player_loc>https://www.marrowvale.example/p</video:player_loc><video:duration>95</video:duration></video:video></url>
<url><loc>https://www.marrowvale.example/en/</loc><xhtml:link rel=\"alternate\" hreflang=\"en\" href=\"https://www.marrowvale.example/en/\"/></url>
</urlset>\n";

/// The verdict on one file, and what it lists.
fn judged(bytes: &[u8]) -> (Report, Vec<String>) {
    let mut inspection = inspection();
    inspection.single(MAIN);
    let wanted = inspection.next_wanted().unwrap();
    let judged = inspection.judge().file(&wanted, FetchResult::Bytes(bytes.to_vec()).into());
    inspection.take(&wanted, judged);
    let mut urls = Vec::new();
    each_url(bytes, |url, _| urls.push(url.to_owned()));
    (inspection.finish(), urls)
}

proptest! {
    /// A file that was broken anywhere is judged without a panic, and either something is found, or only a text, a name
    /// of no meaning or a comment is another one.
    #[test]
    fn any_break_is_named_or_harmless(
        at in any::<prop::sample::Index>(),
        length in 0..40usize,
        by in "[<>&/\"'= a-z!\\[\\]?\u{e2}-]{0,12}",
    ) {
        let rich = RICH.as_bytes();
        prop_assert_eq!(judged(rich).0.findings, []);
        let start = at.index(rich.len());
        let end = (start + length).min(rich.len());
        let broken = [&rich[..start], by.as_bytes(), &rich[end..]].concat();
        let (report, urls) = judged(&broken);
        let lines = broken.iter().filter(|byte| **byte == b'\n').count() as u64 + 1;
        prop_assert!(report.findings.iter().all(|finding| finding.line.is_none_or(|line| line <= lines)));
        if report.findings.is_empty() {
            prop_assert!(urls.len() >= 3, "{}", String::from_utf8_lossy(&broken));
        }
    }

    #[test]
    fn anything_at_all_is_judged(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
        judged(&bytes);
    }
}
