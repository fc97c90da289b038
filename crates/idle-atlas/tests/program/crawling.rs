//! The source `crawl`: friendly sites, and hostile servers.

use std::io::Write;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::Value;

use crate::nginx::{Nginx, free_port};
use crate::server::{CannedAnswer, Request, Server, page, redirect, status};
use crate::support::{Ran, TestSite};

const CRAWL: &str = "[[source]]\nfrom = \"crawl\"\nrequests_per_second = 0\n";

fn site(server: &Server, more: &str) -> TestSite {
    TestSite::at_url(&server.url(), &format!("{CRAWL}{more}"))
}

/// The paths of a list, each with its section or why it is left out.
fn listed(site: &TestSite) -> Vec<(String, String)> {
    let list = site.json(&["survey", "--list", "--sort", "url"]);
    let one = |entry: &Value| {
        let goes = entry["section"].as_str().or(entry["reason"].as_str()).unwrap();
        let url = entry["url"].as_str().unwrap();
        (url.splitn(4, '/').nth(3).unwrap().to_owned(), goes.to_owned())
    };
    list.as_array().unwrap().iter().map(one).collect()
}

fn goes<'l>(list: &'l [(String, String)], path: &str) -> &'l str {
    list.iter().find(|(known, _)| known == path).map_or("unknown", |(_, goes)| goes)
}

fn header(name: &str, value: &str) -> (String, String) {
    (name.to_owned(), value.to_owned())
}

fn kind(request: &Request) -> CannedAnswer {
    let html = |headers: Vec<(String, String)>| {
        let body = b"<title>T</title><main><p>Words enough to be a page of its own, or so they say.</main>".to_vec();
        CannedAnswer::Full(200, [vec![header("Content-Type", "text/html")], headers].concat(), body)
    };
    match request.path.as_str() {
        "/robots.txt" => CannedAnswer::Full(200, vec![], b"User-agent: idle-atlas\nDisallow: /private/\n".to_vec()),
        "/" => page("Home", &["/a/", "/b/?utm_source=x&page=2", "/moved", "/gone", "/private/x", "/header", "/canon", "/plan.svg", "#top", "/nofollow", "https://other.example/", "/paper.pdf", "/marked", "/latin"]),
        "/a/" => page("A", &["/", "../a/deep/"]),
        "/a/deep/" => CannedAnswer::Html("<title>Deep</title><meta name=robots content=noindex><a href=/b/>b</a>".into()),
        "/b/?page=2" | "/b/" => page("B", &[]),
        "/moved" => redirect("/a/"),
        "/header" => html(vec![header("X-Robots-Tag", "noindex, nofollow")]),
        "/canon" => html(vec![header("Link", "</a/>; rel=\"canonical\"")]),
        "/nofollow" => CannedAnswer::Html("<title>N</title><main><p>Words enough to be a page, or so they say.</p><a rel=nofollow href=/hidden/>h</a>".into()),
        "/plan.svg" => CannedAnswer::Full(200, vec![header("Content-Type", "image/svg+xml")], b"<svg/>".to_vec()),
        "/paper.pdf" => CannedAnswer::Full(200, vec![header("Content-Type", "application/pdf")], b"%PDF".to_vec()),
        "/marked" => redirect("/marked?utm_source=x"),
        "/latin" => {
            let body = b"<title>Br\xe2n</title><main><p>Words enough to be a page, in Latin letters.</main>".to_vec();
            CannedAnswer::Full(200, vec![header("Content-Type", "text/html; charset=ISO-8859-1")], body)
        }
        _ => status(404),
    }
}

#[test]
fn walks_a_site_as_an_engine_would() {
    let server = Server::start(kind);
    let site = site(&server, "documents = [\"pdf\"]\n");
    let list = listed(&site);
    let wanted = [
        ("", "pages"),
        ("a/", "pages"),
        ("a/deep/", "noindex"),
        ("b/", "pages"),
        ("b/?page=2", "pages"),
        ("canon", "canonical-elsewhere"),
        ("gone", "no-page"),
        ("header", "noindex"),
        ("latin", "pages"),
        ("marked", "not-a-page"),
        ("moved", "redirect"),
        ("nofollow", "pages"),
        ("paper.pdf", "pages"),
        ("plan.svg", "not-a-page"),
        ("private/x", "disallowed"),
    ];
    assert_eq!(list, wanted.map(|(path, goes)| (path.to_owned(), goes.to_owned())));
    assert_eq!(server.count("/private/x"), 0, "robots.txt is obeyed");
    assert_eq!(server.count("/hidden/"), 0, "nofollow is obeyed");
    assert!(server.requests()[0].head.contains("user-agent: idle-atlas/"));
    let notices = site.json(&["survey"])["notices"].clone();
    let dead = notices.as_array().unwrap().iter().find(|notice| notice["code"] == "linked-not-found").unwrap();
    assert_eq!(
        (dead["count"].as_u64(), dead["examples"][0]["url"].as_str()),
        (Some(1), Some(&*format!("{}gone", server.url())))
    );
    site.run(&["why", "--fresh", "/latin"]).says(0, &["Brân"]);
    site.run(&["why", "--fresh", "/marked"]).says(0, &["a redirect to itself"]);
    site.run(&["why", "--fresh", "/gone"]).says(0, &["left out: no-page", "404 Not Found"]);
    site.run(&["why", "--fresh", "/private/x"])
        .says(0, &["left out: disallowed", "line 2 of the live site's file: Disallow: /private/ (for idle-atlas)"]);
}

#[test]
fn asks_with_conditions_the_next_time() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => status(404),
        _ if request.head.contains("if-none-match: \"v1\"") => status(304),
        "/" => {
            let body =
                b"<title>Home</title><main><p>The home page of a railway, with a link.</p><a href=/a/>a</a>".to_vec();
            CannedAnswer::Full(200, vec![header("Content-Type", "text/html"), header("ETag", "\"v1\"")], body)
        }
        _ => page("A", &[]),
    });
    let site = site(&server, "");
    site.build();
    let source = &site.json(&["survey"])["sources"][0];
    assert_eq!((source["rows"].as_u64(), source["unchanged_files"].as_u64()), (Some(2), Some(1)), "{source}");
    assert!(site.build()["written"].as_array().unwrap().is_empty());
}

/// A site that tries everything at once.
fn hostile(request: &Request) -> CannedAnswer {
    let path = request.path.as_str();
    let number = || path.trim_end_matches('/').rsplit('/').next().and_then(|end| end.parse::<u64>().ok()).unwrap_or(0);
    match path {
        "/robots.txt" => {
            let rules = "Disallow: /*never*/*/*$\n# a comment that goes on and on\n".repeat(20_000);
            CannedAnswer::Full(200, vec![], format!("User-agent: *\nDisallow: /barred/\n{rules}").into_bytes())
        }
        "/" => page(
            "Home",
            &[
                "/next/1/",
                "/loop/a",
                "/big",
                "/bomb",
                "/drip",
                "/calendar/2026/11/",
                "/maze/x/",
                "/search?q=0",
                "/binary",
                "/latin",
                "/huge-table",
                "/barred/x",
                "http://10.0.0.1/",
                "http://[::1]:1/",
                "//other.example/",
                "ftp://x.example/",
                "/to-private",
                "/broken-gzip",
                "/500",
                "javascript:void(0)",
                "/deep",
                "/wall",
            ],
        ),
        "/loop/a" => redirect("/loop/b"),
        "/loop/b" => redirect("/loop/a"),
        "/to-private" => redirect("http://10.0.0.1/secret"),
        "/big" => CannedAnswer::Endless("text/html", 10 << 30),
        "/bomb" => {
            let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
            (0..40).for_each(|_| packed.write_all(&[b' '; 1 << 20]).unwrap());
            CannedAnswer::Full(
                200,
                vec![header("Content-Type", "text/html"), header("Content-Encoding", "gzip")],
                packed.finish().unwrap(),
            )
        }
        "/broken-gzip" => CannedAnswer::Full(
            200,
            vec![header("Content-Type", "text/html"), header("Content-Encoding", "gzip")],
            b"no gzip".to_vec(),
        ),
        "/drip" => CannedAnswer::Drip,
        "/binary" => {
            CannedAnswer::Full(200, vec![header("Content-Type", "text/html")], [0, 1, 2, 255, 0, 7].repeat(1000))
        }
        "/latin" => CannedAnswer::Full(
            200,
            vec![header("Content-Type", "text/html")],
            b"<title>Caf\xe9</title><p>\xff\xfe and words enough to say something".to_vec(),
        ),
        "/500" => status(500),
        "/deep" => CannedAnswer::Html(format!(
            "<title>Deep</title>{}<p>The bottom of it all is down here somewhere.",
            "<div>".repeat(200_000)
        )),
        "/wall" => {
            CannedAnswer::Html("<title>Just a moment</title><h1>Verify you are human</h1><script></script>".into())
        }
        _ if path.starts_with("/next/") => page("Next", &[&format!("/next/{}/", number() + 1)]),
        _ if path.starts_with("/calendar/") => {
            let mut parts = path.trim_matches('/').split('/').skip(1).filter_map(|part| part.parse::<u32>().ok());
            let (year, month) = (parts.next().unwrap_or(2026), parts.next().unwrap_or(1));
            let (year, month) = if month == 12 { (year + 1, 1) } else { (year, month + 1) };
            page("Month", &[&format!("/calendar/{year}/{month:02}/")])
        }
        _ if path.starts_with("/maze/") => page("Maze", &[&format!("{path}x/"), &format!("{path}y/")]),
        _ if path.starts_with("/search?q=") => {
            let links: Vec<String> = (0..40)
                .map(|next| format!("/search?q={path}{next}").replace("/search?q=/search?q=", "/search?q="))
                .collect();
            page("Search", &links.iter().map(String::as_str).collect::<Vec<_>>())
        }
        _ => status(404),
    }
}

#[test]
fn a_hostile_server_is_survived_within_the_limits() {
    let server = Server::start(hostile);
    let site = site(&server, "most_pages = 2000\nmost_depth = 300\nwait_seconds = 2\nconnections = 8\n");
    let started = Instant::now();
    let survey = site.json(&["survey"]);
    assert!(started.elapsed() < Duration::from_secs(240), "it ends by itself");
    let source = &survey["sources"][0];
    let remarks = source["remarks"].to_string();
    for trap in ["calendar that leads years ahead", "each lead to one more", "ever deeper", "1,000 different queries"] {
        assert!(remarks.contains(trap), "{trap}: {remarks}");
    }
    let list = listed(&site);
    for path in ["big", "bomb", "broken-gzip", "binary", "wall"] {
        assert_eq!(goes(&list, path), "not-a-page", "{path}");
    }
    for path in ["500", "drip"] {
        assert_eq!(goes(&list, path), "server-error", "{path}");
    }
    for path in ["loop/a", "loop/b", "to-private"] {
        assert_eq!(goes(&list, path), "redirect", "{path}");
    }
    for path in ["latin", "deep"] {
        assert_eq!(goes(&list, path), "pages", "{path}");
    }
    assert_eq!(goes(&list, "barred/x"), "disallowed");
    assert!(list.iter().all(|(path, _)| !path.contains("10.0.0.1")));
    site.run(&["why", "--fresh", "/big"]).says(0, &["more than 32 MiB"]);
    site.run(&["why", "--fresh", "/bomb"]).says(0, &["more than 32 MiB"]);
    assert!(server.requests().iter().all(|request| request.path != "/barred/x"));
}

#[rstest]
#[case::robots_in_trouble(503, "robots.txt answers 503")]
#[case::home_forbidden(403, "the home page answers 403")]
fn a_server_that_forbids_crawlers_is_left_alone(#[case] answer: u16, #[case] wanted: &str) {
    let server = Server::start(move |request| match request.path.as_str() {
        "/robots.txt" if answer == 403 => status(404),
        _ => status(answer),
    });
    let site = site(&server, "");
    site.run(&["survey"]).says(1, &[wanted]);
    assert!(server.requests().len() <= 2);
}

#[test]
fn a_challenge_and_an_empty_page_are_named() {
    let wall = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => status(404),
        _ => CannedAnswer::Html(
            "<title>At the gate</title><h1>We check your browser first</h1><script src=/c.js></script>".into(),
        ),
    });
    site(&wall, "").run(&["survey"]).says(1, &["challenge to robots", "At the gate"]);
    let app = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => status(404),
        _ => CannedAnswer::Html("<title>App</title><div id=root></div><script src=/app.js></script>".into()),
    });
    site(&app, "").run(&["survey"]).says(0, &["1 page is empty until a script runs", "1 entry would be listed"]);
}

#[test]
fn unvisited_pages_are_not_dead_and_redirects_have_their_status() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => status(404),
        "/" => {
            CannedAnswer::Html("<title>Home</title><a href=/a/>A</a><a href=/moved/>M</a><a href=/sick/>S</a>".into())
        }
        "/a/" => CannedAnswer::Html("<title>A</title><a href=/b/>B</a><a href=/c/>C</a><a href=/gone/>G</a>".into()),
        "/moved/" => redirect("/a/"),
        "/sick/" => status(500),
        _ => status(404),
    });
    let site = site(&server, "most_depth = 1\n");
    let survey = site.run(&["survey", "--verbose"]);
    survey.says(1, &["3 addresses not visited: they are more links from the home page than most_depth"]);
    survey.says(1, &["/sick/: 500 Internal Server Error, tried 3 times; it is not listed", "the server fails there"]);
    assert!(!survey.out.contains("linked-not-found"), "{}", survey.out);
    survey.says(1, &["1 link to a page that redirects", "leads on to"]);
    site.run(&["why", "--fresh", "/sick/"])
        .says(0, &["left out: server-error", "500 Internal Server Error, tried 3 times"]);
    site.run(&["why", "--fresh", "/moved/"]).says(0, &["301 Moved Permanently, to http"]);
    site.reconfigure("most_depth = 1", "most_depth = 2");
    let survey = site.run(&["survey", "--verbose"]);
    survey.says(1, &["3 dead links (linked-not-found)"]);
}

#[test]
fn the_home_page_says_where_the_site_is() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => status(404),
        _ => redirect("https://www.marrowvale.example/"),
    });
    site(&server, "").run(&["survey"]).says(1, &["redirects to https://www.marrowvale.example/", "correct [site] url"]);
}

#[test]
fn retry_after_is_honoured_and_the_crawl_goes_on() {
    let asked = Arc::new(AtomicUsize::new(0));
    let counting = Arc::clone(&asked);
    let server = Server::start(move |request| match request.path.as_str() {
        "/robots.txt" => status(404),
        "/" => page("Home", &["/a/"]),
        _ if counting.fetch_add(1, Ordering::SeqCst) == 0 => {
            CannedAnswer::Full(429, vec![header("Retry-After", "1")], Vec::new())
        }
        _ => page("A", &[]),
    });
    let site = site(&server, "");
    let started = Instant::now();
    assert_eq!(site.json(&["survey"])["sections"][0]["entries"], 2);
    assert!(started.elapsed() >= Duration::from_secs(1), "the server asked for a second");
    assert_eq!(asked.load(Ordering::SeqCst), 2);
}

/// Waiting for a server has an end, which is reported with the status.
#[test]
fn a_page_that_keeps_asking_to_wait_is_given_up() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => status(404),
        "/" => page("Home", &["/a/"]),
        _ => CannedAnswer::Full(429, vec![header("Retry-After", "0")], Vec::new()),
    });
    let site = site(&server, "");
    site.run(&["survey"]).says(1, &["/a/: 429 Too Many Requests, tried 4 times; it is not listed"]);
    assert_eq!(server.count("/a/"), 4);
    let entry = &site.json(&["survey", "--list", "--under", "/a/"])[0];
    assert_eq!(entry["reason"], "server-error", "{entry}");
}

#[test]
fn a_page_that_asks_for_too_long_a_wait_is_postponed() {
    let patient = Arc::new(AtomicBool::new(false));
    let now = Arc::clone(&patient);
    let server = Server::start(move |request| match request.path.as_str() {
        "/robots.txt" => status(404),
        "/" => page("Home", &["/a/", "/b/"]),
        _ if now.load(Ordering::SeqCst) => page("Page", &[]),
        _ => CannedAnswer::Full(503, vec![header("Retry-After", "86400")], Vec::new()),
    });
    let site = site(&server, "connections = 1\n");
    site.run(&["survey"]).says(
        1,
        &["not all of it could be read", "asks for a pause of 86400 seconds", "the next run continues from there"],
    );
    patient.store(true, Ordering::SeqCst);
    assert_eq!(site.json(&["survey"])["sections"][0]["entries"], 3);
    assert_eq!(server.count("/"), 1, "what was fetched in this round is not fetched again");
}

#[test]
fn a_killed_crawl_resumes() {
    let server = Server::start(|request| match request.path.as_str() {
        "/robots.txt" => status(404),
        "/" => page(
            "Home",
            &(0..400).map(|n| format!("/p/{n}x/")).collect::<Vec<_>>().iter().map(String::as_str).collect::<Vec<_>>(),
        ),
        _ => page("Page", &[]),
    });
    let site = TestSite::at_url(&server.url(), "[[source]]\nfrom = \"crawl\"\nrequests_per_second = 25\n");
    let mut child = site.command(&["survey"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    std::thread::sleep(Duration::from_secs(7));
    child.kill().unwrap();
    child.wait().unwrap();
    let before = server.requests().len();
    assert!((100..300).contains(&before), "a rate is kept to: {before}");
    site.configure(CRAWL);
    let survey = site.json(&["survey"]);
    assert_eq!(survey["sections"][0]["entries"], 401);
    assert!(survey["sources"][0]["unchanged_files"].as_u64().unwrap() > 50, "{}", survey["sources"][0]);
    assert!(server.requests().len() < 402 + before, "not all over again");
}

#[test]
#[ignore = "needs nginx"]
fn a_folder_and_a_crawl_of_it_give_the_same_entries() {
    let port = free_port();
    let url = format!("http://127.0.0.1:{port}/");
    let folder = TestSite::at_url(&url, "[[source]]\nfrom = \"html\"\nfolder = \"public\"\n");
    let sample = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("sample/public");
    let copied = Command::new("cp").arg("-r").arg(sample.join(".")).arg(folder.path("public")).status().unwrap();
    assert!(copied.success());
    // The sample site has another address; and a page without links to it cannot be crawled.
    let replaced = Command::new("find")
        .arg(folder.path("public"))
        .args([
            "-name",
            "*.html",
            "-exec",
            "sed",
            "-i",
            &format!("s#https://www.marrowvale.example/#{url}#g"),
            "{}",
            "+",
        ])
        .status();
    assert!(replaced.unwrap().success());
    let unlinked: String = folder.json(&["survey"])["notices"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|notice| notice["code"] == "unlinked")
        .flat_map(|notice| notice["examples"].as_array().unwrap().clone())
        .map(|example| format!("<a href={}>on</a>", example["url"]))
        .collect();
    let home = folder.read("public/index.html").replace("</main>", &format!("{unlinked}</main>"));
    folder.write("public/index.html", home);
    let survey = folder.json(&["survey", "--list", "--sort", "url"]);
    let _nginx = Nginx::start(&folder.path("public"), port, "", "");
    let crawl = TestSite::at_url(&url, CRAWL);
    let crawled = crawl.json(&["survey", "--list", "--sort", "url"]);
    let kept = |list: &Value| -> Vec<Value> {
        let mut entries: Vec<Value> =
            list.as_array().unwrap().iter().filter(|entry| entry["section"].is_string()).cloned().collect();
        entries.iter_mut().for_each(|entry| entry["sources"] = Value::Null);
        entries
    };
    assert!(kept(&crawled).len() > 40, "{crawled:#}");
    let lines = |list: &Value| -> Vec<String> { kept(list).iter().map(ToString::to_string).collect() };
    let (folder, crawl) = (lines(&survey), lines(&crawled));
    for line in
        folder.iter().filter(|line| !crawl.contains(line)).chain(crawl.iter().filter(|line| !folder.contains(line)))
    {
        eprintln!("only in one: {line}");
    }
    assert!(folder == crawl);
}

/// All requests go through the proxies in the environment; an invalid one is named.
#[test]
fn proxies_of_the_environment() {
    let proxy = Server::start(|request| match request.path.as_str() {
        path if path.ends_with("/robots.txt") => status(404),
        path if path.starts_with("http://www.marrowvale.example/") => page("Home", &["/a/"]),
        _ => status(400),
    });
    let site =
        TestSite::at_url("http://www.marrowvale.example/", "[[source]]\nfrom = \"crawl\"\nrequests_per_second = 0\n");
    let survey =
        |variable: &str, value: &str| Ran::of(site.command(&["survey"]).env(variable, value).output().unwrap());
    survey("HTTP_PROXY", &proxy.url()).says(0, &["2 entries would be listed"]);
    survey("ALL_PROXY", "http://[").says(1, &["the environment variable ALL_PROXY is not the URL of a proxy"]);
}
