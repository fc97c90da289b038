//! The command `check` on a live site: files, pages, single pages, and what became of URLs that left.

use std::io::Write;

use flate2::Compression;
use flate2::write::GzEncoder;
use rstest::rstest;
use serde_json::Value;

use crate::server::{CannedAnswer, Request, Server, page, redirect, status};
use crate::support::{HTML, TestSite};

const OPEN: &str = "<?xml version=\"1.0\"?>\n<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">";

fn full(status: u16, kind: &str, body: impl Into<Vec<u8>>) -> CannedAnswer {
    CannedAnswer::Full(status, vec![("Content-Type".to_owned(), kind.to_owned())], body.into())
}

fn host(request: &Request) -> String {
    let line = request.head.lines().find(|line| line.to_ascii_lowercase().starts_with("host:")).unwrap();
    line[5..].trim().to_owned()
}

fn sitemap(request: &Request, paths: &[&str]) -> Vec<u8> {
    let url = |path: &&str| format!("\n<url><loc>http://{}{path}</loc></url>", host(request));
    format!("{OPEN}{}\n</urlset>", paths.iter().map(url).collect::<String>()).into_bytes()
}

fn robots(request: &Request) -> CannedAnswer {
    full(
        200,
        "text/plain",
        format!("User-agent: *\nDisallow: /staff/\nSitemap: http://{}/sitemap.xml\n", host(request)),
    )
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut packer = GzEncoder::new(Vec::new(), Compression::fast());
    packer.write_all(bytes).unwrap();
    packer.finish().unwrap()
}

/// A folder without a configuration.
fn nowhere() -> TestSite {
    let site = TestSite::new("");
    std::fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    site
}

fn found(report: &Value) -> Vec<(String, String)> {
    let text = |finding: &Value, key: &str| finding[key].as_str().unwrap_or_default().to_owned();
    let findings = report["findings"].as_array().unwrap().iter();
    findings.map(|finding| (text(finding, "code"), text(finding, "what"))).collect()
}

fn codes(report: &Value) -> Vec<String> {
    found(report).into_iter().map(|(code, _)| code).collect()
}

#[test]
fn a_live_site_is_checked_without_a_configuration() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => robots(request),
        "/sitemap.xml" => full(200, "application/xml", sitemap(request, &["/", "/fares/"])),
        _ => page("Marrow Vale", &[]),
    });
    let ran = nowhere().run(&["check", &server.url()]);
    ran.says(0, &["Read 1 sitemap file with 2 entries", "live, starting at robots.txt", "Nothing is wrong"]);
    assert_eq!(server.count("/fares/"), 0, "pages are visited only if asked for");
}

/// Where robots.txt declares nothing, sitemaps are looked for where they usually are.
#[test]
fn undeclared_sitemaps_are_found() {
    let server = Server::start(|request| match request.path.as_str() {
        "/sitemap_index.xml" => full(200, "application/xml", sitemap(request, &["/"])),
        // Some servers answer 200 whatever is asked for.
        "/robots.txt" => full(200, "text/plain", "User-agent: *\n"),
        _ => page("Not here", &[]),
    });
    let report = nowhere().json(&["check", &server.url()]);
    assert_eq!(codes(&report), ["not-declared"]);
    assert_eq!(report["files"].as_array().unwrap().len(), 1);
}

#[rstest]
#[case::moved("file-redirect", 200, "application/xml", "/map.xml", false)]
#[case::shut("file-status", 403, "text/plain", "", false)]
#[case::missing("file-missing", 404, "text/html", "", false)]
#[case::html("content-type", 200, "text/html", "", false)]
#[case::packed_in_secret("content-encoding", 200, "application/xml", "", true)]
fn how_the_server_answers(
    #[case] code: &str,
    #[case] answer: u16,
    #[case] kind: &'static str,
    #[case] moved: &'static str,
    #[case] packed: bool,
) {
    let server = Server::start(move |request| match request.path.as_str() {
        "/robots.txt" => robots(request),
        "/sitemap.xml" if !moved.is_empty() => redirect(moved),
        "/sitemap.xml" | "/map.xml" => {
            let file = sitemap(request, &["/"]);
            full(answer, kind, if packed { gzip(&file) } else { file })
        }
        _ => page("Home", &[]),
    });
    let report = nowhere().json(&["check", &server.url()]);
    assert_eq!(codes(&report), [code]);
}

#[test]
fn walls_and_a_failing_robots_txt() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => robots(request),
        "/sitemap.xml" => full(403, "text/html", "<title>Please verify that you are human</title>"),
        _ => page("Home", &[]),
    });
    assert_eq!(codes(&nowhere().json(&["check", &server.url()])), ["bot-wall"]);
    let failing = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => status(503),
        _ => page("Home", &[]),
    });
    assert_eq!(codes(&nowhere().json(&["check", &failing.url()])), ["robots-failing"]);
    let is_page = Server::start(|request| match request.path.as_str() {
        "/sitemap.xml" => full(200, "application/xml", sitemap(request, &["/"])),
        "/robots.txt" => page("Home", &[]),
        _ => status(404),
    });
    assert_eq!(codes(&nowhere().json(&["check", &is_page.url()])), ["robots-not-text", "not-declared"]);
}

/// Bodies that never end, or that unpack to far more than a sitemap may have.
#[test]
fn hostile_answers_are_findings() {
    let bomb = gzip(&vec![b' '; 60 << 20]);
    let server = Server::start(move |request| match request.path.as_str() {
        "/robots.txt" => full(
            200,
            "text/plain",
            format!(
                "Sitemap: http://{0}/a.xml\nSitemap: http://{0}/b.xml.gz\nSitemap: http://{0}/c.xml\n",
                host(request)
            ),
        ),
        "/a.xml" => CannedAnswer::Endless("application/xml", 200 << 20),
        "/b.xml.gz" => full(200, "application/gzip", bomb.clone()),
        "/c.xml" => full(
            200,
            "application/xml",
            "<!DOCTYPE urlset [<!ENTITY a \"lamp\"><!ENTITY b \"&a;&a;&a;&a;\">]><urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><url><loc>&b;</loc></url></urlset>",
        ),
        _ => page("Home", &[]),
    });
    let report = nowhere().json(&["check", &server.url()]);
    assert_eq!(codes(&report), ["too-many-bytes", "too-many-bytes", "not-well-formed"]);
    assert!(found(&report)[2].1.contains("unknown entity"), "{report:#}");
}

#[test]
fn what_is_no_sitemap_ends_with_plain_words() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" | "/none.xml" => status(404),
        path if path.contains("sitemap") => status(404),
        _ => page("Home", &[]),
    });
    let site = nowhere();
    let at = |path: &str| format!("{}{path}", server.url());
    site.run(&["check", &server.url()]).says(2, &["there is no sitemap at", "robots.txt declares none"]);
    site.run(&["check", &at("fares")]).says(2, &["is not a sitemap that can be checked", "idle-atlas check --page"]);
    site.run(&["check", &at("none.xml")]).says(2, &["there is no such file"]);
    site.run(&["check", "http://127.0.0.1:9/"]).says(2, &["http://127.0.0.1:9/ does not answer"]);
    site.write("notes.txt", "lamp oil\n");
    site.run(&["check", "notes.txt"]).says(2, &["notes.txt is not a sitemap"]);
    site.run(&["check", "public", "--pages", "all"]).says(2, &["--pages visits pages on the live site"]);
}

fn faulty(request: &Request) -> CannedAnswer {
    let gone = "Sorry, we cannot find that page anywhere on the whole of the line.";
    match request.path.as_str() {
        "/robots.txt" => robots(request),
        "/sitemap.xml" => {
            let paths = [
                "/",
                "/moved/",
                "/gone/",
                "/soft/",
                "/hidden/",
                "/style.css",
                "/other/",
                "/members/",
                "/broken/",
                "/wait/",
            ];
            full(200, "application/xml", sitemap(request, &paths))
        }
        "/" | "/fares/" => page("Marrow Vale", &[]),
        "/moved/" => redirect("/fares/"),
        "/gone/" => status(404),
        "/hidden/" => CannedAnswer::Full(
            200,
            vec![("Content-Type".into(), "text/html".into()), ("X-Robots-Tag".into(), "noindex".into())],
            b"<title>Hidden</title>".to_vec(),
        ),
        "/style.css" => full(200, "text/css", "a{}"),
        "/other/" => full(200, "text/html", "<title>x</title><link rel=canonical href=/fares/>"),
        "/members/" => status(401),
        "/broken/" => status(500),
        _ => page(gone, &[]),
    }
}

#[test]
fn each_listed_page_is_one_that_engines_take() {
    let server = Server::start(faulty);
    let report = nowhere().json(&["check", &server.url(), "--pages", "all", "--rate", "0"]);
    let mut found = codes(&report);
    found.sort();
    let wanted = [
        "canonical-elsewhere",
        "no-page",
        "noindex",
        "not-a-page",
        "redirect",
        "refused",
        "server-error",
        "soft-404",
        "soft-404",
    ];
    assert_eq!(found, wanted);
    assert_eq!(report["pages"]["visited"], 10);
    let first = &report["findings"][0];
    assert_eq!(
        (first["line"].as_u64(), first["file"].as_str()),
        (Some(4), Some(format!("{}sitemap.xml", server.url()).as_str()))
    );
    // A sample is the same each time.
    let sampled = || {
        let report = nowhere().json(&["check", &server.url(), "--pages", "4", "--rate", "0"]);
        assert_eq!(report["pages"]["visited"], 4);
        codes(&report)
    };
    assert_eq!(sampled(), sampled());
}

#[test]
fn pictures_and_videos_have_to_answer() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => robots(request),
        "/sitemap.xml" => {
            let at = format!("http://{}", host(request));
            let file = format!(
                "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\" xmlns:image=\"http://www.google.com/schemas/sitemap-image/1.1\" xmlns:video=\"http://www.google.com/schemas/sitemap-video/1.1\">
<url><loc>{at}/</loc><image:image><image:loc>{at}/a.svg</image:loc></image:image><image:image><image:loc>{at}/b.svg</image:loc></image:image>
<video:video><video:thumbnail_loc>{at}/c.jpg</video:thumbnail_loc><video:title>x</video:title><video:description>x</video:description><video:content_loc>{at}/d.mp4</video:content_loc></video:video></url></urlset>"
            );
            full(200, "application/xml", file)
        }
        "/" => page("Home", &[]),
        "/a.svg" => full(200, "image/svg+xml", "<svg/>"),
        // This server does not know HEAD.
        "/d.mp4" if request.head.starts_with("HEAD") => status(405),
        "/d.mp4" => full(200, "video/mp4", vec![0; 200_000]),
        "/c.jpg" => page("Not a picture", &[]),
        _ => status(404),
    });
    let report = nowhere().json(&["check", &server.url(), "--pages", "all", "--rate", "0"]);
    assert_eq!(codes(&report), ["thumbnail-missing", "picture-missing"]);
    assert!(found(&report)[1].1.ends_with("/b.svg answers 404"), "{report:#}");
}

/// A server that asks for a pause gets it, and pages that robots.txt forbids to this tool are not visited.
#[test]
fn visits_are_polite() {
    let asked = std::sync::atomic::AtomicUsize::new(0);
    let server = Server::start(move |request| match request.path.as_str() {
        "/robots.txt" => full(
            200,
            "text/plain",
            format!(
                "User-agent: idle-atlas\nDisallow: /yard/\nUser-agent: *\nDisallow:\nSitemap: http://{}/sitemap.xml\n",
                host(request)
            ),
        ),
        "/sitemap.xml" => full(200, "application/xml", sitemap(request, &["/", "/yard/"])),
        "/" if asked.fetch_add(1, std::sync::atomic::Ordering::SeqCst) == 1 => {
            CannedAnswer::Full(429, vec![("Retry-After".into(), "1".into())], Vec::new())
        }
        "/" | "/yard/" => page("Home", &[]),
        _ => status(404),
    });
    let ran = nowhere().run(&["check", &server.url(), "--pages", "all"]);
    ran.says(0, &["Visited 1 of 2 pages", "1 page was not visited, because robots.txt forbids it to idle-atlas"]);
    assert_eq!((server.count("/"), server.count("/yard/")), (3, 0));
}

/// A card says where a page leads, what bars it, which sitemap lists it, and what to mend.
#[test]
fn single_pages_are_looked_at() {
    let server = Server::start(faulty);
    let at = |path: &str| format!("{}{path}", server.url());
    let ran = nowhere().run(&["check", "--page", &at("moved/"), &at("staff/rota/"), &at("hidden/")]);
    ran.says(
        1,
        &[
            "answers     301",
            "then        200 at",
            "line 2 bars all engines: “Disallow: /staff/”",
            "error redirect: redirects with 301 to",
            "warning disallowed",
            "noindex     X-Robots-Tag: noindex",
            "listed in http://127.0.0.1",
        ],
    );
    let site = nowhere();
    site.write("pages.csv", format!("{},7\nURL,clicks\n{},2\n", at(""), at("gone/")));
    let cards = site.json(&["check", "--pages-from", "pages.csv"]);
    assert_eq!(cards[0]["troubles"], serde_json::json!([]));
    assert_eq!(cards[1]["troubles"][0]["code"], "no-page");
    assert!(cards[1]["listed_in"].as_str().unwrap().ends_with("/sitemap.xml"));
    site.write("none.csv", "URL,clicks\n");
    site.run(&["check", "--pages-from", "none.csv"]).says(2, &["there is no URL in none.csv"]);
}

#[test]
fn what_became_of_urls_that_left() {
    let server = Server::start(|request| match request.path.as_str() {
        "/old/home/" | "/old/more/" => redirect("/"),
        "/old/frost-on-the-cutting.html" => status(404),
        "/old/circle/" => redirect("/old/circle/"),
        "/old/fares/" => redirect("/fares/"),
        "/robots.txt" => robots(request),
        "/sitemap.xml" => {
            full(200, "application/xml", sitemap(request, &["/", "/fares/", "/journal/frost-on-the-cutting/"]))
        }
        "/" | "/fares/" | "/old/there/" => page("Here", &[]),
        _ => status(404),
    });
    let site = nowhere();
    let paths = ["home/", "more/", "frost-on-the-cutting.html", "circle/", "fares/", "there/"];
    let list: String = paths.iter().map(|path| format!("{}old/{path}\n", server.url())).collect();
    site.write("old.txt", list);
    let report = site.json(&["check", "--gone", "old.txt", "--rate", "0"]);
    let wanted = serde_json::json!({ "redirected": 1, "to-home": 2, "dead-end": 1, "lost": 1, "still-there": 1 });
    assert_eq!(report["fates"], wanted);
    assert_eq!((&report["folders"][0]["folder"], &report["folders"][0]["urls"]), (&"/old/".into(), &6.into()));
    site.run(&["check", "--gone", "old.txt", "--rate", "0"])
        .says(1, &["to the home page: 2 URLs", "4 URLs lead to nothing"]);
    let csv = site.run(&["check", "--gone", "old.txt", "--redirects", "csv", "--rate", "0"]).out;
    let best = format!("{0}old/frost-on-the-cutting.html,{0}journal/frost-on-the-cutting/,", server.url());
    assert!(csv.lines().nth(1).unwrap().starts_with(&best), "{csv}");
    let nginx = site.run(&["check", "--gone", "old.txt", "--redirects", "nginx", "--rate", "0"]).out;
    assert!(nginx.contains("location = \"/old/frost-on-the-cutting.html\" { return 301 "), "{nginx}");
    assert!(nginx.contains("# /old/circle/: no page looks like it"), "{nginx}");
    site.run(&["check", "--gone", "nothing.txt"]).says(2, &["cannot read nothing.txt"]);
}

/// Without a list, the URLs are those that left the ledger.
#[test]
fn the_ledger_knows_what_left() {
    let mut site = TestSite::new(&format!("{HTML}[guards]\nmost_lost = \"100%\"\n"));
    site.page("a.html", "Lamps", "Lamps of the line.");
    site.page("b.html", "Signals", "Signals of the line.");
    site.build();
    site.run(&["check", "--gone"]).says(2, &["nothing has left the sitemaps of this site"]);
    std::fs::remove_file(site.path("public/b.html")).unwrap();
    site.at(crate::support::NOON + 60);
    site.build();
    let server = Server::start(|_| status(410));
    site.reconfigure("[site]", &format!("[site]\nreached_at = \"http://{}\"", server.address));
    let report = site.json(&["check", "--gone"]);
    assert_eq!(report["fates"], serde_json::json!({ "lost": 1 }));
    assert_eq!((&report["urls"][0]["title"], server.count("/b.html")), (&"Signals".into(), 1));
}

#[test]
fn a_site_url_that_redirects_and_a_second_copy() {
    let site = TestSite::new(HTML);
    site.page("index.html", "Home", "The line.");
    site.build();
    let files = site.outputs();
    let server = Server::start(move |request| match request.path.as_str() {
        "/" => redirect("https://marrowvale.example/"),
        path => match files.get(&path[1..]) {
            Some(bytes) if path == "/robots.txt" => full(200, "text/plain", bytes.clone()),
            Some(bytes) => full(200, "application/xml", bytes.clone()),
            None => status(404),
        },
    });
    site.reconfigure("[site]", &format!("[site]\nreached_at = \"http://{}\"", server.address));
    let report = site.json(&["check", "--live"]);
    assert_eq!(codes(&report), ["site-redirects", "second-copy"]);
    assert!(found(&report)[0].1.contains("the right [site] url is https://marrowvale.example/"), "{report:#}");
}

/// Interrupted, it says what it has found so far.
#[cfg(unix)]
#[test]
fn an_interrupted_check_says_what_it_has() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => robots(request),
        "/sitemap.xml" => {
            let paths: Vec<String> = (0..500).map(|number| format!("/{number}/")).collect();
            let paths: Vec<&str> = paths.iter().map(String::as_str).collect();
            full(200, "application/xml", sitemap(request, &paths))
        }
        _ => status(404),
    });
    let site = nowhere();
    let child = site
        .command(&["check", &server.url(), "--pages", "all", "--rate", "20"])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let begun = std::time::Instant::now();
    while server.count("/3/") == 0 && begun.elapsed().as_secs() < 60 {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    let stopped = std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert!(stopped.success());
    let output = child.wait_with_output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    assert_eq!(output.status.code(), Some(130), "{text}");
    assert!(text.contains("of 500 pages") && text.contains("Interrupted: what follows"), "{text}");
    assert!(text.contains("error no-page"), "{text}");
}

#[test]
fn trouble_with_encryption_is_told_apart_from_silence() {
    // A server that speaks no TLS, as nginx answers on such a port.
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let _ = stream.write_all(b"HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n");
        }
    });
    let site = TestSite::at_url(&format!("https://{address}/"), HTML);
    assert_eq!(codes(&site.json(&["check", "--live"])), ["tls-trouble"]);
    let site = TestSite::at_url("http://127.0.0.1:9/", HTML);
    assert_eq!(codes(&site.json(&["check", "--live"])), ["no-answer"]);
}
