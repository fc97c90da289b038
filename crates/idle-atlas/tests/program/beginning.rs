//! The command `init`, for every kind of site. What it writes works as it is.

use std::fs;

use rstest::rstest;

use crate::server::{CannedAnswer, Server};
use crate::support::{ROOT, TestSite};

/// A folder without a configuration and without a web root.
fn bare() -> TestSite {
    let site = TestSite::new("");
    fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    fs::remove_dir(site.path("public")).unwrap();
    site
}

fn config(site: &TestSite) -> String {
    site.read("idle-atlas.toml")
}

/// The number of entries that a survey finds with what `init` wrote.
fn surveyed(site: &TestSite) -> u64 {
    let survey = site.json(&["survey"]);
    survey["sections"].as_array().unwrap().iter().map(|section| section["entries"].as_u64().unwrap()).sum()
}

fn shop(site: &TestSite) {
    let database = rusqlite::Connection::open(site.path("shop.db")).unwrap();
    database
        .execute_batch("create table goods (id integer, slug text, name text, photo text, updated_at text, is_public integer); create table orders (id integer, mail text); insert into orders values (1, 'a@b.example');")
        .unwrap();
    for number in 0..12 {
        database
            .execute(
                "insert into goods values (?1, ?2, 'Oil can', ?3, '2026-10-01T10:00:00Z', 1)",
                (number, format!("oil-can-{number}"), format!("/pictures/{number}.jpg")),
            )
            .unwrap();
    }
}

#[test]
fn a_shop_in_sqlite() {
    let site = bare();
    shop(&site);
    site.run(&["init", "--url", ROOT]).says(
        0,
        &[
            "sql sqlite:shop.db, table goods",
            "made, because there was none",
            "“/goods/{slug}/” is a guess",
            "12 would be listed",
        ],
    );
    let text = config(&site);
    assert!(text.contains("query      = \"select id, slug, name, photo, updated_at from goods\""), "{text}");
    assert!(text.contains("where is_public = …") && !text.contains("orders"), "{text}");
    site.build();
    assert_eq!(site.lastmod("/goods/oil-can-3/").as_deref(), Some("2026-10-01T10:00:00Z"));
}

/// Where pages are known, nothing about the URLs of rows is a guess.
#[rstest]
#[case::by_an_old_sitemap(true)]
#[case::by_built_pages(false)]
fn rows_are_served_where_known_pages_are(#[case] by_sitemap: bool) {
    let site = bare();
    shop(&site);
    if by_sitemap {
        let urls: String =
            (0..12).map(|number| format!("<url><loc>{ROOT}things/oil-can-{number}.html</loc></url>")).collect();
        site.spoil(
            "sitemap.xml",
            format!("<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">{urls}</urlset>"),
        );
    } else {
        (0..12).for_each(|number| site.page(&format!("things/oil-can-{number}.html"), "Can", &number.to_string()));
    }
    site.run(&["init", "public", "--url", ROOT]).says(0, &["Wrote idle-atlas.toml", "12 would be listed"]);
    assert!(config(&site).contains("url = \"/things/{slug}.html\""), "{}", config(&site));
    assert!(!config(&site).contains("guess"), "{}", config(&site));
    assert_eq!(surveyed(&site), 12);
}

#[cfg(feature = "markdown")]
#[test]
fn a_markdown_site_before_it_is_built() {
    let site = bare();
    site.write("articles/2026-11-01-frost.md", "---\ntitle: Frost\ndate: 2026-11-01\n---\nCold.\n");
    site.write("articles/later.md", "---\ntitle: Later\ndate: 2027-01-01\n---\nSoon.\n");
    site.write("README.md", "# About this folder\n");
    site.run(&["init", "--url", ROOT])
        .says(0, &["markdown articles, 2 articles", "follow from the paths", "1 would be listed"]);
    assert_eq!(surveyed(&site), 1);
}

#[rstest]
#[case::separated(
    "photographs.csv",
    "Slug;Caption;Updated\nfirst-light;First light;04/07/2026\nlast-train;Last train;23/11/2026\n",
    "dates   = \"%d/%m/%Y\""
)]
#[case::objects("data/films.jsonl", "{\"path\": \"/films/weir/\", \"title\": \"Weir\"}\n", "url = \"path\"")]
#[case::absolute("urls.tsv", "url\tmodified\nhttps://www.marrowvale.example/a/\t2026-10-01\n", "file = \"urls.tsv\"")]
fn tables(#[case] name: &str, #[case] text: &str, #[case] written: &str) {
    let site = bare();
    site.write(name, text);
    site.run(&["init", "--url", ROOT]).says(0, &[&format!("table {name}")]);
    assert!(config(&site).contains(written), "{}", config(&site));
    assert_eq!(surveyed(&site), text.lines().count() as u64 - u64::from(!name.ends_with("jsonl")));
}

#[test]
fn the_url_of_a_table_is_that_of_its_urls() {
    let site = bare();
    site.write("urls.csv", "url\nhttps://www.marrowvale.example/a/\nhttps://www.marrowvale.example/b/\n");
    site.run(&["init"]).says(0, &["https://www.marrowvale.example/ (according to the URLs in a table)"]);
}

/// No section for each year or for what would be empty; documents and news are seen.
#[test]
fn sections_are_those_that_will_have_entries() {
    let site = bare();
    for number in 0..10 {
        site.page(&format!("2026/n{number}.html"), "N", &number.to_string());
        site.page(&format!("journal/n{number}.html"), "J", &format!("j{number}"));
        site.write(&format!("public/print/p{number}.html"), "<meta name=robots content=noindex><main>P");
    }
    site.write("public/leaflets/fares.pdf", "%PDF-1.4");
    site.write(
        "public/news/gala.html",
        "<html lang=en-GB><head><title>Gala</title><script type=\"application/ld+json\">{\"@type\": \"NewsArticle\", \"publisher\": {\"@type\": \"Organization\", \"name\": \"The Marrow Vale Gazette\"}}</script></head><body><main>Gala</main>",
    );
    site.run(&["init", "--url", ROOT]).says(0, &["sections  journal 10, news 1"]);
    let text = config(&site);
    assert!(text.contains("# documents = [\"pdf\"]   # to list them, too: 1 .pdf"), "{text}");
    assert!(text.contains("publication = \"The Marrow Vale Gazette\"\nlanguage    = \"en\""), "{text}");
    assert!(!text.contains("\"2026\"") && !text.contains("\"print\""), "{text}");
    site.run(&["survey"]).says(0, &["21 entries would be listed"]);
}

/// A section whose pages a later step leaves out is taken out again.
#[test]
fn a_section_that_turns_out_empty_is_not_written() {
    let site = bare();
    site.page("index.html", "Home", "Tea");
    site.write("public/robots.txt", "User-agent: *\nDisallow: /search/\n");
    (0..10).for_each(|number| site.page(&format!("search/s{number}.html"), "S", &number.to_string()));
    site.run(&["init", "--url", ROOT]).says(0, &["sections  pages (all)", "1 would be listed"]);
    assert!(!config(&site).contains("\"search\""), "{}", config(&site));
}

#[test]
fn an_old_sitemap_is_compared() {
    let site = bare();
    site.page("index.html", "Home", "Tea");
    site.spoil(
        "sitemap.xml",
        format!("<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><url><loc>{ROOT}</loc><lastmod>2026-03-01</lastmod></url><url><loc>{ROOT}gone/</loc></url></urlset>"),
    );
    site.run(&["init"]).says(
        0,
        &["according to the sitemap in the web root", "compared with the old sitemap", "only in the old one", "/gone/"],
    );
    site.run(&["build"]).says(0, &["1 entry"]);
    assert_eq!(site.lastmod("/").as_deref(), Some("2026-03-01"));
}

/// From any spelling, to where visitors end up.
#[rstest]
#[case::crawled(false)]
#[case::barred(true)]
fn a_live_site(#[case] barred: bool) {
    let home = Server::start(move |request| {
        match request.path.as_str() {
        "/" => CannedAnswer::Full(302, vec![("Location".into(), "/en/".into())], Vec::new()),
        "/en/" => CannedAnswer::Html("<link rel=alternate type=application/rss+xml href=/feed.xml><a href=/a/>A</a><a href=/b/>B</a><main>A home page with enough of a text to be one.</main>".into()),
        "/a/" | "/b/" => CannedAnswer::Html(format!("<main>The page {}, with a text of its own.</main>", request.path)),
        "/robots.txt" if barred => CannedAnswer::Full(200, Vec::new(), b"User-agent: idle-atlas\nDisallow: /\n".to_vec()),
        "/sitemap.xml" => {
            let host = request.head.lines().find_map(|line| line.strip_prefix("host: ").or(line.strip_prefix("Host: "))).unwrap().trim().to_owned();
            CannedAnswer::Full(200, vec![("Content-Type".into(), "application/xml".into())], format!("<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><url><loc>http://{host}/a/</loc><lastmod>2026-03-01</lastmod></url></urlset>").into_bytes())
        }
        _ => CannedAnswer::Full(404, Vec::new(), Vec::new()),
    }
    });
    let site = bare();
    let ran = site.run(&["init", "--from", home.address.to_string().as_str()]);
    ran.says(0, &[&format!("{} (where visitors end up)", home.url()), "sitemap", "crawl"]);
    let text = config(&site);
    assert!(text.contains("= \"old-sitemaps/sitemap.xml\""), "{text}");
    if barred {
        // Then the sitemap has to name the pages.
        ran.says(0, &["written as comments: feed", "crawl"]);
        assert!(text.contains("# from                = \"crawl\"") && !text.contains("moved"), "{text}");
    } else {
        assert!(text.contains("# from = \"feed\"") && text.contains("moved = true"), "{text}");
        site.build();
        let sitemap = site.read("public/sitemap.xml");
        assert_eq!(sitemap.matches("<loc>").count(), 3, "{sitemap}");
        assert!(sitemap.contains("/a/</loc><lastmod>2026-03-01</lastmod>"), "{sitemap}");
    }
}

#[test]
fn what_only_a_server_can_make_is_crawled() {
    let site = bare();
    site.write("htdocs/index.php", "<?php");
    site.run(&["init"])
        .says(2, &["htdocs has no page (.html), but 1 file that only its server turns into pages", "--from URL"]);
    site.run(&["init", "--url", "http://127.0.0.1:9/"]).says(0, &["crawl http://127.0.0.1:9/"]);
}

#[rstest]
#[case::nothing(&["init", "--url", ROOT], "no article (.md with front matter), no table")]
#[case::no_such_file(&["init", "--from", "./x.csv"], "there is no such file or folder")]
#[case::no_answer(&["init", "--from", "http://127.0.0.1:9/"], "does not answer")]
#[case::no_database(&["init", "--from", "sqlite:x.db"], "there is no such file")]
#[case::no_variable(&["init", "--from", "postgres://a:${NO_SUCH}@h/d"], "the environment variable NO_SUCH is not set")]
fn what_is_not_there_is_said(#[case] arguments: &[&str], #[case] words: &str) {
    let site = bare();
    site.run(arguments).says(2, &[words]);
    assert!(!site.path("idle-atlas.toml").exists());
}

/// Whatever a live site answers: `init` says so, ends, and writes nothing, or a configuration that is valid.
#[rstest]
#[case::an_error(CannedAnswer::Full(500, Vec::new(), Vec::new()), "answers 500")]
#[case::nothing_there(CannedAnswer::Full(404, Vec::new(), Vec::new()), "answers 404")]
#[case::round_and_round(CannedAnswer::Full(301, vec![("Location".into(), "/again".into())], Vec::new()), "does not answer")]
#[case::elsewhere(CannedAnswer::Full(302, vec![("Location".into(), "http://127.0.0.1:9/".into())], Vec::new()), "not a public address")]
fn a_live_site_that_is_none(#[case] answer: CannedAnswer, #[case] words: &str) {
    let answer = std::sync::Mutex::new(answer);
    let server = Server::start(move |_| match &*answer.lock().unwrap() {
        CannedAnswer::Full(status, headers, body) => CannedAnswer::Full(*status, headers.clone(), body.clone()),
        _ => unreachable!(),
    });
    let site = bare();
    site.run(&["init", "--from", &server.url()]).says(2, &[words]);
    assert!(!site.path("idle-atlas.toml").exists() && !site.path("public").exists());
}

/// A home page that is not one, a robots.txt without end, a sitemap that breaks off: a look takes what it gets.
#[rstest]
#[case::bytes("/", &[0, 159, 146, 150])]
#[case::robots("/robots.txt", &[b'a'; 100_000])]
#[case::sitemap("/sitemap.xml", b"<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><url><loc>/x")]
#[case::index("/sitemap.xml", b"<sitemapindex><sitemap><loc>nowhere</loc></sitemap></sitemapindex>")]
#[case::page_for_a_sitemap("/sitemap.xml", b"<!doctype html><title>Not found</title>")]
fn a_live_site_that_answers_oddly(#[case] path: &'static str, #[case] body: &'static [u8]) {
    let server = Server::start(move |request| match request.path.as_str() {
        asked if asked == path => CannedAnswer::Full(200, Vec::new(), body.to_vec()),
        "/" => CannedAnswer::Html("<a href=/a/>A</a><main>A home page with enough of a text.</main>".into()),
        _ => CannedAnswer::Full(404, Vec::new(), Vec::new()),
    });
    let site = bare();
    site.run(&["init", "--from", &server.url()]).says(0, &["Wrote idle-atlas.toml", "crawl"]);
    site.run(&["config", "check"]).says(0, &["is valid"]);
}

/// Several places at once make several sources; what was named is meant, even if its URLs are a guess.
#[test]
fn several_places_make_several_sources() {
    let site = bare();
    shop(&site);
    site.write("films.csv", "url,title\n/films/weir/,Weir\n");
    site.write("news.xml", "<rss version=\"2.0\"><channel><title>News</title></channel></rss>");
    site.write("old.xml", "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><url><loc>https://www.marrowvale.example/old/</loc></url></urlset>");
    site.page("index.html", "Home", "Tea");
    let from = ["shop.db", "films.csv", "news.xml", "old.xml"].map(|place| ["--from", place]).concat();
    site.run(&[&["init", "public", "--url", ROOT][..], &from].concat()).says(
        0,
        &[
            "html public",
            "sql sqlite:shop.db, table goods",
            "table films.csv, 1 row",
            "news.xml",
            "sitemap old.xml",
            "Set “url” under fields",
        ],
    );
    // Pages that an application serves are listed although no folder has them.
    assert_eq!(config(&site).matches("may-be-elsewhere").count(), 2, "{}", config(&site));
    assert_eq!(surveyed(&site), 1 + 12 + 1);
}

/// Without another source, a sitemap that is named is what names the pages.
#[test]
fn a_sitemap_alone_is_a_source() {
    let site = bare();
    site.write("old.xml", "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><url><loc>https://www.marrowvale.example/old/</loc></url></urlset>");
    site.run(&["init", "--from", "old.xml", "--url", ROOT]).says(0, &["sitemap old.xml", "1 would be listed"]);
    assert!(!config(&site).contains("moved"));
}

#[test]
fn a_second_look_does_not_write_over_the_first() {
    let site = bare();
    shop(&site);
    site.run(&["init", "--url", ROOT]).says(0, &["Wrote idle-atlas.toml"]);
    let before = config(&site);
    site.run(&["init", "--url", "https://other.example/"]).says(2, &["there is a idle-atlas.toml already"]);
    assert_eq!(config(&site), before);
    site.run(&["init", "--url", ROOT, "--config", "second.toml"]).says(0, &["Wrote second.toml"]);
}

/// With JSON, everything that is said is data.
#[test]
fn what_was_found_is_data() {
    let site = bare();
    shop(&site);
    let facts = site.json(&["init", "--url", ROOT]);
    assert_eq!(facts["url_from"], "told");
    assert_eq!(facts["entries"], 12);
    assert_eq!(facts["made_web_root"], true);
    assert_eq!(facts["sources"][0], "sql sqlite:shop.db, table goods");
    assert!(facts["unsure"][0].as_str().unwrap().contains("is a guess"));
}

/// The sitemaps of a live site are saved with all files that their index lists, compressed or not, so that they go on to
/// give dates when others are served in their place.
#[test]
fn the_sitemaps_of_a_live_site_are_saved_whole() {
    let urlset = |paths: &[&str], host: &str| {
        let urls: String = paths
            .iter()
            .map(|path| format!("<url><loc>http://{host}{path}</loc><lastmod>2026-03-01</lastmod></url>"))
            .collect();
        format!("<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">{urls}</urlset>").into_bytes()
    };
    let packed = |bytes: &[u8]| {
        let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        std::io::Write::write_all(&mut writer, bytes).unwrap();
        writer.finish().unwrap()
    };
    let server = Server::start(move |request| {
        let host = request.head.lines().find_map(|line| line.strip_prefix("host: ")).unwrap().trim().to_owned();
        let found =
            |kind: &str, body: Vec<u8>| CannedAnswer::Full(200, vec![("Content-Type".into(), kind.into())], body);
        match request.path.as_str() {
            "/robots.txt" => found("text/plain", format!("Sitemap: http://{host}/maps/all.xml\n").into_bytes()),
            "/maps/all.xml" => found("application/xml", format!("<sitemapindex xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><sitemap><loc>http://{host}/maps/one.xml.gz</loc></sitemap><sitemap><loc>http://{host}/maps/two.xml</loc></sitemap></sitemapindex>").into_bytes()),
            "/maps/one.xml.gz" => found("application/gzip", packed(&urlset(&["/", "/a/"], &host))),
            "/maps/two.xml" => found("application/xml", urlset(&["/gone/"], &host)),
            "/" | "/a/" => CannedAnswer::Html("<a href=/>Home</a><a href=/a/>A</a><main>A page with enough of a text to be one.</main>".into()),
            _ => CannedAnswer::Full(404, Vec::new(), Vec::new()),
        }
    });
    let site = bare();
    site.run(&["init", "--from", &server.url()]).says(0, &["maps/all.xml, 2 files"]);
    let mut saved: Vec<String> = fs::read_dir(site.path("old-sitemaps"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    saved.sort();
    assert_eq!(saved, ["all.xml", "one.xml.gz", "two.xml"]);
    let moved = site.json(&["survey"])["moved"].clone();
    assert_eq!((moved["both"].as_u64(), moved["only_old"]["count"].as_u64()), (Some(2), Some(1)));
    site.build();
    assert!(site.read("public/sitemap.xml").contains("/a/</loc><lastmod>2026-03-01</lastmod>"));
}

/// A table at a URL is one source; its address is written as it is.
#[test]
fn a_table_at_a_url() {
    let server = Server::start(|_| {
        CannedAnswer::Full(200, Vec::new(), b"url,modified\n/a/,2026-10-01\n/b/,2026-10-02\n".to_vec())
    });
    let table = format!("{}export/pages.csv", server.url());
    let site = bare();
    site.run(&["init", "--from", &table, "--url", ROOT]).says(0, &["pages.csv, 2 rows"]);
    assert!(config(&site).contains(&format!("file = \"{table}\"")), "{}", config(&site));
    assert_eq!(surveyed(&site), 2);
}

/// A home page that is empty until a script has run, folders that look private, canonical links to another site: each is
/// said, and what is written works all the same.
#[test]
fn what_looks_odd_is_said() {
    let site = bare();
    site.write("public/index.html", "<title>App</title><div id=app></div><script src=/app.js></script>");
    site.write(
        "public/staff/rota.html",
        "<title>Rota</title><link rel=canonical href=https://old.example/staff/rota.html><main>Rota",
    );
    site.write("public/a.html", "<title>A</title><link rel=canonical href=https://old.example/a.html><main>A");
    site.run(&["init", "public", "--url", ROOT]).says(
        0,
        &[
            "empty until a script has run",
            "Is /staff/ meant for engines?",
            "Most canonical links name another site",
            "canonical = \"ignore\"",
        ],
    );
    assert_eq!(surveyed(&site), 3);
}

/// The values of a source stand below each other, and what is a guess is a comment, so that it can be taken over by
/// removing the signs.
#[test]
fn proposals_can_be_taken_over() {
    let site = bare();
    site.page("index.html", "Home", "Tea");
    site.write("films.csv", "slug,title,updated\nweir-in-spate,Weir,2026-10-01\nlast-train,Train,2026-10-02\n");
    site.run(&["init", "public", "--url", ROOT]).says(0, &["written as comments: table films.csv, 2 rows"]);
    assert_eq!(surveyed(&site), 1);
    let text = config(&site);
    let (before, rest) = text.split_once("# [[source]]\n").unwrap();
    let (proposed, after) = rest.split_once("\n\n").unwrap();
    let equals: std::collections::BTreeSet<usize> = proposed
        .lines()
        .filter(|line| line.starts_with("# ") && line.contains(" = "))
        .map(|line| line.find(" = ").unwrap())
        .collect();
    assert_eq!(equals.len(), 1, "{proposed}");
    let taken: String = proposed.lines().map(|line| format!("{}\n", line.trim_start_matches("# "))).collect();
    site.write("idle-atlas.toml", format!("{before}[[source]]\n{taken}\n{after}"));
    site.run(&["config", "check"]).says(0, &["table films.csv"]);
    assert_eq!(surveyed(&site), 3);
}

/// A site in a folder of its host: the folder is the site, and its robots.txt is not in the web root.
#[test]
fn a_live_site_in_a_folder() {
    let server = Server::start(|request| match request.path.as_str() {
        "/shop" => CannedAnswer::Full(301, vec![("Location".into(), "/shop/".into())], Vec::new()),
        "/shop/" => CannedAnswer::Html(
            "<a href=/shop/wicks/>Wicks</a><a href=/elsewhere/>E</a><main>The shop with all its lamps.</main>".into(),
        ),
        "/shop/wicks/" => CannedAnswer::Html("<main>Wicks of every width that there is.</main>".into()),
        "/robots.txt" => CannedAnswer::Full(200, Vec::new(), b"User-agent: *\nDisallow: /admin/\n".to_vec()),
        _ => CannedAnswer::Full(404, Vec::new(), Vec::new()),
    });
    let site = bare();
    site.run(&["init", "--from", &format!("{}shop", server.url())])
        .says(0, &[&format!("{}shop/ (where visitors end up)", server.url()), "leads to"]);
    assert!(config(&site).contains("its robots.txt is not in this web root"), "{}", config(&site));
    assert_eq!(surveyed(&site), 2);
}

/// Sections of a live site come from its links and sitemaps.
#[test]
fn a_live_site_has_sections() {
    let links: String = (0..9).map(|number| format!("<a href=/journal/{number}/>{number}</a>")).collect();
    let home =
        format!("{links}<a href=/2026/a/>a</a><a href=/about/>About</a><main>The home page of a journal.</main>");
    let server = Server::start(move |request| match request.path.as_str() {
        "/" => CannedAnswer::Html(home.clone()),
        "/robots.txt" | "/sitemap.xml" => CannedAnswer::Full(404, Vec::new(), Vec::new()),
        path => CannedAnswer::Html(format!("<main>The page at {path}, with a text.</main>")),
    });
    let site = bare();
    site.run(&["init", "--from", &server.url()]).says(0, &["sections  journal 9"]);
    site.build();
    assert!(site.path("public/atlas-journal-1.xml").exists());
}
