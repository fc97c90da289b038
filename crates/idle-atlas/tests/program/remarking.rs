//! Remarks, and the fixes that come with them.

use rstest::rstest;
use serde_json::Value;

use crate::support::{DAY, HTML, NOON, TestSite};

/// A remark of a survey, by its code: its count, and its examples as shown.
fn remark(site: &TestSite, code: &str) -> (u64, Vec<String>) {
    let survey = site.json(&["survey"]);
    let found = survey["notices"].as_array().unwrap().iter().find(|one| one["code"] == code).cloned();
    let Some(found) = found else { return (0, Vec::new()) };
    let text = |value: &Value| value.as_str().unwrap_or_default().replace("https://www.marrowvale.example", "");
    let examples = found["examples"].as_array().unwrap().iter();
    (
        found["count"].as_u64().unwrap(),
        examples.map(|one| format!("{} {}", text(&one["url"]), text(&one["detail"]))).collect(),
    )
}

fn page(site: &TestSite, name: &str, head: &str, body: &str) {
    site.write(
        &format!("public/{name}"),
        format!("<html><head><title>{name}</title>{head}</head><body><main>{name} {body}</main>"),
    );
}

#[test]
fn links_are_reported_with_their_right_target() {
    let site = TestSite::new(HTML);
    page(
        &site,
        "index.html",
        "",
        "<a href=http://marrowvale.example/a.html>A</a> <a href=/moved.html>M</a> <a href=/b.html>B</a>",
    );
    page(&site, "a.html", "", "<a href=/hidden.html>H</a>");
    page(&site, "b.html", "", "<a href=/>home</a>");
    page(&site, "moved.html", "<meta http-equiv=refresh content='0;url=/b.html'>", "");
    page(&site, "hidden.html", "<meta name=robots content=noindex>", "");
    let wanted = ["http://marrowvale.example/a.html linked from /; write /a.html".to_owned()];
    assert_eq!(remark(&site, "linked-misspelt"), (1, wanted.to_vec()));
    assert_eq!(
        remark(&site, "linked-redirect"),
        (1, vec!["/moved.html linked from /; leads on to /b.html".to_owned()])
    );
    assert_eq!(remark(&site, "linked-kept-out"), (1, vec!["/hidden.html linked from /a.html".to_owned()]));
    assert_eq!(
        (remark(&site, "unlinked").0, remark(&site, "linked-not-found").0),
        (0, 0),
        "a.html is linked all the same"
    );
}

#[test]
fn pages_with_alternating_hosts_are_reported() {
    let site = TestSite::new(HTML);
    for at in 0..7 {
        let host = if at < 4 { "www.marrowvale.example" } else { "marrowvale.example" };
        page(&site, &format!("p{at}.html"), &format!("<link rel=canonical href=https://{host}/p{at}.html>"), "");
    }
    let (count, examples) = remark(&site, "canonical-misspelt");
    assert_eq!((count, examples[0].as_str()), (3, "/p4.html names https://marrowvale.example/p4.html"));
    site.run(&["survey", "--verbose"]).says(0, &["let all pages name one scheme and host, or correct [site] url"]);
}

#[test]
fn a_rule_that_matches_nothing_is_reported() {
    let site = TestSite::new(&format!(
        "{HTML}[[rule]]\nmatching = [\"/staff/*\"]\nkeep = false\n[[rule]]\nmatching = [\"/halts/**\"]\nkeep = false\n"
    ));
    page(&site, "index.html", "", "");
    page(&site, "staff/rota/index.html", "", "");
    page(&site, "halts/weir.html", "", "");
    let survey = site.run(&["survey"]);
    survey.says(0, &["1  rule that no entry matches – line 12, matching /staff/*"]);
    assert!(!survey.out.contains("line 15"), "{}", survey.out);
}

#[test]
fn an_unknown_player_is_reported_with_the_lines_to_add() {
    let site = TestSite::new(HTML);
    let frame = "<iframe src='https://player.weirfilms.example/embed/77?autoplay=1' title='Down the bank'></iframe>";
    page(&site, "film.html", "<meta property=og:image content=/still.jpg>", &format!("{frame}<p>A short ride.</p>"));
    page(&site, "map.html", "", "<iframe src='https://maps.example/embed/7'></iframe>");
    let entry = "[[player]]\nurl = \"https://player.weirfilms.example/embed/{id}\"";
    assert_eq!(remark(&site, "unknown-player"), (1, vec![format!("/film.html {entry}")]));
    site.run(&["survey", "--verbose"]).says(0, &["      url = \"https://player.weirfilms.example/embed/{id}\""]);
    // Pasted as it is, the video is listed: under the title of its frame, with the paragraph although it is short.
    site.write("idle-atlas.toml", site.read("idle-atlas.toml") + entry + "\n");
    assert_eq!(remark(&site, "unknown-player").0, 0);
    site.build();
    let listed = site.listed();
    let video = listed["sitemap.xml"].iter().find_map(|url| url.videos.first()).unwrap();
    assert_eq!((video.title.as_deref(), video.description.as_deref()), (Some("Down the bank"), Some("A short ride.")));
}

#[test]
fn entries_known_only_to_an_old_sitemap_are_reported() {
    let site = TestSite::new(&format!(
        "{HTML}[[source]]\nfrom = \"sitemap\"\nfile = \"old.txt\"\npages = \"may-be-elsewhere\"\n"
    ));
    page(&site, "index.html", "", "");
    site.write("old.txt", "https://www.marrowvale.example/\nhttps://www.marrowvale.example/gone/\n");
    assert_eq!(remark(&site, "only-old-sitemap"), (1, vec!["/gone/ ".to_owned()]));
}

#[test]
fn the_order_of_parameters_does_not_matter() {
    let server = crate::server::Server::start(|request| match request.path.as_str() {
        "/" => crate::server::CannedAnswer::Html(
            "<title>Home</title><a href='/l?a=1&b=2'>1</a><a href='/l?b=2&a=1'>2</a>".into(),
        ),
        "/robots.txt" => crate::server::status(404),
        _ => crate::server::CannedAnswer::Html("<title>List</title><p>The same list.".into()),
    });
    let site = TestSite::at_url(&server.url(), "[[source]]\nfrom = \"crawl\"\nrequests_per_second = 0\n");
    let (count, examples) = remark(&site, "same-parameters");
    assert_eq!(count, 1, "{examples:?}");
    assert!(examples[0].contains("/l?b=2&a=1 repeats ") && examples[0].ends_with("/l?a=1&b=2"), "{examples:?}");
}

#[cfg(feature = "markdown")]
#[test]
fn articles_alone_do_not_know_the_pages_that_list_them() {
    let site = TestSite::new("[[source]]\nfrom = \"markdown\"\nfolder = \"articles\"\n");
    site.write("articles/frost.md", "---\ntitle: Frost\n---\nSee the [list](/journal/) and [thaw](/thaw/).\n");
    site.write("articles/thaw.md", "---\ntitle: Thaw\n---\nNothing else.\n");
    assert_eq!((remark(&site, "unlinked").0, remark(&site, "linked-not-found").0), (0, 0));
    site.write("articles/broken.md", "---\ntitle: A\nfoo: bar: baz\n---\nText.\n");
    let survey = site.run(&["survey"]);
    survey.says(1, &["1 row or file could not be read, and is not listed", "broken YAML in line 3: mapping"]);
    assert_eq!(survey.out.matches("line ").count(), 1, "one position: {}", survey.out);
}

#[test]
fn sitemaps_of_others_in_robots_txt_are_named_with_their_lines() {
    let site = TestSite::new(HTML);
    page(&site, "index.html", "", "");
    site.write("public/robots.txt", "User-agent: *\nDisallow:\nSitemap: https://www.marrowvale.example/shop.xml\n");
    let told = "  line 3: Sitemap: https://www.marrowvale.example/shop.xml";
    site.run(&["survey"]).says(0, &["robots.txt declares sitemaps of others; remove a line", told]);
    site.run(&["build"]).says(0, &[told]);
    site.run(&["build"]).says(0, &["1 remark"]);
    assert_eq!(site.json(&["survey"])["other_sitemaps"][0]["line"], 3);
}

#[rstest]
#[case::slash("/fares", "/fares/  (with a slash at the end)")]
#[case::scheme_and_host("http://marrowvale.example/fares/", "/fares/  (with https, on www.marrowvale.example)")]
#[case::case("/Fares/", "/fares/  (with different capitals)")]
#[case::typo("/fairs/", "https://www.marrowvale.example/fares/\n")]
fn an_unknown_url_is_answered_with_the_nearest(#[case] asked: &str, #[case] wanted: &str) {
    let site = TestSite::new(HTML);
    page(&site, "fares/index.html", "", "");
    page(&site, "timetable/index.html", "", "");
    let why = site.run(&["why", "--fresh", asked]);
    why.says(1, &["No source knows this URL.", "A similar URL:", wanted]);
    assert!(!why.out.contains("timetable"), "{}", why.out);
}

#[test]
fn a_site_in_a_folder_does_not_take_its_own_robots_txt_for_that_of_the_host() {
    let site = TestSite::at_url("https://www.marrowvale.example/rail/", HTML);
    page(&site, "index.html", "", "");
    site.write("public/robots.txt", "User-agent: *\nDisallow: /rail/\n");
    site.run(&["survey"]).says(2, &["“file”: engines read https://www.marrowvale.example/robots.txt alone"]);
    site.reconfigure("[robots]\nfile = \"public/robots.txt\"\ncreate = true\n", "");
    site.run(&["build"]).says(0, &["1 entry in 1 sitemap file"]);
    site.run(&["check"]).says(0, &["out-of-reach", "is not below this web root, so it was not checked"]);
}

#[test]
fn a_folder_without_a_configuration_is_checked_on_its_own_terms() {
    let site = TestSite::new(HTML);
    page(&site, "index.html", "", "");
    site.build();
    std::fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    site.run(&["check", "public"]).says(0, &["Read 1 sitemap file with 1 entry", "Nothing is wrong"]);
    std::fs::remove_file(site.path("public/robots.txt")).unwrap();
    site.run(&["check", "public"]).says(0, &["Read 1 sitemap file", "robots-missing"]);
    std::fs::remove_file(site.path("public/sitemap.xml")).unwrap();
    site.run(&["check", "public"]).says(0, &["sitemap.xml.gz", "robots-missing"]);
    std::fs::remove_file(site.path("public/sitemap.xml.gz")).unwrap();
    site.run(&["check", "public"]).says(2, &["there is no sitemap in public"]);
    site.run(&["check", "nowhere"]).says(2, &["there is no folder or file nowhere"]);
}

#[test]
fn a_sitemap_on_another_host_cannot_be_checked() {
    let site = TestSite::new(HTML);
    page(&site, "index.html", "", "");
    site.write("public/robots.txt", "Sitemap: https://sitemaps.marrowvale.example/all.xml\n");
    site.build();
    let check = site.run(&["check"]);
    check.says(0, &["https://sitemaps.marrowvale.example/all.xml", "not below this web root, so it was not checked"]);
}

#[test]
fn media_of_other_hosts_can_be_kept_out() {
    let body = "<img src=/own.jpg><img src=https://pictures.example/a.jpg><img src=https://cdn.weir.example/b.jpg>";
    let images = |config: &str| {
        let site = TestSite::new(&format!("{HTML}{config}"));
        page(&site, "halts/index.html", "", body);
        site.build();
        site.listed().into_values().flatten().map(|url| url.images.len()).sum::<usize>()
    };
    assert_eq!(images(""), 3);
    assert_eq!(images("[images]\nhosts = \"own\"\n"), 1);
    assert_eq!(images("[images]\nhosts = [\"own\", \"*.weir.example\"]\n"), 2);
    assert_eq!(
        images(
            "[images]\nhosts = \"own\"\n[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\nimage_hosts = \"all\"\n"
        ),
        3
    );
    TestSite::new(&format!("{HTML}[images]\nhosts = \"ours\"\n"))
        .run(&["survey"])
        .says(2, &["“hosts”: expected \"all\", \"own\" or a list"]);
}

#[test]
fn slugs_of_archives_can_be_plain_ascii() {
    let archive = "[[archive]]\nby = \"category\"\nurl = \"/about/{slug}/\"\nassume_page = true\nslugs = \"ascii\"\n";
    let site = TestSite::new(&format!("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n{archive}"));
    site.write("t.csv", "url,category,modified\n/a/,Brân Fach,2026-05-01\n");
    site.build();
    assert!(site.paths().contains("/about/bran-fach/"), "{:?}", site.paths());
    site.run(&["why", "--fresh", "/about/bran-fach/"]).says(0, &["lastmod     2026-05-01 (derived from its entries)"]);
}

/// A page whose template includes our file carries it from the next build on. It is not the page's own, and the file
/// stays.
#[test]
fn adopted_structured_data_does_not_flap() {
    let site = TestSite::new(&format!("{HTML}[structured_data]\nfolder = \"data\"\n"));
    let film = |more: &str| {
        page(
            &site,
            "film.html",
            &format!(
                "<meta property=og:image content=/still.jpg><meta name=description content='A ride down the bank.'><meta property=article:published_time content=2026-05-01>{more}"
            ),
            "<video src=/film.webm title='Down the bank'></video>",
        );
    };
    film("");
    site.build();
    let ours = site.read("data/film.html.json");
    assert!(ours.contains("Down the bank"), "{ours}");
    for round in 0..3 {
        film(&format!("<script type=application/ld+json>{ours}</script>"));
        let built = site.build();
        assert_eq!(built["removed"], serde_json::json!([]), "{built}");
        // Now the page says when the video was uploaded, and so does the sitemap: once.
        assert_eq!(built["written"].as_array().unwrap().is_empty(), round > 0, "{built}");
        assert_eq!(site.read("data/film.html.json"), ours);
    }
    // Structured data of its own is another matter.
    film(
        "<script type=application/ld+json>{\"@type\":\"VideoObject\",\"name\":\"Other\",\"contentUrl\":\"/film.webm\",\"uploadDate\":\"2026-05-01\"}</script>",
    );
    site.build();
    assert!(!site.path("data/film.html.json").exists());
}

#[test]
fn equal_instants_and_titles_are_no_disagreement() {
    let site = TestSite::new(&format!("{HTML}[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n"));
    for name in ["a", "b", "c", "d"] {
        site.write(
            &format!("public/{name}.html"),
            format!("<title>Halt {name} | Marrow Vale</title><meta property=article:modified_time content=2026-07-01T01:38:00+01:00><main>{name}</main>"),
        );
    }
    site.write(
        "t.csv",
        "url,title,modified\n/a.html,Halt a,2026-07-01T00:38:00Z\n/b.html,Halt b,2026-07-01T00:39:00Z\n",
    );
    let survey = site.json(&["survey"]);
    let odds = survey["notices"].as_array().unwrap().iter().filter(|one| one["code"] == "at-odds");
    let odds: Vec<&str> = odds.map(|one| one["about"].as_str().unwrap()).collect();
    assert_eq!(odds, ["modified, between html public and table t.csv"]);
    let list = site.json(&["survey", "--list", "--section", "pages"]);
    assert_eq!(list[0]["title"], "Halt a", "without the name of the site");
}

#[test]
fn dry_run_lists_changes_to_announce() {
    let site = TestSite::new(HTML);
    (0..14).for_each(|at| page(&site, &format!("p{at:02}.html"), "", "x"));
    site.build();
    (0..3).for_each(|at| page(&site, &format!("p{at:02}.html"), "", "edited"));
    page(&site, "new.html", "", "x");
    site.run(&["build", "--dry-run", "-v"]).says(
        0,
        &[
            "3 URLs would be announced as changed",
            "~ https://www.marrowvale.example/p02.html",
            "+ https://www.marrowvale.example/new.html",
        ],
    );
    assert_eq!(site.json(&["build", "--dry-run"])["edited"].as_array().unwrap().len(), 3);
    let built = site.run(&["build", "--verbose"]);
    built.says(0, &["~ https://www.marrowvale.example/p02.html"]);
    assert!(!built.out.contains("more"), "{}", built.out);
}

#[test]
fn an_archive_is_as_new_as_the_last_change_seen_in_it() {
    let archive = "[[archive]]\nby = \"category\"\nurl = \"/about/{slug}/\"\nassume_page = true\n";
    let mut site = TestSite::new(&format!("{HTML}{archive}"));
    let filed = |site: &TestSite, name: &str, text: &str| {
        page(site, name, "<meta property=article:section content=Weather>", text);
    };
    filed(&site, "frost.html", "Ice");
    filed(&site, "thaw.html", "Water");
    site.build();
    assert_eq!(site.lastmod("/about/weather/"), None);
    site.at(NOON + DAY);
    filed(&site, "frost.html", "Ice, and more ice");
    site.build();
    assert_eq!(site.lastmod("/frost.html").as_deref(), Some("2026-11-24"));
    assert_eq!(site.lastmod("/about/weather/").as_deref(), Some("2026-11-24"));
    // What was seen then stands from now on, and nothing is rewritten because of it.
    site.at(NOON + 3 * DAY);
    assert_eq!(site.build()["written"], serde_json::json!([]));
    site.run(&["why", "--fresh", "/about/weather/"]).says(0, &["lastmod     2026-11-24 (derived from its entries)"]);
}
