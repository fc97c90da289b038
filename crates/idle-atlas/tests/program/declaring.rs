//! robots.txt: the rules of a site are never lost, whether the file is in the web root or elsewhere.

use rstest::rstest;

use crate::server::{CannedAnswer, Server, page, status};
use crate::support::{HTML, ROOT, TestSite};

const LINE: &str = "Sitemap: https://www.marrowvale.example/sitemap.xml";

/// An HTML site whose configuration names a robots.txt that does not exist.
fn without_robots(keys: &str) -> TestSite {
    let site = TestSite::new("");
    let config = format!(
        "[site]\nurl = \"{ROOT}\"\nweb_root = \"public\"\n[robots]\nfile = \"public/robots.txt\"\n{keys}{HTML}"
    );
    site.write("idle-atlas.toml", config);
    site.page("index.html", "Home", "Tea");
    site
}

/// If none is configured, that is reported once, and whenever someone asks.
#[test]
fn the_line_to_add_is_shown_if_no_robots_txt_is_named() {
    let site = TestSite::new("");
    site.write("idle-atlas.toml", format!("[site]\nurl = \"{ROOT}\"\nweb_root = \"public\"\n{HTML}"));
    site.page("index.html", "Home", "Tea");
    for (command, told) in [("survey", true), ("build", true), ("build", false), ("survey", true)] {
        let ran = site.run(&[command]);
        ran.says(0, &[]);
        assert_eq!(
            ran.out.contains("names no robots.txt for the declaration") && ran.out.contains(LINE),
            told,
            "{}",
            ran.out
        );
    }
}

#[test]
fn robots_txt_is_not_created_without_consent() {
    let site = without_robots("");
    for command in ["survey", "build"] {
        site.run(&[command]).says(0, &["no robots.txt for the declaration", LINE, "create = true"]);
    }
    assert!(!site.path("public/robots.txt").exists());
    assert_eq!(site.json(&["build"])["robots"], "missing");
    // When it appears it gets the line, and keeps every other byte.
    site.write("public/robots.txt", "User-agent: *\nDisallow: /private/\n");
    let diff = "  --- robots.txt\n  +++ robots.txt\n  @@ -1,2 +1,4 @@\n   User-agent: *\n   Disallow: /private/\n  +\n";
    site.run(&["build", "--dry-run"]).says(0, &[diff, &format!("  +{LINE}\n")]);
    site.build();
    assert_eq!(site.read("public/robots.txt"), format!("User-agent: *\nDisallow: /private/\n\n{LINE}\n"));
}

#[test]
fn robots_txt_is_created_on_request_and_allows_everything() {
    let site = without_robots("create = true\n");
    assert_eq!(site.json(&["build", "--dry-run"])["robots"], "created");
    assert_eq!(site.build()["robots"], "created");
    assert_eq!(site.read("public/robots.txt"), format!("User-agent: *\nDisallow:\n\n{LINE}\n"));
}

#[test]
fn init_says_if_the_folder_has_no_robots_txt() {
    let site = TestSite::new("");
    site.page("index.html", "Home", "Tea");
    std::fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    site.run(&["init", "public", "--url", ROOT]).says(0, &["Wrote idle-atlas.toml"]);
    assert!(site.read("idle-atlas.toml").contains("\ncreate = true   # there is none yet"));
    std::fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    site.write("public/robots.txt", "User-agent: *\nDisallow:\n");
    site.run(&["init", "public", "--url", ROOT]).says(0, &["Wrote idle-atlas.toml"]);
    assert!(!site.read("idle-atlas.toml").contains("create"));
}

/// A site that is crawled, with this answer for its robots.txt.
fn crawled(robots: fn() -> CannedAnswer) -> (Server, TestSite) {
    let server = Server::start(move |request| match request.path.as_str() {
        "/robots.txt" => robots(),
        "/" => page("Home", &[]),
        _ => status(404),
    });
    let site = TestSite::new("");
    std::fs::create_dir(site.path("out")).unwrap();
    site.write(
        "idle-atlas.toml",
        format!(
            "[site]\nurl = \"{}\"\nweb_root = \"out\"\n[robots]\nfile = \"out/robots.txt\"\n[[source]]\nfrom = \"crawl\"\nrequests_per_second = 0\n",
            server.url()
        ),
    );
    (server, site)
}

const LIVE: &str = "# ours\r\nUser-agent: *\r\nDisallow: /private/\r\n";

#[test]
fn a_crawl_takes_over_the_rules_of_the_live_site() {
    let (server, site) =
        crawled(|| CannedAnswer::Full(200, vec![("Content-Type".into(), "text/plain".into())], LIVE.into()));
    assert_eq!(site.json(&["build"])["robots"], "taken-over");
    assert_eq!(site.read("out/robots.txt"), format!("{LIVE}\r\nSitemap: {}sitemap.xml\r\n", server.url()));
    assert_eq!(site.json(&["build"])["robots"], "unchanged");
    // Changes to the live file would be lost by copying this one over it, which is reported.
    site.write("out/robots.txt", site.read("out/robots.txt").replace("/private/", "/secret/"));
    site.run(&["build"]).says(0, &["have different rules", "would undo changes there"]);
    site.run(&["build", "--strict"]).says(1, &["1 remark"]);
    site.run(&["build", "--verbose"]).says(0, &["have different rules"]);
}

#[rstest]
#[case::none(|| status(404), Some("User-agent: *\nDisallow:\n\n"))]
#[case::gone(|| status(410), Some("User-agent: *\nDisallow:\n\n"))]
#[case::refused(|| status(403), None)]
fn a_crawl_creates_robots_txt_if_the_live_site_has_none(
    #[case] robots: fn() -> CannedAnswer,
    #[case] wanted: Option<&str>,
) {
    let (server, site) = crawled(robots);
    let built = site.json(&["build"]);
    let made = std::fs::read_to_string(site.path("out/robots.txt")).ok();
    let declared = wanted.map(|rules| format!("{rules}Sitemap: {}sitemap.xml\n", server.url()));
    assert_eq!(made, declared);
    assert_eq!(built["robots"], if wanted.is_some() { "created" } else { "missing" });
}

/// Everything that the tool wrote leaves the web root, and nothing else; the next build goes on where it left off.
#[test]
fn what_was_written_can_be_withdrawn() {
    let site = without_robots("");
    site.write("public/robots.txt", "User-agent: *\nDisallow: /private/\n");
    site.run(&["build", "--withdraw"]).says(0, &["There is nothing to withdraw"]);
    site.build();
    let before = site.outputs();
    site.spoil("atlas.css", "body { margin: 0 }");
    site.run(&["build", "--withdraw", "--dry-run"]).says(0, &["Would be withdrawn: 2 files of this tool, and 1 line"]);
    site.run(&["build", "--withdraw"]).says(3, &["− sitemap.xml", LINE, "--allow withdraw", "nothing was changed"]);
    assert_eq!(site.outputs(), before);
    let done = ["Withdrawn: 2 files", "Changed by somebody else, and left where they are: atlas.css"];
    site.run(&["build", "--withdraw", "--allow", "withdraw"]).says(0, &done);
    assert_eq!(site.read("public/robots.txt"), "User-agent: *\nDisallow: /private/\n\n");
    assert!(!site.path("public/sitemap.xml").exists() && site.path("public/index.html").exists());
    let again = site.json(&["build", "--allow", "overwrite"]);
    assert_eq!((&again["changes"]["added"]["count"], &again["robots"]), (&0.into(), &"declared".into()), "{again}");
    assert_eq!(site.outputs()["sitemap.xml"], before["sitemap.xml"]);
}

/// A renamed main file: its old address holds the same for some days, and the redirect to set is named.
#[test]
fn a_renamed_main_file_stands_for_some_days() {
    let mut site = without_robots("create = true\n");
    site.build();
    site.reconfigure("[robots]", "[files]\nmain = \"map.xml\"\nfolded_days = 10\n[robots]");
    site.run(&["build"]).says(3, &["would stand for 10 more days", "--allow new-main"]);
    let moved = [&format!("301 {ROOT}sitemap.xml to {ROOT}map.xml")[..], "its old address holds the same"];
    site.run(&["build", "--allow", "new-main"]).says(0, &moved);
    assert_eq!(site.read("public/sitemap.xml"), site.read("public/map.xml"));
    site.page("new.html", "New", "Text");
    site.at(crate::support::NOON + crate::support::DAY);
    site.build();
    assert!(site.read("public/sitemap.xml").contains("new.html"), "it follows");
    assert_eq!(site.read("public/sitemap.xml"), site.read("public/map.xml"));
    assert!(!site.read("public/robots.txt").contains("sitemap.xml"), "it is no longer declared");
    site.at(crate::support::NOON + 11 * crate::support::DAY);
    site.page("newer.html", "Newer", "Text");
    site.build();
    assert!(!site.path("public/sitemap.xml").exists());
}

/// What robots.txt shuts out by mistake, and lines in it that lead nowhere.
#[test]
fn robots_txt_is_looked_at() {
    let site = without_robots("");
    let config = site.read("idle-atlas.toml");
    site.write("idle-atlas.toml", config + "[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n");
    site.page("halts/weir.html", "Weir", "Text");
    let rest = "# oil\n".repeat(90_000);
    let robots = format!("User-agent: *\nDisallow: /halts/\nDisallow: /atlas-\n\nSitemap: {ROOT}old.xml\n{rest}");
    site.write("public/robots.txt", robots);
    site.write("public/halts/robots.txt", "User-agent: *\nDisallow: /\n");
    let remarks = site.json(&["survey"]);
    let codes: Vec<&str> =
        remarks["notices"].as_array().unwrap().iter().map(|one| one["code"].as_str().unwrap()).collect();
    for code in ["section-shut", "dead-sitemap-line", "robots-too-large"] {
        assert!(codes.contains(&code), "{code}: {codes:?}");
    }
    site.run(&["survey", "--verbose"]).says(0, &["halts", "line 2: Disallow: /halts/", "line 5"]);
    site.build();
    let checked = site.run(&["check", "public"]);
    checked.says(1, &["robots-too-large", "robots-elsewhere", "halts/robots.txt", "engines read", "file-missing"]);
}

/// A file whose every URL is shut out is an error.
#[test]
fn a_section_that_is_shut_out_is_found() {
    let site = without_robots("create = true\n");
    std::fs::remove_file(site.path("public/index.html")).unwrap();
    site.page("halts.html", "Halts", "All halts.");
    site.build();
    site.write("public/robots.txt", format!("User-agent: *\nDisallow: /*.html\n{LINE}\n"));
    site.run(&["check"]).says(1, &["error section-shut", "robots.txt shuts engines out of 1 URL"]);
}
