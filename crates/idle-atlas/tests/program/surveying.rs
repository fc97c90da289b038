//! The commands `survey`, `why`, `init` and `history`.

use rstest::rstest;

use crate::support::{HTML, TestSite};

/// One page for each reason to be left out.
fn yard() -> TestSite {
    let site = TestSite::new(&format!(
        "crawlers = [\"LampBot\"]\n{HTML}[[source]]\nfrom = \"table\"\nfile = \"more.csv\"\npages = \"may-be-elsewhere\"\n[[rule]]\nmatching = [\"/staff/**\"]\nkeep = false\n"
    ));
    let head = |name: &str, head: &str| {
        site.write(
            &format!("public/{name}"),
            format!("<html><head><title>T</title>{head}</head><body><main>{name}</main>"),
        );
    };
    head("index.html", "");
    head("noindex.html", "<meta name=robots content=noindex>");
    head("moved.html", "<meta http-equiv=refresh content='0;url=/'>");
    head("print.html", "<link rel=canonical href=/index.html>");
    head("404.html", "");
    head("own.html", "<meta name=idle-atlas content='keep=no'>");
    head("staff/rota.html", "");
    head("barred/x.html", "");
    head("lamps/x.html", "");
    head("gala.html", "<meta property=article:published_time content=2027-03-01>");
    site.write("public/robots.txt", "User-agent: *\nDisallow: /barred/\n\nUser-agent: lampbot\nDisallow: /lamps/\n");
    let long = format!("https://www.marrowvale.example/{}", "x".repeat(2100));
    site.write(
        "more.csv",
        format!("url,title\nhttps://marrowvale.example/,Other host\n{long},Long\n/sitemap.xml,Own file\n/atlas-pages-1.xml.gz,Own file\n/table/,One\n/table/,Again\n"),
    );
    site
}

#[test]
fn every_reason_is_counted_with_an_example() {
    let site = yard();
    let survey = site.json(&["survey"]);
    let left_out = survey["left_out"].as_array().unwrap();
    let counts: Vec<(&str, u64)> =
        left_out.iter().map(|one| (one["reason"].as_str().unwrap(), one["count"].as_u64().unwrap())).collect();
    let wanted = [
        ("other-host", 1),
        ("too-long", 1),
        ("own-file", 2),
        ("noindex", 1),
        ("redirect", 1),
        ("canonical-elsewhere", 1),
        ("own-word", 1),
        ("rule", 1),
        ("error-page", 1),
        ("disallowed", 2),
        ("scheduled", 1),
        ("duplicate", 1),
    ];
    assert_eq!(counts, wanted);
    assert!(left_out.iter().all(|one| !one["examples"].as_array().unwrap().is_empty()));
    assert_eq!(survey["sections"][0]["entries"], 2);
    assert!(!site.path("public/sitemap.xml").exists(), "a survey writes no site file");
    site.run(&["survey"])
        .says(0, &["2 entries would be listed", "14 left out", "page says noindex", "idle-atlas why URL"]);
}

#[rstest]
#[case("/", 0, &["listed", "in section pages", "http"])]
#[case("/noindex.html", 0, &["left out: noindex", "<meta name=\"robots\" content=\"noindex\">"])]
#[case("/staff/rota.html", 0, &["left out: rule", "matching /staff/**: keep = false"])]
#[case("/barred/x.html", 0, &["left out: disallowed", "line 2: Disallow: /barred/ (for *)"])]
#[case("/lamps/x.html", 0, &["left out: disallowed", "(for lampbot)"])]
#[case("/table/", 0, &["listed", "From table more.csv", "title           Again"])]
#[case("/nowhere/", 1, &["No source knows this URL"])]
fn why_shows_each_step(#[case] path: &str, #[case] code: i32, #[case] words: &[&str]) {
    yard().run(&["why", "--fresh", path]).says(code, words);
}

#[test]
fn why_knows_file_and_dates_after_a_build() {
    let site = yard();
    site.build();
    let why = site.json(&["why", "--fresh", "https://www.marrowvale.example/table/"]);
    assert_eq!(why["file"], "https://www.marrowvale.example/sitemap.xml");
    assert_eq!(why["decision"]["kept"], true);
    assert_eq!(why["changed_in_run"], 1);
    site.run(&["why", "--fresh", "/table/"])
        .says(0, &["no date is declared, and no change to its content has been seen"]);
}

#[test]
fn a_second_survey_reads_no_untouched_file() {
    let site = TestSite::new(HTML);
    for number in 0..9 {
        site.page(&format!("p{number}.html"), "Page", &number.to_string());
        let file = std::fs::File::options().append(true).open(site.path(&format!("public/p{number}.html"))).unwrap();
        file.set_modified(std::time::SystemTime::now() - std::time::Duration::from_secs(60)).unwrap();
    }
    assert_eq!(site.json(&["survey"])["sources"][0]["unchanged_files"], 0);
    assert_eq!(site.json(&["survey"])["sources"][0]["unchanged_files"], 9);
    let above = site
        .command(&["survey", "--json", "--config"])
        .arg(site.path("idle-atlas.toml"))
        .current_dir("/")
        .output()
        .unwrap();
    let above: serde_json::Value = serde_json::from_slice(&above.stdout).unwrap();
    assert_eq!(above["sources"][0]["unchanged_files"], 9, "wherever it is run from");
    assert_eq!(site.json(&["survey", "--fresh"])["sources"][0]["unchanged_files"], 0);
    site.configure(&format!("{HTML}drop_html = true\n"));
    assert_eq!(site.json(&["survey"])["sources"][0]["unchanged_files"], 0, "other settings, other URLs");
    site.build();
    assert!(site.paths().contains("/p0"));
}

#[test]
fn sources_that_know_the_same_url_are_merged() {
    let site = TestSite::new(&format!(
        "{HTML}[[source]]\nfrom = \"table\"\nfile = \"lamps.jsonl\"\npages = \"may-be-elsewhere\"\nsection = \"lamps\"\nfields = {{ url = \"/lamps/{{slug}}/\", modified = \"seen\", images = \"plates\" }}\n"
    ));
    site.page("lamps/brass/index.html", "Brass lamp", "x");
    site.write(
        "lamps.jsonl",
        "{\"slug\": \"brass\", \"seen\": \"2026-02-03\", \"title\": \"brass\", \"plates\": [\"/a.svg\", \"/b.svg\"]}\n\n{\"slug\": \"oil lamp\"}\n",
    );
    site.build();
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), ["/lamps/brass/", "/lamps/oil%20lamp/"]);
    assert_eq!(site.lastmod("/lamps/brass/").as_deref(), Some("2026-02-03"));
    let listed = site.listed();
    let (name, urls) = listed.iter().next().unwrap();
    assert_eq!((name.as_str(), urls[0].images.len()), ("sitemap.xml", 2));
    let why = site.json(&["why", "--fresh", "/lamps/brass/"]);
    assert_eq!(why["sources"].as_array().unwrap().len(), 2);
    assert_eq!(why["decision"]["section"], "lamps");
}

#[rstest]
#[case::csv("t.csv", "Adres,Wann,Bilder\n/a/,04/07/2026 09:00,/x.svg;/y.svg\n")]
#[case::tsv("t.tsv", "Adres\tWann\tBilder\n/a/\t04/07/2026 09:00\t/x.svg;/y.svg\n")]
#[case::bom_and_quotes(
    "t.csv",
    "\u{feff}\"Adres\",\"Wann\",\"Bilder\"\r\n\"/a/\",\"04/07/2026 09:00\",\"/x.svg; /y.svg\"\r\n"
)]
fn tables_by_mapping(#[case] name: &str, #[case] table: &str) {
    let site = TestSite::new(&format!(
        "[[source]]\nfrom = \"table\"\nfile = \"{name}\"\ndates = \"%d/%m/%Y %H:%M\"\nlists = \";\"\nfields = {{ url = \"Adres\", modified = \"Wann\", images = \"Bilder\" }}\n"
    ));
    site.write(name, table);
    site.build();
    assert_eq!(site.lastmod("/a/").as_deref(), Some("2026-07-04T09:00:00+01:00"));
    assert_eq!(site.listed()["sitemap.xml"][0].images.len(), 2);
}

#[test]
fn init_writes_a_working_configuration() {
    let site = TestSite::new("");
    std::fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    for number in 0..12 {
        let path = if number == 0 { String::new() } else { format!("journal/n{number}") };
        let file = if number == 0 { "index.html".to_owned() } else { format!("{path}.html") };
        site.write(
            &format!("public/{file}"),
            format!("<link rel=canonical href='https://www.marrowvale.example/{path}'><main>{number}"),
        );
    }
    site.run(&["init", "public"])
        .says(0, &["Wrote idle-atlas.toml", "https://www.marrowvale.example/", "journal 11", "without .html"]);
    site.run(&["survey"]).says(0, &["12 entries would be listed"]);
    site.run(&["build"]).says(0, &["Run 1: 12 entries in 2 sitemap files"]);
    assert!(site.paths().contains("/journal/n4"));
    site.run(&["init", "public"]).says(2, &["there is a idle-atlas.toml already"]);
}

#[test]
fn init_says_what_it_needs_and_never_writes_into_the_web_root() {
    let site = TestSite::new("");
    std::fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    site.run(&["init", "nowhere"]).says(2, &["there is no folder nowhere"]);
    site.run(&["init", "public"]).says(2, &["there is no page (.html) in public"]);
    site.page("index.html", "Home", "x");
    site.run(&["init", "public"]).says(2, &["nothing here states the site's URL", "--url"]);
    let inside = site
        .command(&["init", ".", "--url", "https://www.marrowvale.example/"])
        .current_dir(site.path("public"))
        .output();
    crate::support::Ran::of(inside.unwrap()).says(2, &["where visitors could read it", "idle-atlas init public"]);
    assert!(!site.path("public/idle-atlas.toml").exists());
    site.page("a.html", "A", "x");
    site.write("public/b.html", "<link rel=canonical href=https://elsewhere.example/b.html>");
    site.run(&["init", "public", "--url", "https://www.marrowvale.example"])
        .says(0, &["as given", "name another site"]);
    site.run(&["build"]).says(0, &["3 entries"]);
}

#[test]
fn history_lists_runs_newest_first() {
    let site = TestSite::new(HTML);
    site.run(&["history"]).says(2, &["nothing has been built yet"]);
    site.page("a.html", "A", "one");
    site.build();
    site.page("a.html", "A", "two");
    site.page("b.html", "B", "new");
    site.build();
    let past = site.json(&["history"]);
    let runs: Vec<_> = past["runs"].as_array().unwrap().iter().map(|run| run["run"].as_i64().unwrap()).collect();
    assert_eq!(runs, [2, 1]);
    assert_eq!(past["runs"][0]["added"], 1);
    site.run(&["history"]).says(0, &["Runs", "Announcements", "none yet"]);
    site.run(&["history", "2"]).says(0, &["Run 2", "Changed", "https://www.marrowvale.example/a.html"]);
    site.run(&["history", "9"]).says(2, &["there is no run 9"]);
    std::fs::remove_file(site.path("public/b.html")).unwrap();
    site.write("public/a.html", "<meta name=robots content=noindex><title>A</title>");
    (0..12).for_each(|nth| site.page(&format!("c{nth:02}.html"), "C", &format!("page {nth}")));
    site.run(&["build", "--allow", "shrink"]).says(0, &["12 added"]);
    let run = site.json(&["history", "3"]);
    assert_eq!(run["urls"]["added"].as_array().unwrap().len(), 12);
    assert_eq!(run["urls"]["removed"], serde_json::json!(["https://www.marrowvale.example/b.html"]));
    assert_eq!(run["urls"]["left_out"], serde_json::json!(["https://www.marrowvale.example/a.html"]));
    site.run(&["history", "3"]).says(0, &["Removed\n", "Left out from now on\n", "c09.html", "and 2 more: --verbose"]);
    site.run(&["history", "3", "--verbose"]).says(0, &["c11.html"]);
    site.run(&["why", "/b.html"]).says(1, &["left section pages in run 3", "title       B\n"]);
    assert!(site.json(&["history", "1"])["urls"]["added"].as_array().unwrap().is_empty(), "the baseline");
}

#[rstest]
#[case("never", false)]
#[case("always", true)]
fn colour_only_adds(#[case] when: &str, #[case] wanted: bool) {
    let site = yard();
    let ran = site.run(&["survey", "--color", when]);
    assert_eq!(ran.out.contains("\u{1b}["), wanted);
    let plain = site.command(&["survey", "--color", "auto"]).env("NO_COLOR", "1").output().unwrap();
    assert!(!String::from_utf8(plain.stdout).unwrap().contains("\u{1b}["));
}

#[test]
fn a_closed_pipe_is_no_error() {
    let site = yard();
    let mut child = site
        .command(&["survey"])
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert!(output.status.code().is_some_and(|code| code <= 1));
    assert_eq!(String::from_utf8(output.stderr).unwrap(), "");
}

#[test]
fn quiet_prints_nothing() {
    let ran = yard().run(&["build", "--quiet"]);
    assert_eq!((ran.code, ran.out.as_str(), ran.errors.as_str()), (0, "", ""));
}
