//! A broken site for each code that `check` can find on disk: it finds that code, with its line, and nothing else.

use std::collections::BTreeSet;
use std::io::Write;

use atlas_core::check::THEMES;
use flate2::Compression;
use flate2::write::GzEncoder;
use serde_json::Value;

use crate::support::{ROOT, TestSite};

/// What is wrong, and where: the code, the line, and the files of the web root.
type Broken = (&'static str, Option<u64>, Vec<(&'static str, Vec<u8>)>);

const ROBOTS: &str = "User-agent: *\nDisallow: /staff/\nSitemap: https://www.marrowvale.example/sitemap.xml\n";

fn loc(path: &str) -> String {
    format!("<loc>{ROOT}{path}</loc>")
}

/// A file of one `url` a line, the first in line 3.
fn urlset(lines: &[String]) -> Vec<u8> {
    let open = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\" xmlns:image=\"http://www.google.com/schemas/sitemap-image/1.1\" xmlns:video=\"http://www.google.com/schemas/sitemap-video/1.1\" xmlns:news=\"http://www.google.com/schemas/sitemap-news/0.9\" xmlns:xhtml=\"http://www.w3.org/1999/xhtml\">\n";
    let urls: String = lines.iter().map(|inside| format!("<url>{inside}</url>\n")).collect();
    format!("{open}{urls}</urlset>\n").into_bytes()
}

fn index(lines: &[String]) -> Vec<u8> {
    let open = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<sitemapindex xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">\n";
    let files: String = lines.iter().map(|inside| format!("<sitemap>{inside}</sitemap>\n")).collect();
    format!("{open}{files}</sitemapindex>\n").into_bytes()
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut packer = GzEncoder::new(Vec::new(), Compression::fast());
    packer.write_all(bytes).unwrap();
    packer.finish().unwrap()
}

/// A site whose main file lists a fine page in line 3, and this in line 4.
fn entry(code: &'static str, inside: &str) -> Broken {
    (code, Some(4), vec![("robots.txt", ROBOTS.into()), ("sitemap.xml", urlset(&[loc(""), inside.to_owned()]))])
}

/// The same with a further element of a page.
fn with(code: &'static str, element: &str) -> Broken {
    entry(code, &format!("{}{element}", loc("halts/")))
}

const VIDEO: [(&str, &str); 4] = [
    ("thumbnail_loc", "https://www.marrowvale.example/cab.jpg"),
    ("title", "Cab ride"),
    ("description", "From the cab."),
    ("content_loc", "https://www.marrowvale.example/cab.mp4"),
];

/// The same with a video in which one element is replaced, or another added at its end.
fn video(code: &'static str, name: &str, element: &str) -> Broken {
    let parts = VIDEO.map(|(known, text)| match known == name {
        true => element.to_owned(),
        false => format!("<video:{known}>{text}</video:{known}>"),
    });
    let added = if VIDEO.iter().any(|(known, _)| *known == name) { "" } else { element };
    with(code, &format!("<video:video>{}{added}</video:video>", parts.concat()))
}

/// A site whose main file is this.
fn file(code: &'static str, line: Option<u64>, main: Vec<u8>) -> Broken {
    (code, line, vec![("robots.txt", ROBOTS.into()), ("sitemap.xml", main)])
}

/// A site whose robots.txt is this.
fn robots(code: &'static str, line: Option<u64>, robots: &str) -> Broken {
    (code, line, vec![("robots.txt", robots.into()), ("sitemap.xml", urlset(&[loc("")]))])
}

/// A site with a main file that is an index, and these files.
fn indexed(code: &'static str, line: Option<u64>, lines: &[String], others: &[(&'static str, Vec<u8>)]) -> Broken {
    let mut files = vec![("robots.txt", ROBOTS.into()), ("sitemap.xml", index(lines))];
    files.extend(others.iter().cloned());
    (code, line, files)
}

fn alternate(language: &str, href: &str) -> String {
    format!("<xhtml:link rel=\"alternate\" hreflang=\"{language}\" href=\"{href}\"/>")
}

fn broken_files() -> Vec<Broken> {
    let many = |number: usize| (0..number).map(|n| loc(&format!("{n}"))).collect::<Vec<_>>();
    let dated =
        |date: &str| (0..10).map(|n| format!("{}<lastmod>{date}</lastmod>", loc(&format!("{n}")))).collect::<Vec<_>>();
    let fine = || urlset(&[loc("")]);
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    let child = [loc("a.xml")];
    vec![
        file("not-well-formed", Some(4), text(fine()).replace("</urlset>", "<url></loc></urlset>").into_bytes()),
        file("before-declaration", Some(1), [b"\n", &fine()[..]].concat()),
        file("byte-order-mark", None, [b"\xef\xbb\xbf", &fine()[..]].concat()),
        file("other-root", None, b"<lamps/>".to_vec()),
        file("nothing-in-it", None, urlset(&[])),
        file("too-many-urls", None, urlset(&many(50_001))),
        file(
            "too-many-bytes",
            None,
            text(fine()).replace("</urlset>", &format!("<!--{}--></urlset>", "x".repeat(52_428_800))).into_bytes(),
        ),
        file(
            "file-heavy",
            None,
            text(fine()).replace("</urlset>", &format!("<!--{}--></urlset>", "x".repeat(10_600_000))).into_bytes(),
        ),
        file("not-utf8", Some(4), [&fine()[..fine().len() - 10], b"<!-- br\xe2n --></urlset>"].concat()),
        file("dates-all-same", None, urlset(&dated("2026-11-01"))),
        (
            "section-shut",
            None,
            vec![
                ("robots.txt", ROBOTS.replace("/staff/", "/halts/").into_bytes()),
                ("sitemap.xml", index(&[loc("a.xml"), loc("b.xml")])),
                ("a.xml", fine()),
                ("b.xml", urlset(&[loc("halts/")])),
            ],
        ),
        (
            "unlisted-file",
            None,
            vec![("robots.txt", ROBOTS.into()), ("sitemap.xml", fine()), ("old.xml", urlset(&[loc("old/")]))],
        ),
        (
            "copy-differs",
            None,
            vec![("robots.txt", ROBOTS.into()), ("sitemap.xml", fine()), ("sitemap.xml.gz", gzip(b"x"))],
        ),
        (
            "file-broken",
            None,
            vec![("robots.txt", ROBOTS.into()), ("sitemap.xml", fine()), ("sitemap.xml.gz", b"x".to_vec())],
        ),
        indexed("file-missing", None, &child, &[]),
        indexed("index-in-index", None, &child, &[("a.xml", index(&[loc("b.xml")])), ("b.xml", fine())]),
        indexed("index-loop", Some(4), &[loc("a.xml"), loc("sitemap.xml")], &[("a.xml", fine())]),
        indexed(
            "index-behind",
            None,
            &[format!("{}<lastmod>2026-10-01</lastmod>", loc("a.xml"))],
            &[("a.xml", urlset(&[format!("{}<lastmod>2026-11-01</lastmod>", loc(""))]))],
        ),
        (
            "child-elsewhere",
            Some(4),
            vec![
                ("robots.txt", ROBOTS.replace("sitemap.xml", "maps/all.xml").into_bytes()),
                ("maps/all.xml", index(&[loc("maps/a.xml"), loc("b.xml")])),
                ("maps/a.xml", urlset(&[loc("maps/")])),
                ("b.xml", fine()),
            ],
        ),
        (
            "loc-out-of-scope",
            Some(4),
            vec![
                ("robots.txt", ROBOTS.replace("sitemap.xml", "maps/all.xml").into_bytes()),
                ("maps/all.xml", urlset(&[loc("maps/"), loc("halts/")])),
            ],
        ),
        (
            "out-of-reach",
            None,
            vec![
                ("robots.txt", format!("{ROBOTS}Sitemap: https://cdn.example/x.xml\n").into_bytes()),
                ("sitemap.xml", fine()),
            ],
        ),
        ("robots-missing", None, vec![("sitemap.xml", fine())]),
        (
            "robots-elsewhere",
            None,
            vec![("robots.txt", ROBOTS.into()), ("sitemap.xml", fine()), ("rail/robots.txt", b"x".to_vec())],
        ),
        robots("robots-too-large", None, &format!("{ROBOTS}{}", "#\n".repeat(300_000))),
        robots("not-declared", None, "User-agent: *\nDisallow:\n"),
        robots("site-shut", Some(2), &format!("User-agent: *\nDisallow: /$\nAllow: /sitemap.xml\n{ROBOTS}")),
        robots("sitemap-shut", None, &format!("User-agent: *\nDisallow: /*.xml\n{ROBOTS}")),
        entry("loc-missing", ""),
        entry("loc-no-url", "<loc>/halts/</loc>"),
        entry("too-long", &loc(&"x".repeat(2_048))),
        entry("other-host", "<loc>https://marrowvale.example/halts/</loc>"),
        entry("duplicate", &loc("")),
        entry("disallowed", &loc("staff/rota/")),
        entry("element-order", &format!("<lastmod>2026-11-01</lastmod>{}", loc("halts/"))),
        entry("element-twice", &loc("halts/").repeat(2)),
        with("lastmod-no-date", "<lastmod>soon</lastmod>"),
        with("lastmod-form", "<lastmod>2026-11</lastmod>"),
        with("lastmod-future", "<lastmod>2031-01-01</lastmod>"),
        with("hint-unknown", "<priority>7</priority>"),
        with("element-unknown", "<lastmodified>2026-11-01</lastmodified>"),
        with("namespace", "<image/>"),
        with("namespace-unknown", "<x:y xmlns:x=\"https://lamp.example/\"/>"),
        with(
            "withdrawn",
            &format!("<image:image><image:loc>{ROOT}a.svg</image:loc><image:title>x</image:title></image:image>"),
        ),
        with("alternate-language", &alternate("en-UK", &format!("{ROOT}halts/"))),
        with("alternate-no-url", &(alternate("en", &format!("{ROOT}halts/")) + &alternate("cy", "/cy/"))),
        with(
            "alternate-not-in",
            &(alternate("en", &format!("{ROOT}halts/")) + &alternate("cy", &format!("{ROOT}cy/"))),
        ),
        with("alternate-not-returned", &(alternate("en", &format!("{ROOT}halts/")) + &alternate("cy", ROOT))),
        with("alternate-not-itself", &alternate("cy", "https://cymru.example/")),
        with(
            "alternate-twice",
            &(alternate("en", &format!("{ROOT}halts/"))
                + &alternate("cy", "https://cymru.example/")
                + &alternate("cy", "https://cymru.example/a")),
        ),
        with("image-no-url", "<image:image/>"),
        with(
            "too-many-images",
            &format!("<image:image><image:loc>{ROOT}a.svg</image:loc></image:image>").repeat(1_001),
        ),
        video("video-incomplete", "title", ""),
        video("video-no-place", "content_loc", ""),
        video("video-is-page", "content_loc", &format!("<video:content_loc>{ROOT}halts/</video:content_loc>")),
        video("video-no-url", "thumbnail_loc", "<video:thumbnail_loc>cab.jpg</video:thumbnail_loc>"),
        video(
            "video-description",
            "description",
            &format!("<video:description>{}</video:description>", "x".repeat(2_049)),
        ),
        video("video-duration", "duration", "<video:duration>0</video:duration>"),
        video("video-rating", "rating", "<video:rating>5.5</video:rating>"),
        video("video-views", "view_count", "<video:view_count>12k</video:view_count>"),
        video("video-date", "publication_date", "<video:publication_date>spring</video:publication_date>"),
        video("video-expired", "expiration_date", "<video:expiration_date>2019-01-01</video:expiration_date>"),
        video("video-tags", "tag", &"<video:tag>x</video:tag>".repeat(33)),
        video("video-yes-no", "live", "<video:live>true</video:live>"),
        video("video-countries", "restriction", "<video:restriction relationship=\"allow\">UK</video:restriction>"),
        video("video-platforms", "platform", "<video:platform relationship=\"allow\">desktop</video:platform>"),
        video("video-uploader", "uploader", &format!("<video:uploader>{}</video:uploader>", "x".repeat(256))),
        with("news-incomplete", &news("", "en", "2026-11-22")),
        with("news-language", &news("Gazette", "english", "2026-11-22")),
        with("news-too-old", &news("Gazette", "en", "2026-11-02")),
        file(
            "news-too-many",
            None,
            urlset(
                &(0..1_001).map(|n| loc(&format!("{n}")) + &news("Gazette", "en", "2026-11-22")).collect::<Vec<_>>(),
            ),
        ),
    ]
}

fn news(publication: &str, language: &str, date: &str) -> String {
    format!(
        "<news:news><news:publication><news:name>{publication}</news:name><news:language>{language}</news:language></news:publication><news:publication_date>{date}</news:publication_date><news:title>Viaduct opens</news:title></news:news>"
    )
}

/// Codes that cannot be on disk, need 50,001 files, or are about a configuration, and where they are tested.
const ELSEWHERE: [&str; 8] = [
    "too-many-files", // the limit alone would take a minute: atlas-core/src/check/tests.rs has the other limits
    "dates-now",      // atlas-core/src/check/tests.rs
    "ownership-element",
    "ownership-file", // living.rs
    "robots-failing",
    "robots-not-text",
    "site-redirects",
    "second-copy", // checking_live.rs
];

fn check(files: &[(&str, Vec<u8>)]) -> Value {
    let site = TestSite::new("");
    std::fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    files.iter().for_each(|(name, bytes)| site.spoil(name, bytes));
    site.json(&["check", "public"])
}

#[test]
fn each_code_is_found_with_its_line_and_nothing_else() {
    let mut wrong = Vec::new();
    for (code, line, files) in broken_files() {
        let report = check(&files);
        let findings = report["findings"].as_array().unwrap();
        let found: BTreeSet<&str> = findings.iter().map(|finding| finding["code"].as_str().unwrap()).collect();
        let first = findings.first().and_then(|finding| finding["line"].as_u64());
        if found != BTreeSet::from([code]) || first != line {
            wrong.push(format!("{code} line {line:?}: {findings:#?}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn there_is_a_broken_file_for_each_code() {
    let tried: BTreeSet<&str> = broken_files().iter().map(|(code, ..)| *code).chain(ELSEWHERE).collect();
    let on_disk = ["The site", "Sitemap files", "Entries", "Pictures, videos and news"];
    let kinds = THEMES.into_iter().filter(|(theme, _)| on_disk.contains(theme)).flat_map(|(_, kinds)| kinds);
    let missing: Vec<&str> = kinds.map(|kind| kind.code).filter(|code| !tried.contains(code)).collect();
    assert!(missing.is_empty(), "{missing:?}");
}

/// Sites of each kind that have nothing wrong.
#[test]
fn clean_sites_have_no_finding() {
    let robots = |name: &str| ROBOTS.replace("sitemap.xml", name).into_bytes();
    let page = || {
        urlset(&[format!(
            "{}<lastmod>2026-11-01</lastmod><changefreq>weekly</changefreq><priority>0.5</priority>",
            loc("")
        )])
    };
    let english =
        loc("") + &alternate("en", ROOT) + &alternate("cy", &format!("{ROOT}cy/")) + &alternate("x-default", ROOT);
    let welsh =
        loc("cy/") + &alternate("en", ROOT) + &alternate("cy", &format!("{ROOT}cy/")) + &alternate("x-default", ROOT);
    let film = video("", "rating", "<video:rating>4.5</video:rating>").2[1].1.clone();
    let rss = format!(
        "<rss version=\"2.0\"><channel><item><title>x</title><link>{ROOT}a</link><pubDate>Mon, 02 Nov 2026 07:07:29 GMT</pubDate></item></channel></rss>"
    );
    let atom = format!(
        "<feed xmlns=\"http://www.w3.org/2005/Atom\"><entry><link href=\"{ROOT}a\"/><updated>2026-11-02T07:07:29Z</updated></entry></feed>"
    );
    let sites: Vec<Vec<(&str, Vec<u8>)>> = vec![
        vec![("robots.txt", robots("sitemap.xml")), ("sitemap.xml", page())],
        vec![("robots.txt", robots("sitemap.xml")), ("sitemap.xml", page()), ("sitemap.xml.gz", gzip(&page()))],
        vec![("robots.txt", robots("sitemap.xml.gz")), ("sitemap.xml.gz", gzip(&page()))],
        vec![("robots.txt", robots("sitemap.xml")), ("sitemap.xml", index(&[loc("a.xml")])), ("a.xml", page())],
        vec![("robots.txt", robots("sitemap.txt")), ("sitemap.txt", format!("{ROOT}\n{ROOT}halts/\n").into_bytes())],
        vec![("robots.txt", robots("new.rss")), ("new.rss", rss.into_bytes())],
        vec![("robots.txt", robots("new.xml")), ("new.xml", atom.into_bytes())],
        vec![("robots.txt", robots("sitemap.xml")), ("sitemap.xml", urlset(&[english, welsh]))],
        vec![("robots.txt", robots("sitemap.xml")), ("sitemap.xml", film)],
        vec![
            ("robots.txt", robots("sitemap.xml")),
            ("sitemap.xml", urlset(&[loc("") + &news("Gazette", "en", "2026-11-22")])),
        ],
    ];
    for files in sites {
        let report = check(&files);
        assert_eq!(report["findings"], serde_json::json!([]), "{:?}", files.last());
        assert!(report["files"][0]["entries"].as_u64() > Some(0));
    }
}

/// What this tool itself writes, with every setting in use, has no error and no warning.
#[test]
fn the_output_of_every_setting_is_clean() {
    let site = TestSite::sample();
    let built = site.run(&["build"]);
    assert!(built.code <= 1, "{}", built.errors);
    let report = site.json(&["check"]);
    let bad: Vec<&Value> =
        report["findings"].as_array().unwrap().iter().filter(|finding| finding["severity"] != "advice").collect();
    assert!(bad.is_empty(), "{bad:#?}");
    assert!(report["files"].as_array().unwrap().len() > 5);
}
