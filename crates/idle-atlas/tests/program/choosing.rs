//! Rules, sections, hints, archives, time, news, alternates, own files.

use rstest::rstest;

use crate::support::{DAY, HTML, NOON, TestSite};

const TABLE: &str = "[[source]]\nfrom = \"table\"\nfile = \"depot.csv\"\nsection = \"depot\"\n";

/// A few entries that differ in everything that a rule can check.
fn depot(choices: &str) -> TestSite {
    let site = TestSite::new(&format!("{TABLE}{choices}"));
    site.write(
        "depot.csv",
        "url,id,slug,kind,category,tags,author,title,published,images\n\
         /lamps/,1,lamps,list,,,,Lamps,2026-11-01,\n\
         /lamps/brass/,2,brass,lamp,Oil Lamps,old|rare,Mabel Rook,A brass lamp,2026-11-20,/brass.svg\n\
         /lamps/tin/,3,tin,lamp,Oil Lamps,old,Ifor Reed,A tin lamp,2020-01-01,\n\
         /tools/deep/down/spanner/,4,spanner,tool,Tools,,Mabel Rook,A spanner,2026-10-01,/s.svg|/t.svg\n",
    );
    site.write("private.txt", "\u{feff}# not for all\n/lamps/tin/\n\n4\n");
    site
}

fn paths(site: &TestSite) -> Vec<String> {
    site.build();
    site.paths().into_iter().collect()
}

const ALL: [&str; 4] = ["/lamps/", "/lamps/brass/", "/lamps/tin/", "/tools/deep/down/spanner/"];

#[rstest]
#[case::path("matching = [\"/lamps/*/\"]", &[1, 2])]
#[case::section("in_section = [\"depot\"]", &[0, 1, 2, 3])]
#[case::source("source = [\"depot.csv\"]\nid = [\"1\"]", &[0])]
#[case::kind("kind = [\"tool\", \"list\"]", &[0, 3])]
#[case::id("id = [\"2\"]", &[1])]
#[case::slug("slug = [\"tin\"]", &[2])]
#[case::category("category = [\"oil lamps\"]", &[1, 2])]
#[case::tag("tag = [\"rare\"]", &[1])]
#[case::author("author = [\"mabel-rook\"]", &[1, 3])]
#[case::title("title_pattern = \"^A (brass|tin)\"", &[1, 2])]
#[case::url("url_pattern = \"/deep/\"", &[3])]
#[case::listed("listed_in = \"private.txt\"", &[2, 3])]
#[case::old("older_than_days = 1000", &[2])]
#[case::new("newer_than_days = 10", &[1])]
#[case::deep("least_depth = 3", &[3])]
#[case::shallow("most_depth = 1", &[0])]
#[case::with_images("with_images = true", &[1, 3])]
#[case::without_videos("with_videos = false\nmost_depth = 1", &[0])]
#[case::all_must_hold("kind = [\"lamp\"]\nwith_images = true", &[1])]
fn each_form_of_rule_leaves_out_what_it_matches(#[case] condition: &str, #[case] gone: &[usize]) {
    let site = depot(&format!("[[rule]]\n{condition}\nkeep = false\n[[rule]]\nid = [\"none\"]\nkeep = true\n"));
    let left: Vec<&str> = ALL.iter().enumerate().filter(|(at, _)| !gone.contains(at)).map(|(_, path)| *path).collect();
    if left.is_empty() {
        site.run(&["build"]).says(3, &["nothing would be left"]);
    } else {
        assert_eq!(paths(&site), left);
    }
}

#[test]
fn the_last_rule_wins_for_each_setting_and_the_row_overrides_it() {
    let site = depot(
        "[[rule]]\nmatching = [\"/**\"]\nkeep = false\npriority = 0.2\nchangefreq = \"yearly\"\n\
         [[rule]]\nkind = [\"lamp\"]\nkeep = true\npriority = 0.9\nsection = \"lamps\"\n",
    );
    site.write(
        "own.csv",
        "url,keep,section,priority,date_policy,modified\n/tools/deep/down/spanner/,yes,own,0.4,none,2026-01-01\n",
    );
    let text = site.read("idle-atlas.toml");
    let own = "[[source]]\nfrom = \"table\"\nfile = \"own.csv\"\n[[section]]\nname = \"own\"\n";
    site.write("idle-atlas.toml", format!("{text}{own}"));
    site.build();
    let listed = site.listed();
    let names: Vec<&str> = listed.keys().map(String::as_str).collect();
    assert_eq!(names, ["atlas-lamps-1.xml", "atlas-own-1.xml"]);
    let own = &listed["atlas-own-1.xml"][0];
    assert_eq!((own.priority.as_deref(), own.lastmod.as_deref()), (Some("0.4"), None));
    let lamp = &listed["atlas-lamps-1.xml"][0];
    assert_eq!((lamp.priority.as_deref(), lamp.changefreq.as_deref()), (Some("0.9"), Some("yearly")));
    site.run(&["why", "--fresh", "/lamps/tin/"]).says(
        0,
        &[
            "matching /**: keep = false, priority = 0.2, changefreq = yearly",
            "kind lamp: keep = true, section = lamps, priority = 0.9",
            "yes, by the rule in line",
            "0.9, by the rule in line",
            "yearly, by the rule in line",
        ],
    );
    site.run(&["why", "--fresh", "/tools/deep/down/spanner/"]).says(
        0,
        &[
            "keep",
            "yes, by its own setting",
            "own, by its own setting",
            "none, by its own setting",
            "no date is written: date_policy",
        ],
    );
}

#[test]
fn a_page_decides_in_its_head() {
    let site = TestSite::new(&format!(
        "{HTML}[[section]]\nname = \"halts\"\n[[rule]]\nmatching = [\"/**\"]\npriority = 0.1\n"
    ));
    site.page("index.html", "Home", "Tea");
    let head = "<meta name=idle-atlas content=\"section=halts, priority=0.7, changefreq=weekly\">";
    site.write("public/weir.html", format!("<html><head>{head}<title>Weir</title></head><body>Weir"));
    site.write("public/shed.html", "<html><head><meta name=idle-atlas content='keep=no'></head><body>Shed");
    site.build();
    let weir = &site.listed()["atlas-halts-1.xml"][0];
    assert_eq!((weir.priority.as_deref(), weir.changefreq.as_deref()), (Some("0.7"), Some("weekly")));
    site.run(&["why", "--fresh", "/shed.html"]).says(0, &["own-word", "no, by its own setting"]);
    site.reconfigure("[[section]]\nname = \"halts\"\n", "");
    site.run(&["survey", "--verbose"]).says(0, &["entry that names an unknown section", "/weir.html (“halts”)"]);
}

#[rstest]
#[case::nothing_fits("matching = [\"/journal/*.txt\"]", true)]
#[case::some_fits("matching = [\"/journal/**\"]", false)]
#[case::shut("matching = [\"/journal/*.txt\"]\non = false", false)]
#[case::for_a_source("", false)]
fn a_section_that_matches_nothing_is_reported(#[case] section: &str, #[case] told: bool) {
    let site = TestSite::new(&format!(
        "[[source]]\nfrom = \"table\"\n\
         file = \"rows.csv\"\n[[section]]\nname = \"journal\"\n{section}\n"
    ));
    site.write("rows.csv", "url\n/journal/frost/\n/fares/\n");
    let ran = site.run(&["survey"]);
    ran.says(0, &["2 entries would be listed"]);
    assert_eq!(ran.out.contains("section without entries – journal"), told, "{}", ran.out);
}

#[rstest]
#[case::unknown_section(
    "[[rule]]\nin_section = [\"yard\"]\nkeep = false",
    "there is no section “yard”; there are depot, pages"
)]
#[case::unknown_source(
    "[[rule]]\nsource = [\"crawl\"]\nkeep = false",
    "there is no source whose name contains “crawl”"
)]
#[case::broken_pattern("[[rule]]\ntitle_pattern = \"(\"\nkeep = false", "is not a regular expression: unclosed group")]
#[case::no_list("[[rule]]\nlisted_in = \"lost.txt\"\nkeep = false", "cannot read lost.txt")]
#[case::broken_list("[[rule]]\nlisted_in = \"broken.txt\"\nkeep = false", "broken.txt line 2: “http://”")]
#[case::for_nothing("[[rule]]\nkeep = false", "has no conditions")]
#[case::sets_nothing("[[rule]]\nid = [\"1\"]", "sets nothing; expected keep, section, priority")]
#[case::covers(
    "[[rule]]\nid = [\"1\"]\ncovers = \"entries\"\nkeep = false",
    "“covers” has no effect without category, tag or author"
)]
#[case::days("[[rule]]\nolder_than_days = -1\nkeep = false", "expected a number from 0 to 36500")]
#[case::priority(
    "[[section]]\nname = \"depot\"\npriority = \"by-share\"",
    "expected a number from 0.0 to 1.0 or \"by-depth\""
)]
#[case::archive(
    "[[archive]]\nby = \"mood\"\nurl = \"/{slug}/\"",
    "“mood” is unknown; expected one of category, tag, author"
)]
#[case::archive_url("[[archive]]\nby = \"month\"\nurl = \"/{slug}/\"", "expected a path with {year} or {month} in it")]
#[case::archives(
    "[[archive]]\nby = \"tag\"\nurl = \"/{slug}/\"\n[[archive]]\nby = \"tag\"\nurl = \"/t/{slug}/\"",
    "two archives by tag"
)]
#[case::news(
    "[[news]]\nsections = [\"depot\"]\npublication = \"Gazette\"\nlanguage = \"English\"",
    "“English” is not a language code for news"
)]
#[case::language("[alternates]\nx_default = \"en-UK\"", "the United Kingdom is GB")]
#[case::alternate_path("[alternates]\npaths = { cy = \"cy\" }", "“cy” is not a folder; expected a path such as /cy/")]
#[case::media("[files]\nmedia_per_file = 5", "expected a number from 2000")]
#[case::address("[files]\naddress = \"https://sitemaps.example/\"", "“address” needs “folder” beside it")]
#[case::template("[visitor_page]\ntemplate = \"private.txt\"", "there is no {{content}} in it")]
#[case::forms("[newest]\nforms = [\"json\"]", "expected [\"atom\"], [\"rss\"] or both")]
fn wrong_choices_are_reported_with_their_lines(#[case] choices: &str, #[case] wanted: &str) {
    let site = depot(choices);
    site.write("broken.txt", "/a/\nhttp://\n");
    site.run(&["survey"]).says(2, &["idle-atlas.toml line ", wanted]);
}

#[test]
fn sections_are_switched_off_in_one_word() {
    let site = depot("[[section]]\nname = \"tools\"\nmatching = [\"/tools/**\"]\non = false\n");
    assert_eq!(paths(&site), ALL[..3]);
    site.run(&["survey"]).says(0, &["its section is off"]);
    site.reconfigure("on = false", "on = true");
    assert_eq!(paths(&site), ALL);
    assert!(site.listed().contains_key("atlas-tools-1.xml"));
}

#[test]
fn neither_hint_is_written_unless_asked_for() {
    let site = depot("");
    site.build();
    assert!(site.listed().into_values().flatten().all(|url| url.priority.is_none() && url.changefreq.is_none()));
}

#[test]
fn archives_follow_from_their_entries() {
    let site = depot(
        "[[archive]]\nby = \"category\"\nsection = \"depot\"\nurl = \"/about/{slug}/\"\npriority = \"by-share\"\n\
         [[archive]]\nby = \"year\"\nurl = \"/{year}/\"\ninto = \"years\"\n\
         [[rule]]\ncategory = [\"Tools\"]\ncovers = \"archive-page\"\nkeep = false\n",
    );
    site.build();
    let listed = site.listed();
    let of = |file: &str| -> Vec<(String, Option<String>, Option<String>)> {
        let all = listed[file].iter().filter(|url| !url.loc.as_deref().unwrap().contains("/lamps/"));
        all.map(|url| (url.loc.clone().unwrap(), url.lastmod.clone(), url.priority.clone())).collect()
    };
    let whole = |path: &str, date: &str, priority: Option<&str>| {
        (format!("https://www.marrowvale.example{path}"), Some(date.to_owned()), priority.map(str::to_owned))
    };
    assert_eq!(of("atlas-years-1.xml"), [whole("/2020/", "2020-01-01", None), whole("/2026/", "2026-11-20", None)]);
    assert_eq!(of("atlas-pages-1.xml"), [whole("/about/oil-lamps/", "2026-11-20", Some("0.8"))]);
    site.run(&["why", "--fresh", "/about/oil-lamps/"])
        .says(0, &["category oil-lamps in depot", "members         2", "by share of entries"]);
    site.run(&["why", "--fresh", "/about/tools/"])
        .says(0, &["left out: rule", "category tools, archive page: keep = false"]);
    site.run(&["survey", "--list", "--source", "archives"]).says(0, &["4 entries", "/about/oil-lamps/"]);
}

#[test]
fn an_archive_is_listed_only_where_the_site_has_its_page() {
    let archive = "[[archive]]\nby = \"category\"\nurl = \"/about/{slug}/\"\n";
    let site = TestSite::new(&format!("{HTML}{archive}"));
    for (name, category) in [("a.html", "Frost"), ("b.html", "Frost"), ("c.html", "Thaw")] {
        let head = format!("<title>{name}</title><meta property=\"article:section\" content=\"{category}\">");
        site.write(&format!("public/{name}"), format!("<html><head>{head}</head><body><main>{name}</main>"));
    }
    // The archive's own page is filed under its category, as templates do, but is not one of its entries.
    let head = "<title>Frost</title><meta property=\"article:section\" content=\"Frost\">";
    site.write("public/about/frost/index.html", format!("<html><head>{head}</head><body><main>Frost</main>"));
    let report = site.json(&["survey"]);
    let notice = report["notices"].as_array().unwrap().iter().find(|one| one["code"] == "no-archive-page").unwrap();
    assert_eq!(notice["examples"][0]["url"], "https://www.marrowvale.example/about/thaw/");
    assert_eq!(
        paths(&site),
        ["/a.html", "/about/frost/", "/b.html", "/c.html"],
        "never twice when it was gathered too"
    );
    site.run(&["why", "--fresh", "/about/frost/"]).says(0, &["members         2", "archive         category frost"]);
    site.reconfigure("by = \"category\"", "by = \"category\"\nassume_page = true");
    assert!(paths(&site).contains(&"/about/thaw/".to_owned()));
}

#[test]
fn a_category_can_be_left_out_with_or_without_its_entries() {
    let choices = |covers: &str| {
        format!(
            "[[archive]]\nby = \"category\"\nurl = \"/about/{{slug}}/\"\n\
             [[rule]]\ncategory = [\"oil-lamps\"]\n{covers}keep = false\n"
        )
    };
    let about = |site: &TestSite| paths(site).contains(&"/about/oil-lamps/".to_owned());
    let lamps = |site: &TestSite| site.paths().contains("/lamps/tin/");
    for (covers, page, entries) in [
        ("", false, false),
        ("covers = \"entries-and-archive-page\"\n", false, false),
        ("covers = \"archive-page\"\n", false, true),
        // Without entries there is no archive either.
        ("covers = \"entries\"\n", false, false),
    ] {
        let site = depot(&choices(covers));
        assert_eq!((about(&site), lamps(&site)), (page, entries), "{covers}");
    }
}

#[test]
fn future_entries_wait_and_expired_ones_leave() {
    let mut site = TestSite::new(TABLE);
    site.write(
        "depot.csv",
        "url,published,expires\n/a/,2026-11-01,\n/gala/,2026-11-24T12:00:00Z,2026-11-26T12:00:00Z\n/fair/,2026-11-02,2026-11-25T12:00:00Z\n",
    );
    let seen = |site: &TestSite| -> Vec<String> { paths(site) };
    assert_eq!(seen(&site), ["/a/", "/fair/"]);
    site.run(&["survey"]).says(
        0,
        &[
            "2026-11-24 12:00 GMT  is listed  https://www.marrowvale.example/gala/",
            "2026-11-25 12:00 GMT  expires    https://www.marrowvale.example/fair/",
        ],
    );
    for (later, wanted) in [
        (DAY - 1, vec!["/a/", "/fair/"]),
        (DAY, vec!["/a/", "/fair/", "/gala/"]),
        (2 * DAY, vec!["/a/", "/gala/"]),
        (3 * DAY, vec!["/a/"]),
    ] {
        site.at(NOON + later);
        assert_eq!(seen(&site), wanted, "after {later} seconds");
    }
}

#[test]
fn news_age_out_of_their_file_and_the_page_stays_as_it_is() {
    let mut site = TestSite::new(&format!(
        "{TABLE}[[news]]\nsections = [\"depot\"]\npublication = \"Vale & Weir Gazette\"\nlanguage = \"en\"\n"
    ));
    let rows: String = (0..1001).map(|at| format!("/n{at}/,Item {at},2026-11-23T0{}:00:00Z\n", at % 2)).collect();
    site.write("depot.csv", format!("url,title,published\n/old/,Old,2026-11-01\n/none/,,2026-11-23\n{rows}"));
    site.build();
    let listed = site.listed();
    let counts: Vec<(&str, usize)> = listed.iter().map(|(name, urls)| (name.as_str(), urls.len())).collect();
    let wanted = [
        ("atlas-depot-1.xml", 1000),
        ("atlas-depot-2.xml", 3),
        ("atlas-depot.news-1.xml", 1000),
        ("atlas-depot.news-2.xml", 1),
    ];
    assert_eq!(counts, wanted);
    let news = &listed["atlas-depot.news-1.xml"][0].news;
    assert_eq!((news.publication.as_deref(), news.language.as_deref()), (Some("Vale & Weir Gazette"), Some("en")));
    assert!(listed["atlas-depot-1.xml"].iter().all(|url| url.news.title.is_none()));
    assert_eq!(site.json(&["survey"])["sections"][0]["news"], 1001);
    let pages = site.outputs()["atlas-depot-1.xml"].clone();
    // Half of them are two days old by now.
    site.at(NOON + 2 * DAY - 12 * 3600 + 1800);
    let built = site.build();
    assert_eq!(built["sections"][0]["news"], 500);
    assert_eq!(built["changes"]["changed"]["count"], 0, "the pages did not change");
    assert_eq!(site.outputs()["atlas-depot-1.xml"], pages);
    let removed: Vec<&str> = built["removed"].as_array().unwrap().iter().filter_map(|name| name.as_str()).collect();
    assert_eq!(
        removed,
        ["atlas-depot.news-2.xml", "atlas-depot.news-2.xml.gz"],
        "what is no longer needed goes at once"
    );
    site.at(NOON + 3 * DAY);
    let built = site.build();
    assert_eq!(built["sections"][0]["news"], 0);
    // If nothing is news, the file keeps its newest URLs.
    let listed = site.listed();
    let kept = &listed["atlas-depot.news-1.xml"];
    assert_eq!((kept.len(), kept.iter().filter(|url| url.news.title.is_some()).count()), (10, 0));
    assert!(kept.iter().all(|url| url.loc.as_ref().unwrap().contains("/n")), "{kept:?}");
    let before = site.outputs();
    site.at(NOON + 9 * DAY);
    assert_eq!(site.build()["written"], serde_json::json!([]));
    // Articles that leave the site leave the file; and as soon as one article is news, the file lists only that.
    let gone = kept[0].loc.clone().unwrap().replace("https://www.marrowvale.example", "");
    site.write("depot.csv", site.read("depot.csv").replace(&format!("\n{gone},"), "\n/elsewhere/,"));
    site.build();
    assert_eq!(site.listed()["atlas-depot.news-1.xml"].len(), 9);
    site.write("depot.csv", site.read("depot.csv") + "/fresh/,Fresh,2026-12-02T09:00:00Z\n");
    site.build();
    let listed = site.listed();
    let news = &listed["atlas-depot.news-1.xml"];
    assert_eq!((news.len(), news[0].news.title.as_deref()), (1, Some("Fresh")));
    assert_ne!(site.outputs()["sitemap.xml"], before["sitemap.xml"]);
}

/// The newest article comes first, whatever the file listed before, and its title is its headline.
#[test]
fn the_first_file_of_news_holds_the_newest() {
    let mut site = TestSite::new(
        "[[source]]\nfrom = \"html\"\nfolder = \"public\"\n[[news]]\nsections = [\"pages\"]\npublication = \"Vale Gazette\"\nlanguage = \"en\"\n[files]\nurls_per_file = 2\n",
    );
    let article = |site: &TestSite, name: &str, hour: u32| {
        site.write(
            &format!("public/{name}.html"),
            format!("<title>{name} | Vale Gazette</title><meta property=article:published_time content=2026-11-23T{hour:02}:00:00Z><main><h1>{name}</h1></main>"),
        );
    };
    for (name, hour) in [("b", 2), ("a", 1), ("c", 3)] {
        article(&site, name, hour);
    }
    let files = |site: &TestSite| -> Vec<Vec<String>> {
        let listed = site.listed();
        let news = listed.iter().filter(|(name, _)| name.contains("news"));
        news.map(|(_, urls)| urls.iter().map(|url| url.news.title.clone().unwrap_or_default()).collect()).collect()
    };
    site.build();
    assert_eq!(files(&site), [vec!["c", "b"], vec!["a"]]);
    article(&site, "d", 4);
    site.build();
    assert_eq!(files(&site), [vec!["d", "c"], vec!["b", "a"]]);
    assert_eq!(site.build()["written"], serde_json::json!([]));
    site.at(NOON + DAY + 13 * 3600 + 1800);
    site.build();
    assert_eq!(files(&site), [vec!["d", "c"], vec!["b"]], "an hour is the time of day at which each leaves");
}

#[test]
fn alternates_are_complete_and_reciprocal() {
    let site = TestSite::new(&format!("{HTML}[alternates]\nx_default = \"en\"\n"));
    let page = |name: &str, language: &str, links: &[(&str, &str)]| {
        let links: String =
            links.iter().map(|(tag, href)| format!("<link rel=alternate hreflang={tag} href={href}>")).collect();
        let text = format!("<html lang={language}><head><title>{name}</title>{links}</head><body><main>{name}</main>");
        site.write(&format!("public/{name}"), text);
    };
    page("fares.html", "en", &[("cy", "/prisiau.html"), ("de", "https://marrowvale-de.example/preise")]);
    page("prisiau.html", "cy", &[("en", "/fares.html")]);
    page("lonely.html", "en", &[("cy", "/unig.html"), ("en-UK", "/x.html"), ("fr", "/nowhere.html")]);
    page("unig.html", "cy", &[]);
    site.build();
    let listed = site.listed();
    let of = |name: &str| -> Vec<String> {
        let url = listed["sitemap.xml"].iter().find(|url| url.loc.as_deref().unwrap().ends_with(name)).unwrap();
        url.alternates.iter().map(|one| format!("{} {}", one.language, one.url.rsplit('/').next().unwrap())).collect()
    };
    let group = ["cy prisiau.html", "de preise", "en fares.html", "x-default fares.html"];
    assert_eq!(of("/fares.html"), group);
    assert_eq!(of("/prisiau.html"), group);
    assert!(of("/lonely.html").is_empty() && of("/unig.html").is_empty());
    let report = site.json(&["survey"]);
    let codes: Vec<&str> =
        report["notices"].as_array().unwrap().iter().filter_map(|one| one["code"].as_str()).collect();
    for wanted in ["alternate-not-returned", "alternate-language", "alternate-not-in"] {
        assert!(codes.contains(&wanted), "{codes:?}");
    }
    site.run(&["why", "--fresh", "/prisiau.html"])
        .says(0, &["languages", "de        https://marrowvale-de.example/preise"]);
    site.reconfigure("x_default", "write = false\nx_default");
    site.build();
    assert!(site.listed()["sitemap.xml"].iter().all(|url| url.alternates.is_empty()));
}

#[test]
fn translations_are_found_by_key_and_by_url_pattern() {
    let table = "[[source]]\nfrom = \"table\"\nfile = \"depot.csv\"\n";
    let site = TestSite::new(&format!("{table}[alternates]\npaths = {{ en = \"/\", cy = \"/cy/\" }}\n"));
    site.write(
        "depot.csv",
        "url,language,language_group\n/fares/,en,\n/cy/fares/,cy,\n/tea/,en,tea\n/cy/te/,cy,tea\n/alone/,en,\n",
    );
    site.build();
    let grouped: Vec<String> = site.listed()["sitemap.xml"]
        .iter()
        .filter(|url| url.alternates.len() == 2)
        .map(|url| url.loc.clone().unwrap().replace("https://www.marrowvale.example", ""))
        .collect();
    assert_eq!(grouped, ["/fares/", "/cy/fares/", "/tea/", "/cy/te/"]);
}

#[test]
fn media_have_files_of_their_own_and_limits_by_count() {
    let site = TestSite::new(&format!(
        "{TABLE}[images]\nwrite = \"own-files\"\nmost_per_page = 300\n[files]\nmedia_per_file = 2000\n"
    ));
    let row = |at: usize| {
        let images: Vec<String> = (0..400).map(|image| format!("/{at}-{image}.svg")).collect();
        format!("/p{at}/,{}\n", images.join("|"))
    };
    site.write("depot.csv", format!("url,images\n/plain/,\n{}", (0..10).map(row).collect::<String>()));
    site.build();
    let listed = site.listed();
    let counts: Vec<(&str, usize, usize)> = listed
        .iter()
        .map(|(name, urls)| (name.as_str(), urls.len(), urls.iter().map(|url| url.images.len()).sum()))
        .collect();
    let wanted =
        [("atlas-depot-1.xml", 11, 0), ("atlas-depot.images-1.xml", 6, 1800), ("atlas-depot.images-2.xml", 4, 1200)];
    assert_eq!(counts, wanted);
    site.run(&["check"]).says(0, &["Nothing is wrong"]);
    site.reconfigure("own-files", "off");
    site.build();
    assert!(site.listed().into_values().flatten().all(|url| url.images.is_empty()));
}

#[test]
fn the_sample_site_with_every_choice_is_built_checked_and_settled() {
    let site = TestSite::sample();
    let built = site.build();
    let names: Vec<&str> =
        built["sections"].as_array().unwrap().iter().filter_map(|one| one["name"].as_str()).collect();
    assert_eq!(names, ["journal", "locomotives", "films", "photographs", "news", "halts", "authors", "pages"]);
    let reasons: Vec<&str> =
        built["left_out"].as_array().unwrap().iter().filter_map(|one| one["reason"].as_str()).collect();
    for wanted in ["noindex", "redirect", "canonical-elsewhere", "rule", "scheduled", "no-archive-page", "error-page"] {
        assert!(reasons.contains(&wanted), "{reasons:?}");
    }
    site.run(&["check"]).says(0, &["Nothing is wrong"]);
    let again = site.build();
    assert_eq!(again["written"], serde_json::json!([]), "a second run changes no byte");
}

#[cfg(feature = "markdown")]
#[test]
fn unbuilt_articles_do_not_decide_which_archives_have_a_page() {
    let archive = "[[archive]]\nby = \"category\"\nurl = \"/about/{slug}/\"\n";
    let site = TestSite::new(&format!("[[source]]\nfrom = \"markdown\"\nfolder = \"articles\"\n{archive}"));
    site.write(
        "articles/frost.md",
        "---\ntitle: Frost\ncategories: [Weather]\nidle_atlas: { priority: 0.4 }\n---\nIce.",
    );
    assert_eq!(paths(&site), ["/about/weather/", "/frost/"]);
    let frost = site.listed()["sitemap.xml"].iter().find(|url| url.priority.is_some()).cloned().unwrap();
    assert_eq!((frost.loc.unwrap().ends_with("/frost/"), frost.priority.as_deref()), (true, Some("0.4")));
}
