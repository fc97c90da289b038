//! What people read: the visitor page, the owner's page, feeds, the text sitemap, structured data, the preview of a
//! build.

use std::fs;

use serde_json::Value;

use crate::support::{DAY, HTML, NOON, TestSite};

#[test]
fn only_sitemaps_and_their_stylesheet_by_default() {
    let site = TestSite::new(HTML);
    site.page("index.html", "Home", "Tea");
    site.build();
    let mut names: Vec<String> = fs::read_dir(site.path("public"))
        .unwrap()
        .flatten()
        .map(|one| one.file_name().into_string().unwrap())
        .collect();
    names.sort();
    assert_eq!(names, ["atlas.css", "index.html", "robots.txt", "sitemap.xml", "sitemap.xml.gz"]);
    assert!(site.read("public/sitemap.xml").contains("<?xml-stylesheet type=\"text/css\" href=\"atlas.css\"?>"));
    site.configure(&format!("{HTML}[files]\nstyle = false\n"));
    site.build();
    assert!(!site.path("public/atlas.css").exists());
    assert!(!site.read("public/sitemap.xml").contains("stylesheet"));
}

#[test]
fn the_visitor_page_lists_titles_by_section_and_never_comes_back_as_an_entry() {
    let site = TestSite::new(&format!(
        "{HTML}[visitor_page]\ntitle = \"All of <it>\"\nlanguage = \"cy\"\nentries_per_page = 3\n"
    ));
    for at in 0..7 {
        site.page(&format!("journal/p{at}/index.html"), &format!("Frost & thaw {at} · Journal"), &at.to_string());
    }
    site.build();
    let front = site.read("public/atlas.html");
    assert!(front.contains("<html lang=\"cy\">") && front.contains("<title>All of &lt;it&gt;</title>"), "{front}");
    assert!(front.contains("<a href=\"atlas-pages-3.html\">"), "{front}");
    let first = site.read("public/atlas-pages-1.html");
    assert!(first.contains("journal/p0/\" lang=\"") || first.contains("journal/p0/\">"), "{first}");
    assert!(first.contains(">Frost &amp; thaw 0</a>"), "{first}");
    let again = site.build();
    assert_eq!(again["written"], serde_json::json!([]));
    assert_eq!(again["sections"][0]["entries"], 7, "its own pages are no entries");
    // With fewer pages, those that are no longer needed are deleted at once.
    for at in 1..6 {
        fs::remove_dir_all(site.path(&format!("public/journal/p{at}"))).unwrap();
    }
    let built = site.json(&["build", "--allow", "shrink"]);
    assert_eq!(built["removed"].as_array().unwrap().len(), 3, "{}", built["removed"]);
    assert!(!site.path("public/atlas-pages-1.html").exists());
    assert!(site.read("public/atlas.html").contains("Frost &amp; thaw 6"));
}

#[test]
fn a_template_of_the_sites_own() {
    let site = TestSite::new(&format!("{HTML}[visitor_page]\ntemplate = \"page.html\"\n"));
    site.page("index.html", "Home", "Tea");
    site.write("page.html", "<body class=ours><h1>{{title}}</h1>{{content}}</body>");
    site.build();
    let page = site.read("public/atlas.html");
    assert!(page.starts_with("<body class=ours><h1>All pages of www.marrowvale.example</h1>"), "{page}");
    assert!(page.contains(">Home</a>"));
}

#[test]
fn feeds_of_the_newest_and_the_text_form() {
    let mut site = TestSite::sample();
    site.build();
    let atom = site.read("public/atlas-newest.xml");
    let entries = atom.matches("<entry>").count();
    assert_eq!(entries, 20);
    assert!(site.read("public/atlas-newest-rss.xml").contains("<pubDate>"));
    let text = site.read("public/atlas.txt");
    assert!(text.lines().all(|line| line.starts_with("https://www.marrowvale.example/")) && text.ends_with('\n'));
    let listed: u64 =
        site.json(&["survey"])["sections"].as_array().unwrap().iter().filter_map(|one| one["entries"].as_u64()).sum();
    assert_eq!(text.lines().count() as u64, listed);
    // A day later nothing is newer, so the feeds stay the same, byte for byte.
    site.at(NOON + DAY);
    site.build();
    assert_eq!(site.read("public/atlas-newest.xml"), atom);
}

/// The tool's own source can read the feeds that it writes.
#[cfg(feature = "feed")]
#[test]
fn the_feed_of_the_newest_is_a_feed() {
    let site = TestSite::sample();
    site.build();
    let other = TestSite::new("[[source]]\nfrom = \"feed\"\nfile = \"newest.xml\"\n");
    other.write("newest.xml", site.read("public/atlas-newest.xml"));
    let listed = other.json(&["survey", "--list"]);
    assert_eq!(listed.as_array().unwrap().iter().filter(|one| one["title"].is_string()).count(), 20);
}

#[test]
fn the_owners_view_has_every_entry_and_is_not_served() {
    let site = TestSite::sample();
    site.run(&["survey", "--html", "owner.html"]).says(0, &["owner.html written", "do not publish it"]);
    let page = site.read("owner.html");
    let data = page.split("id=\"data\">").nth(1).unwrap().split("</script>").next().unwrap();
    let entries: Value = serde_json::from_str(data).unwrap();
    let find = |path: &str| {
        let wanted = format!("https://www.marrowvale.example{path}");
        entries.as_array().unwrap().iter().find(|one| one["url"] == wanted.as_str()).unwrap().clone()
    };
    assert_eq!(find("/staff/rota/")["reason"], "rule");
    let tern = find("/locomotives/tern/");
    assert_eq!(
        (tern["section"].as_str(), tern["file"].as_str()),
        (Some("locomotives"), Some("atlas-locomotives-1.xml"))
    );
    assert_eq!(tern["picture"], "public/pictures/locomotives/tern.svg", "shown from disk");
    site.run(&["survey", "--html", "public/owner.html"]).says(2, &["would be served to everyone"]);
    assert!(!site.path("public/owner.html").exists());
}

#[test]
fn structured_data_for_pages_that_have_none() {
    let site = TestSite::sample();
    site.build();
    let text = site.read("structured-data/films/cutting/index.json");
    let object: Value = serde_json::from_str(&text).unwrap();
    assert_eq!(object["@type"], "VideoObject");
    for required in ["name", "thumbnailUrl", "uploadDate", "description", "contentUrl"] {
        assert!(!object[required].is_null(), "{required}");
    }
    assert!(!site.path("structured-data/films/late-parcels/index.json").exists(), "that page has its own");
    let ran = site.run(&["why", "--fresh", "/films/cutting/", "--structured-data"]);
    assert_eq!((ran.code, ran.out.as_str()), (0, text.as_str()));
    site.run(&["why", "--fresh", "/films/late-parcels/", "--structured-data"])
        .says(0, &["carries a VideoObject of its own, and nothing is wrong with it"]);
    site.run(&["why", "--fresh", "/films/ballast-pit/", "--structured-data"]).says(1, &["has no thumbnailUrl"]);
    site.run(&["why", "--fresh", "/fares/", "--structured-data"]).says(2, &["nothing is known of a video"]);
    // If a page gets a VideoObject of its own, its file is deleted; nothing else in the folder is touched.
    site.write("structured-data/ours.json", "{}");
    let page = site.read("public/films/cutting/index.html");
    let own = "<script type=\"application/ld+json\">{\"@type\":\"VideoObject\",\"name\":\"Cutting\",\"contentUrl\":\"/films/cutting.webm\",\"uploadDate\":\"2026-01-12T10:00\"}</script>";
    site.write("public/films/cutting/index.html", page.replace("</head>", &format!("{own}</head>")));
    site.build();
    assert!(!site.path("structured-data/films").exists(), "nor are empty folders left");
    assert!(site.path("structured-data/ours.json").exists());
    site.run(&["why", "--fresh", "/films/cutting/"])
        .says(0, &["VideoObject on the page; thumbnailUrl is missing, and it is required", "uploadDate has no zone"]);
    let report = site.json(&["survey"]);
    assert!(report["notices"].as_array().unwrap().iter().any(|one| one["code"] == "video-data-incomplete"));
}

#[test]
fn a_dry_run_shows_by_file_what_a_build_would_do() {
    let site = TestSite::new(&format!("{HTML}[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n"));
    for name in ["index.html", "fares.html", "halts/weir.html", "halts/shed.html"] {
        site.page(name, name, "Tea");
    }
    let fates = |preview: &Value| -> Vec<String> {
        let one = |file: &Value| {
            let name = file["address"].as_str().unwrap().rsplit('/').next().unwrap();
            format!("{name} {} {} {}", file["fate"].as_str().unwrap(), file["entries_before"], file["entries"])
        };
        preview["files"].as_array().unwrap().iter().map(one).collect()
    };
    site.configure(HTML);
    site.build();
    site.configure(&format!("{HTML}[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n"));
    let split = site.json(&["build", "--dry-run"]);
    let wanted = ["atlas-halts-1.xml new 0 2", "atlas-pages-1.xml new 0 2"];
    assert_eq!(fates(&split), wanted, "what was the main file gets a name of its own");
    fs::remove_dir_all(site.path(".idle-atlas")).unwrap();
    let before = site.outputs();
    let first = site.json(&["build", "--dry-run"]);
    assert_eq!(fates(&first), ["atlas-halts-1.xml new 0 2", "atlas-pages-1.xml new 0 2"]);
    assert_eq!(site.outputs(), before, "nothing is written");
    site.build();
    let calm = site.json(&["build", "--dry-run"]);
    assert_eq!(fates(&calm), ["atlas-halts-1.xml stays 2 2", "atlas-pages-1.xml stays 2 2"]);
    assert_eq!(calm["asides"], serde_json::json!([]));

    site.page("tickets.html", "Tickets", "Eight shillings");
    site.page("fares.html", "Fares", "Nine shillings");
    site.configure(&format!("{HTML}[[section]]\nname = \"stops\"\nmatching = [\"/halts/shed.html\"]\n[[rule]]\nmatching = [\"/halts/weir.html\"]\nkeep = false\n"));
    let preview = site.json(&["build", "--dry-run"]);
    let wanted = ["atlas-stops-1.xml new 0 1", "atlas-pages-1.xml grows 2 3", "atlas-halts-1.xml vanishes 2 0"];
    assert_eq!(fates(&preview), wanted);
    assert_eq!(preview["comes"], serde_json::json!(["https://www.marrowvale.example/tickets.html"]));
    assert_eq!(preview["goes"][0]["url"], "https://www.marrowvale.example/halts/weir.html");
    assert_eq!(preview["goes"][0]["reason"], "rule");
    assert_eq!(
        (preview["moves"][0]["from"].as_str(), preview["moves"][0]["to"].as_str()),
        (Some("halts"), Some("stops"))
    );
    site.run(&["build", "--dry-run"])
        .says(0, &["1 URL would be added", "1 URL would be removed", "1 URL would change their section"]);
    // And that is what happens.
    let built = site.build();
    let names: Vec<&str> = built["written"].as_array().unwrap().iter().filter_map(|one| one.as_str()).collect();
    for name in ["atlas-stops-1.xml", "atlas-pages-1.xml", "sitemap.xml"] {
        assert!(names.contains(&name), "{names:?}");
    }
    assert!(built["retired"].as_array().unwrap().iter().any(|name| name == "atlas-halts-1.xml"));
}

#[test]
fn a_dry_run_names_the_guards() {
    let site = TestSite::new(HTML);
    for at in 0..30 {
        site.page(&format!("p{at}.html"), "Page", &at.to_string());
    }
    site.build();
    for at in 0..20 {
        fs::remove_file(site.path(&format!("public/p{at}.html"))).unwrap();
    }
    site.run(&["build", "--dry-run"])
        .says(3, &["It would be held back", "would lose 20 of its 30 entries", "20 URLs would be removed"]);
    site.run(&["build", "--dry-run", "--allow", "shrink"]).says(0, &["shrink"]);
}

#[test]
fn proposals_of_init_work_once_uncommented() {
    let site = TestSite::sample();
    fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    site.run(&["init", "public"])
        .says(0, &["archives, news, languages, data about videos, a page for visitors, a feed"]);
    let text = site.read("idle-atlas.toml");
    let (before, rest) = text.split_once("# Archives:").unwrap();
    let (proposed, after) = rest.split_once("\n[files]").unwrap();
    let is_setting =
        |line: &str| line.starts_with('[') || line.split_once('=').is_some_and(|(key, _)| !key.trim().contains(' '));
    let bare = proposed.lines().map(|line| match line.strip_prefix("# ") {
        Some(setting) if is_setting(setting) => setting.to_owned(),
        _ => line.to_owned(),
    });
    let bare: Vec<String> = bare.collect();
    site.write("idle-atlas.toml", format!("{before}# Archives:{}\n[files]{after}", bare.join("\n")));
    site.build();
    for name in ["public/atlas.html", "public/atlas-newest.xml", "structured-data/films/cutting/index.json"] {
        assert!(site.path(name).exists(), "{name}");
    }
    assert!(site.listed().contains_key("atlas-news-1.xml"));
    let report = site.json(&["survey"]);
    assert!(report["sources"].as_array().unwrap().iter().any(|one| one["name"] == "archives"));
}

#[test]
fn feeds_hold_articles_of_the_sections_that_are_named() {
    let site = TestSite::new(
        "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[[section]]\nname = \"news\"\nmatching = [\"/news/**\"]\n[newest]\nforms = [\"atom\", \"rss\"]\nsections = [\"news\"]\n",
    );
    site.write(
        "t.csv",
        "url,title,published\n/news/gala/,Gala | Marrow Vale,2026-11-20\n/news/tag/ice/,Ice | Marrow Vale,2026-11-21\n/fares/,Fares | Marrow Vale,2026-11-22\n/halts/,Halts | Marrow Vale,\n",
    );
    site.build();
    for name in ["public/atlas-newest.xml", "public/atlas-newest-rss.xml"] {
        let feed = site.read(name);
        assert!(feed.contains("<?xml-stylesheet type=\"text/css\" href=\"atlas.css\"?>"), "{feed}");
        assert!(feed.contains("<title>Gala</title>"), "without the name of the site: {feed}");
        for other in ["/news/tag/ice/", "/fares/", "/halts/"] {
            assert!(!feed.contains(other), "{other} in {feed}");
        }
    }
    site.reconfigure("sections = [\"news\"]", "sections = [\"nows\"]");
    site.run(&["build"]).says(2, &["there is no section “nows”; there are news"]);
}

#[test]
fn a_large_section_is_split_by_name() {
    let site = TestSite::new("[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[visitor_page]\nentries_per_page = 4\n");
    let names = ["Halt 10", "Élan", "Halt 2", "ember", "Zest", "Ash", "Halt 1", "Weir", "Lamp"];
    let rows: String = names.iter().enumerate().map(|(at, name)| format!("/p/{at}/,{name}\n")).collect();
    site.write("t.csv", format!("url,title\n{rows}/tag/ash/,Ash\n"));
    site.build();
    let front = site.read("public/atlas.html");
    for range in ["Ash … Halt 1<", "Halt 2 … Weir<", "Zest … Ash<"] {
        assert!(front.contains(range), "{range} is not in {front}");
    }
    let first = site.read("public/atlas-pages-1.html");
    let places: Vec<usize> =
        ["Ash", "Élan", "ember", "Halt 1"].iter().map(|name| first.find(&format!(">{name}</a>")).unwrap()).collect();
    assert!(places.is_sorted(), "{first}");
}
