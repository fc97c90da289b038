//! What decides whether an entry is kept: dates in the site's zone, instructions to engines and to the site's
//! generator, and missing pages. A value that cannot be read never lets an entry in.

use rstest::rstest;
use serde_json::Value;

use crate::server::{CannedAnswer, Server, page, status};
use crate::support::{HTML, NOON, TestSite, count};

fn table(zone: &str, rows: &str) -> TestSite {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n");
    site.reconfigure("Europe/London", zone);
    site.write("t.csv", rows);
    site
}

fn paths(site: &TestSite) -> Vec<String> {
    site.build();
    site.paths().into_iter().collect()
}

/// The reason why a path is left out, if it is.
fn reason(site: &TestSite, path: &str) -> Option<String> {
    site.json(&["why", "--fresh", path])["decision"]["reason"].as_str().map(str::to_owned)
}

/// 2026-07-01T23:30:00Z: the second of July in London, the first in Los Angeles and in UTC.
const NIGHT: i64 = 1_782_948_600;

#[rstest]
#[case("Europe/London", &["/first/", "/second/"])]
#[case("UTC", &["/first/", "/leaves/"])]
#[case("America/Los_Angeles", &["/first/", "/leaves/"])]
fn a_day_is_a_day_in_the_sites_zone(#[case] zone: &str, #[case] wanted: &[&str]) {
    let mut site = table(
        zone,
        "url,published,expires\n/first/,2026-07-01,\n/second/,2026-07-02,\n/third/,2026-07-03,\n/leaves/,,2026-07-02\n",
    );
    site.at(NIGHT);
    assert_eq!(paths(&site), wanted);
    assert_eq!(site.lastmod("/first/").as_deref(), Some("2026-07-01"), "what is written stays a day");
}

#[test]
fn urls_and_archives_are_made_of_days_in_the_sites_zone() {
    let site = TestSite::new(
        "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\nfields = { url = \"/{published:%Y/%m/%d}/{slug}/\" }\n[[archive]]\nby = \"day\"\nurl = \"/{year}/{month}/{day}/\"\n",
    );
    site.write("t.csv", "slug,published\nlate,2026-07-01T23:30:00Z\n");
    assert_eq!(paths(&site), ["/2026/07/02/", "/2026/07/02/late/"]);
}

#[test]
fn news_of_a_day_are_news_for_two_days_of_the_site() {
    let news = "[[news]]\nsections = [\"pages\"]\npublication = \"The Marrow Vale Gazette\"\nlanguage = \"en\"\n";
    let mut site = TestSite::new(&format!("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n{news}"));
    site.write("t.csv", "url,title,published\n/weir/,Weir path closed,2026-06-30\n");
    // Two days of London end at 23:00 in UTC.
    for (now, wanted) in [(NIGHT - 1801, 1), (NIGHT - 1800, 0)] {
        site.at(now);
        assert_eq!(site.json(&["survey"])["sections"][0]["news"], wanted, "{now}");
    }
}

#[test]
fn unreadable_values_never_open_a_gate() {
    let site = table(
        "Europe/London",
        "url,published,expires,draft,keep,noindex\n/open/,2026-01-05,,no,yes,f\n/soon/,when it thaws,,,,\n/late/,,by and by,,,\n/half/,,,half,,\n/maybe/,,,,maybe,\n/perhaps/,,,,,perhaps\n",
    );
    let told = [
        "t.csv line 3: published “when it thaws” is not a date",
        "so the entry is left out",
        "noindex “perhaps” is not yes or no",
    ];
    site.run(&["build"]).says(1, &told);
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), ["/open/"]);
    for path in ["/soon/", "/late/", "/half/", "/maybe/", "/perhaps/"] {
        assert_eq!(reason(&site, path).as_deref(), Some("unreadable"), "{path}");
    }
    // Every build reports it, and the rest goes on.
    site.run(&["build"]).says(1, &told);
}

#[test]
fn meaningful_values_are_read() {
    let rows = "url,published,expires,draft,keep,noindex\n/never/,infinity,,,,\n/always/,-infinity,infinity,F,T,off\n/gone/,,-infinity,,,\n/draft/,,,on,,\n/out/,,,,N,\n/hidden/,,,,,Y\n";
    let site = table("Europe/London", rows);
    assert_eq!(paths(&site), ["/always/"]);
    let reasons = ["/never/", "/gone/", "/draft/", "/out/", "/hidden/"].map(|path| reason(&site, path).unwrap());
    assert_eq!(reasons, ["draft", "expired", "draft", "own-word", "noindex"]);
    site.run(&["build", "--strict"]).says(0, &[]);
}

#[test]
fn implausible_dates_are_not_written() {
    let mut site = table(
        "Europe/London",
        "url,modified\n/good/,2026-05-01\n/later/,2026-11-25\n/zero/,1970-01-01\n/old/,1904-05-01\n",
    );
    site.run(&["build"]).says(0, &["3  dates of change in the future or before 1990, not written", "/later/"]);
    assert_eq!(
        ["/good/", "/later/", "/zero/", "/old/"].map(|path| site.lastmod(path)),
        [Some("2026-05-01".into()), None, None, None]
    );
    let held_back = |report: &serde_json::Value| report["notices"][0]["count"].clone();
    let built = site.build();
    assert_eq!(built["notices"][0]["code"], "date-not-written");
    assert_eq!(built["notices"][0]["examples"][0]["detail"], "2026-11-25");
    assert_eq!(held_back(&built), 3, "every build says so");
    // Once the date has come it is written, and nothing is announced, because the page says the same as before.
    site.at(NOON + 3 * 86_400);
    let built = site.build();
    assert_eq!((count(&built, "changed"), held_back(&built)), (0, 2.into()));
    assert_eq!(site.lastmod("/later/").as_deref(), Some("2026-11-25"));
}

/// An article with this front matter.
#[cfg(feature = "markdown")]
fn article(front: &str) -> TestSite {
    let site = TestSite::new("[[source]]\nfrom = \"markdown\"\nfolder = \"articles\"\n");
    site.write("articles/home.md", "Tea.");
    site.write("articles/frost.md", format!("---\n{front}\n---\nIce on the cutting."));
    site
}

#[cfg(feature = "markdown")]
#[rstest]
#[case::noindex("noindex: true", "noindex")]
#[case::robots("robots: noindex, follow", "noindex")]
#[case::robots_list("robots: [noindex]", "noindex")]
#[case::sitemap("sitemap: false", "own-word")]
#[case::sitemap_table("sitemap: { disable: true }", "own-word")]
#[case::publish_date("date: 2026-11-01\npublishDate: 2026-12-01", "scheduled")]
#[case::publish_date_snake("publish_date: 2026-12-01", "scheduled")]
#[case::embargo("published: 2026-11-20\nembargo: 2026-12-01T09:00:00Z", "scheduled")]
#[case::embargo_unread("embargo: when it thaws", "unreadable")]
#[case::expiry("expiryDate: 2026-11-01", "expired")]
#[case::unpublish("unpublish_date: 2026-11-01", "expired")]
#[case::unavailable("robots: \"unavailable_after: 20-Nov-26 10:00:00 GMT, nofollow\"", "expired")]
#[case::own("idle_atlas: { keep: maybe }", "unreadable")]
fn directives_of_an_article_are_obeyed(#[case] front: &str, #[case] wanted: &str) {
    assert_eq!(reason(&article(front), "/frost/").as_deref(), Some(wanted));
}

#[cfg(feature = "markdown")]
#[rstest]
#[case("sitemap: { priority: 0.7 }", "“sitemap” is not read")]
#[case("idle_atlas: { kepe: no }", "there is no field “kepe”")]
#[case("permalink: /:year/:title/", "is a pattern for a site generator")]
#[case("published: 2026-01-01\ndate: 2026-01-02", "“date” is not read, because “published” is already set")]
fn unread_directives_of_an_article_are_reported(#[case] front: &str, #[case] words: &str) {
    let site = article(front);
    site.run(&["survey"]).says(0, &["articles/frost.md: ", words]);
    assert_eq!(reason(&site, "/frost/"), None, "it is listed anyway");
}

#[cfg(feature = "markdown")]
#[test]
fn an_articles_own_url_overrides_the_template() {
    let site = TestSite::new(
        "[[source]]\nfrom = \"markdown\"\nfolder = \"articles\"\nfields = { url = \"/journal/{slug}/\" }\n",
    );
    site.write("articles/frost.md", "---\nurl: /frost-of-1904/\n---\nIce.");
    site.write("articles/snow.md", "---\npermalink: /snow/\n---\nSnow.");
    site.write("articles/thaw.md", "Mud.");
    assert_eq!(paths(&site), ["/frost-of-1904/", "/journal/thaw/", "/snow/"]);
}

#[cfg(feature = "markdown")]
#[test]
fn pictures_as_objects_and_durations_by_iso_8601() {
    let site = article(
        "images:\n  - { src: /ice.jpg, caption: Ice, licence: ours }\n  - /snow.jpg\nvideos:\n  - { title: Ice, description: Ice, thumbnail: /ice.jpg, content: /ice.webm, duration: PT1M35S }",
    );
    site.build();
    let listed = site.listed();
    let url = listed["sitemap.xml"].iter().find(|url| !url.images.is_empty()).unwrap();
    assert_eq!(url.images, ["https://www.marrowvale.example/ice.jpg", "https://www.marrowvale.example/snow.jpg"]);
    assert_eq!(url.videos[0].duration, Some(95));
}

/// What a page tells engines in its head.
#[rstest]
#[case("<meta name=robots content='unavailable_after: Friday, 20-Nov-26 15:00:00 GMT'>", Some("expired"))]
#[case(
    "<meta name=robots content='noarchive, unavailable_after: 20 Nov 2026 15:00:00 PST, nofollow'>",
    Some("expired")
)]
#[case("<meta name=robots content='unavailable_after: 2027-01-01'>", None)]
#[case("<meta name=robots content='unavailable_after: the thaw'>", Some("unreadable"))]
#[case("<meta name=idle-atlas content='keep=perhaps'>", Some("unreadable"))]
fn directives_of_a_page_are_obeyed(#[case] head: &str, #[case] wanted: Option<&str>) {
    let site = TestSite::new(HTML);
    site.write("public/a.html", format!("<title>A</title>{head}<main>Tea</main>"));
    assert_eq!(reason(&site, "/a.html").as_deref(), wanted);
}

#[test]
fn unknown_directives_of_a_page_are_reported() {
    let site = TestSite::new(HTML);
    site.write(
        "public/a.html",
        "<title>A</title><meta name=idle-atlas content='kepe=no, priority=high'><main>Tea</main>",
    );
    site.write(
        "public/b.html",
        "<title>B</title><meta property=article:published_time content='in spring'><main>Tea</main>",
    );
    site.write("public/c.html", "<title>C</title><meta name=robots content='no-index, nofollow'><main>Tea</main>");
    site.run(&["build"]).says(
        0,
        &[
            "“kepe=no”, is not understood",
            "“priority=high”",
            "article:published_time “in spring” is not a date",
            "engines do not understand robots “no-index”; did you mean “noindex”?",
        ],
    );
    assert_eq!(site.paths().len(), 3);
}

#[test]
fn headers_of_documents_are_obeyed() {
    let header = |name: &str, value: &str| (name.to_owned(), value.to_owned());
    let document = move |name: &str, value: &str| {
        CannedAnswer::Full(
            200,
            vec![header("Content-Type", "application/pdf"), header(name, value)],
            b"%PDF-1.7".to_vec(),
        )
    };
    let server = Server::start(move |request| match request.path.as_str() {
        "/" => page("Home", &["/a.pdf", "/b.pdf", "/c.pdf", "/cy.pdf"]),
        "/a.pdf" => document("Link", "</>; rel=\"canonical\""),
        "/b.pdf" => document("X-Robots-Tag", "unavailable_after: 20 Nov 2026 15:00:00 GMT, nofollow"),
        "/c.pdf" => document("Link", "</c.pdf>; rel=alternate; hreflang=en, </cy.pdf>; rel=alternate; hreflang=cy"),
        "/cy.pdf" => document("Link", "</c.pdf>; rel=alternate; hreflang=en, </cy.pdf>; rel=alternate; hreflang=cy"),
        _ => status(404),
    });
    let site = TestSite::at_url(
        &server.url(),
        "[[source]]\nfrom = \"crawl\"\nrequests_per_second = 0\ndocuments = [\"pdf\"]\n",
    );
    let survey = site.json(&["survey", "--list"]);
    let found: Vec<(String, Value)> = survey
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["url"].as_str().unwrap().replace(&server.url(), "/"), one["reason"].clone()))
        .collect();
    let wanted = [
        ("/", Value::Null),
        ("/a.pdf", "canonical-elsewhere".into()),
        ("/b.pdf", "expired".into()),
        ("/c.pdf", Value::Null),
        ("/cy.pdf", Value::Null),
    ];
    assert_eq!(found, wanted.map(|(path, reason)| (path.to_owned(), reason)));
    let why = site.json(&["why", "--fresh", &format!("{}c.pdf", server.url())]);
    assert_eq!(why["alternates"].as_array().map(Vec::len), Some(2), "{why}");
}

#[cfg(feature = "markdown")]
#[test]
fn an_entry_without_a_page_in_the_folder_that_serves_it_waits() {
    let articles = "[[source]]\nfrom = \"markdown\"\nfolder = \"articles\"\n";
    let site = TestSite::new(&format!("{HTML}{articles}"));
    site.page("frost/index.html", "Frost", "Ice");
    site.write("articles/frost.md", "---\ntitle: Frost\n---\nIce.");
    site.write("articles/thaw.md", "---\ntitle: Thaw\n---\nMud.");
    assert_eq!(paths(&site), ["/frost/"]);
    assert_eq!(reason(&site, "/thaw/").as_deref(), Some("not-in-folder"));
    site.run(&["why", "--fresh", "/thaw/"]).says(0, &["found no page", "may-be-elsewhere"]);
    // It is listed with its page.
    site.page("thaw/index.html", "Thaw", "Mud");
    assert_eq!(paths(&site), ["/frost/", "/thaw/"]);
    std::fs::remove_dir_all(site.path("public/thaw")).unwrap();
    let built = site.build();
    assert_eq!((count(&built, "removed"), count(&built, "left_out")), (0, 1));
    site.configure(&format!("{HTML}{articles}pages = \"may-be-elsewhere\"\n"));
    assert_eq!(paths(&site), ["/frost/", "/thaw/"]);
}

#[test]
fn urls_outside_the_folder_are_not_expected_in_it() {
    let site = TestSite::new(
        "[[source]]\nfrom = \"html\"\nfolder = \"public/docs\"\n[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n",
    );
    site.page("docs/a.html", "A", "x");
    site.write("public/docs/plan.pdf", "%PDF");
    site.write("public/docs/broken.html", b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR");
    site.write("t.csv", "url\n/shop/lamp/\n/docs/b.html\n/docs/plan.pdf\n/docs/broken.html\n");
    site.run(&["build"]).says(1, &["public/docs/broken.html: it is binary data"]);
    let listed: Vec<String> = site.paths().into_iter().collect();
    assert_eq!(listed, ["/docs/a.html", "/docs/broken.html", "/docs/plan.pdf", "/shop/lamp/"]);
}

/// A folder, a link, a canonical link and a crawl name the same URL.
#[test]
fn legal_path_characters_are_unchanged() {
    let site = TestSite::new(HTML);
    site.page("r&d.html", "R", "x");
    site.write(
        "public/chair-(oak)/index.html",
        "<title>C</title><link rel=canonical href='/chair-(oak)/'><main>Oak</main>",
    );
    site.write(
        "public/it's/a,b;c=d:e@f!g$h*i+j.html",
        "<title>D</title><link rel=canonical href=\"/it%27s/a%2Cb;c=d:e@f!g$h*i+j.html\"><main>x</main>",
    );
    assert_eq!(paths(&site), ["/chair-(oak)/", "/it's/a,b;c=d:e@f!g$h*i+j.html", "/r&d.html"]);
}
