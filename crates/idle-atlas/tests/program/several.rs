//! Several sites at once, and sitemaps on another host than the site's.

use rstest::rstest;
use serde_json::Value;

use crate::support::{HTML, ROOT, TestSite};

/// Two sites side by side in one folder.
fn two() -> TestSite {
    let site = TestSite::new("");
    for (name, url) in [("railway", "https://www.marrowvale.example/"), ("shop", "https://shop.marrowvale.example/")] {
        site.write(&format!("{name}/index.html"), format!("<html><head><title>{name}</title></head><body>{name}"));
        let config = format!(
            "[site]\nurl = \"{url}\"\nweb_root = \"{name}\"\n[[source]]\nfrom = \"html\"\nfolder = \"{name}\"\n[robots]\nfile = \"{name}/robots.txt\"\ncreate = true\n"
        );
        site.write(&format!("{name}.toml"), config);
    }
    site
}

#[test]
fn each_site_is_built_by_itself() {
    let site = two();
    let both = ["--config", "railway.toml", "--config", "shop.toml"];
    site.run(&[&both[..], &["build"]].concat())
        .says(0, &["https://www.marrowvale.example/ (railway.toml)", "https://shop.marrowvale.example/ (shop.toml)"]);
    let railway = site.read("railway/sitemap.xml");
    assert!(railway.contains("<loc>https://www.marrowvale.example/</loc>") && !railway.contains("shop"));
    let shop = site.read("shop/sitemap.xml");
    assert!(shop.contains("<loc>https://shop.marrowvale.example/</loc>") && !shop.contains("www.marrowvale"));
    assert_eq!(
        site.read("shop/robots.txt"),
        "User-agent: *\nDisallow:\n\nSitemap: https://shop.marrowvale.example/sitemap.xml\n"
    );
    // Each has its own ledger: both report that nothing changed.
    let again = site.json(&[&both[..], &["build"]].concat());
    let documents = again.as_array().unwrap();
    assert_eq!(documents.len(), 2);
    for one in documents {
        assert_eq!((one["exit"].as_u64(), &one["result"]["written"]), (Some(0), &serde_json::json!([])));
        assert_eq!(one["result"]["run"], 2);
    }
}

#[test]
fn a_failing_site_does_not_stop_the_others() {
    let site = two();
    std::fs::remove_file(site.path("railway/index.html")).unwrap();
    let ran = site.run(&["--config", "railway.toml", "--config", "shop.toml", "build"]);
    ran.says(3, &["nothing would be left to list", "Run 1: 1 entry"]);
    assert!(site.path("shop/sitemap.xml").exists());
}

#[test]
fn one_page_reports_on_all_sites() {
    let site = two();
    site.write("broken.toml", "[site]\nurl = \"https://broken.marrowvale.example/\"\nweb_rot = \"public\"\n");
    let all = ["--each", "*.toml"];
    site.run(&["--config", "shop.toml", "build"]).says(0, &["1 entry"]);
    let ran = site.run(&[&all[..], &["report", "all.html"]].concat());
    ran.says(2, &["all.html written", "https://shop.marrowvale.example/", "done", "not done", "to do"]);
    let page = site.read("all.html");
    for wanted in [
        "<h1>The state of 4 sites</h1>",
        "href=\"#site-4\">shop.marrowvale.example</a>",
        "unknown key “web_rot”",
        "begin with: idle-atlas --config railway.toml build",
        "<h3 id=\"site-4-files\">Sitemap files</h3>",
    ] {
        assert!(page.contains(wanted), "{wanted} is not in {page}");
    }
    // Anchors are unique, and each link leads to one.
    let of = |begin: &str| -> Vec<String> {
        page.split(begin).skip(1).map(|rest| rest.split('"').next().unwrap().to_owned()).collect()
    };
    let (anchors, links) = (of(" id=\""), of("href=\"#"));
    let unique: std::collections::BTreeSet<&String> = anchors.iter().collect();
    assert_eq!(unique.len(), anchors.len());
    assert!(!links.is_empty() && links.iter().all(|link| anchors.contains(link)), "{links:?} {anchors:?}");
    // It may not be served by any of them.
    site.run(&[&all[..], &["report", "shop/all.html"]].concat()).says(2, &["shop/all.html would be served"]);
    assert!(!site.path("shop/all.html").exists());
    let documents = site.command(&[&all[..], &["report", "--json"]].concat()).output().unwrap();
    let documents: Value = serde_json::from_slice(&documents.stdout).unwrap();
    assert_eq!(documents.as_array().map(Vec::len), Some(4));
    assert!(site.path("site-report.html").exists());
}

#[test]
fn two_sites_may_not_write_into_one_folder() {
    let site = two();
    let text = site.read("shop.toml").replace("\"shop\"", "\"railway\"").replace("shop/", "railway/");
    site.write("shop.toml", text);
    site.run(&["--config", "railway.toml", "--config", "shop.toml", "build"])
        .says(2, &["railway.toml and shop.toml write their sitemaps into the same folder"]);
}

#[test]
fn sitemaps_on_another_host_are_declared_by_the_sites_robots() {
    let site = TestSite::new(&format!(
        "{HTML}[files]\nfolder = \"elsewhere\"\naddress = \"https://sitemaps.marrowvale.example/railway/\"\ntext = true\n[visitor_page]\n"
    ));
    std::fs::create_dir(site.path("elsewhere")).unwrap();
    site.page("index.html", "Home", "Tea");
    site.page("halts/weir.html", "Weir", "Water");
    site.run(&["build"]).says(0, &["https://sitemaps.marrowvale.example/railway/sitemap.xml", "atlas.html"]);
    let main = site.read("elsewhere/sitemap.xml");
    assert!(main.contains(&format!("<loc>{ROOT}halts/weir.html</loc>")), "{main}");
    assert!(!site.path("public/sitemap.xml").exists());
    assert!(site.path("public/atlas.html").exists() && site.path("elsewhere/atlas.css").exists());
    assert!(
        site.read("public/robots.txt").ends_with("Sitemap: https://sitemaps.marrowvale.example/railway/sitemap.xml\n")
    );
    site.run(&["check"]).says(0, &["Nothing is wrong", "https://sitemaps.marrowvale.example/railway/sitemap.xml"]);
    let again = site.build();
    assert_eq!(again["written"], serde_json::json!([]));
    site.run(&["why", "--fresh", "/halts/weir.html"])
        .says(0, &["https://sitemaps.marrowvale.example/railway/sitemap.xml"]);
    site.reconfigure("[robots]\nfile = \"public/robots.txt\"\ncreate = true\n", "");
    site.run(&["build"])
        .says(0, &["put this line into https://www.marrowvale.example/robots.txt", "Sitemap: https://sitemaps"]);
    // Without the line in robots.txt, one host may not list another host's pages.
    site.write("public/robots.txt", "User-agent: *\nDisallow:\n");
    site.run(&["check"]).says(0, &["not-declared"]);
    site.run(&["check", "--strict"]).says(1, &["not-declared"]);
}

/// An error in one configuration affects only that one.
#[rstest]
#[case::broken("[site\n", "shop.toml: error: line 1")]
#[case::unknown_key(
    "[site]\nurl = \"https://shop.marrowvale.example/\"\nweb_rot = \"shop\"\n",
    "unknown key “web_rot”"
)]
#[case::no_web_root(
    "[site]\nurl = \"https://shop.marrowvale.example/\"\nweb_root = \"gone\"\n",
    "there is no folder gone"
)]
#[case::no_variable(
    "[site]\nurl = \"${NOWHERE_TO_BE_FOUND}\"\nweb_root = \"shop\"\n",
    "the environment variable NOWHERE_TO_BE_FOUND is not set"
)]
fn a_configuration_that_is_broken_fails_alone(#[case] config: &str, #[case] words: &str) {
    let site = two();
    site.write("shop.toml", config);
    let ran = site.run(&["--config", "shop.toml", "--config", "railway.toml", "build"]);
    ran.says(2, &["Run 1: 1 entry"]);
    let line = ran.errors.lines().find(|line| line.contains(words)).unwrap_or_else(|| panic!("{}", ran.errors));
    assert!(line.starts_with("shop.toml: "), "every line on standard error names the site: {line}");
    // A table at the end says how each ended.
    let table = ran.out.rsplit("2 sites").next().unwrap();
    assert!(table.contains("shop.toml") && table.contains("not done"), "{}", ran.out);
    assert!(table.contains("https://www.marrowvale.example/  done"), "{}", ran.out);
}

#[test]
fn a_folder_stands_for_every_configuration_in_it() {
    let site = two();
    for name in ["railway", "shop"] {
        let config = site.read(&format!("{name}.toml")).replace(&format!("\"{name}"), "\"public");
        site.write(&format!("sites/{name}/idle-atlas.toml"), config);
        site.write(&format!("sites/{name}/public/index.html"), format!("<title>{name}</title><main>{name}</main>"));
    }
    let ran = site.run(&["--config", "sites", "build"]);
    ran.says(0, &["2 sites", "idle-atlas --config sites/shop/idle-atlas.toml check"]);
    assert!(
        site.path("sites/shop/public/sitemap.xml").exists() && site.path("sites/railway/public/sitemap.xml").exists()
    );
    site.run(&["--config", "sites/shop/public", "build"])
        .says(2, &["there is no idle-atlas.toml in this folder or deeper"]);
}

#[test]
fn lists_of_several_sites_are_one_list() {
    let site = two();
    let both = ["--config", "railway.toml", "--config", "shop.toml"];
    let csv = site.run(&[&both[..], &["survey", "--list", "--as", "csv"]].concat());
    let lines: Vec<&str> = csv.out.lines().collect();
    assert_eq!(lines.len(), 3, "{}", csv.out);
    assert!(
        lines[0].starts_with("url,") && lines[1].starts_with("https://www.") && lines[2].starts_with("https://shop.")
    );
    let json = site.run(&[&both[..], &["survey", "--list", "--as", "json"]].concat());
    let documents: serde_json::Value = serde_json::from_str(&json.out).unwrap();
    assert_eq!(documents[1]["result"][0]["url"], "https://shop.marrowvale.example/");
    site.run(&[&both[..], &["survey", "--html", "all.html"]].concat()).says(0, &["all-shop.marrowvale.example.html"]);
    let page = site.read("all-shop.marrowvale.example.html");
    assert!(page.contains("shop.marrowvale.example") && site.path("all-www.marrowvale.example.html").exists());
    site.run(&[&both[..], &["build"]].concat());
    let entries = site.run(&[&both[..], &["history", "--entries"]].concat());
    assert_eq!(entries.out.lines().filter(|line| line.starts_with("url,")).count(), 1, "{}", entries.out);
    assert_eq!(entries.out.lines().count(), 3);
}

/// A proposed command can be pasted: it names the configuration that was named.
#[test]
fn proposals_name_the_configuration() {
    let site = two();
    let one = ["--config", "shop.toml"];
    site.run(&[&one[..], &["survey"]].concat()).says(0, &["Next: idle-atlas --config shop.toml build"]);
    site.write("shop/index.html", "");
    site.run(&[&one[..], &["build"]].concat())
        .says(3, &["See what is left out, and why: idle-atlas --config shop.toml survey"]);
}

#[test]
fn init_writes_the_configuration_that_is_named() {
    let site = two();
    std::fs::remove_file(site.path("idle-atlas.toml")).unwrap();
    let ran = site.run(&["init", "shop", "--url", "https://shop.marrowvale.example/", "--config", "depot.toml"]);
    ran.says(0, &["Wrote depot.toml", "Next: idle-atlas --config depot.toml survey"]);
    assert!(!site.path("idle-atlas.toml").exists());
    site.run(&["--config", "depot.toml", "build"]).says(0, &["Run 1: 1 entry"]);
    // From another folder, its path is relative to that.
    std::fs::create_dir(site.path("sites")).unwrap();
    site.run(&["init", "railway", "--url", ROOT, "--config", "sites"]).says(0, &["Wrote sites/idle-atlas.toml"]);
    site.run(&["--config", "sites", "build"]).says(0, &["Run 1: 1 entry"]);
    site.run(&["init", "railway", "--url", ROOT, "--config", "railway/own.toml"])
        .says(2, &["where visitors could read it"]);
}

/// A command waits for a ledger that another command is using, and says so.
#[test]
fn a_busy_ledger_is_waited_for() {
    let site = TestSite::new(HTML);
    site.page("index.html", "Home", "Tea");
    site.build();
    let lock = std::fs::File::create(site.path(".idle-atlas/lock")).unwrap();
    lock.lock().unwrap();
    let waiting = std::thread::spawn(move || {
        std::thread::sleep(std::time::Duration::from_millis(700));
        drop(lock);
    });
    site.run(&["build"]).says(0, &["waiting:", "another idle-atlas is working on this site", "no entry changed"]);
    waiting.join().unwrap();
}

/// An error names its configuration once, and is also in the document of all sites.
#[test]
fn a_broken_configuration_is_named_once() {
    let site = crate::support::TestSite::new(crate::support::HTML);
    site.page("index.html", "Home", "Tea");
    site.write("shop.toml", "[site]\nurl = \"https://shop.example/\"\nweb_rot = \"public\"\n");
    let ran = site.run(&["--config", "idle-atlas.toml", "--config", "shop.toml", "survey", "--json"]);
    assert_eq!(ran.code, 2);
    assert_eq!(ran.errors.matches("shop.toml").count(), 1, "{}", ran.errors);
    let sites: serde_json::Value = serde_json::from_str(&ran.out).unwrap();
    assert!(sites[1]["error"].as_str().unwrap().contains("unknown key “web_rot”"), "{sites}");
    assert_eq!((&sites[1]["exit"], &sites[1]["result"]), (&2.into(), &serde_json::json!([])));
}

/// Sites of a table of so many rows each, of which one has a configuration that cannot be read.
fn many(broken: usize) -> TestSite {
    let site = TestSite::new("");
    for number in 0..6 {
        let more = if number == broken { "[nonsense]\n" } else { "" };
        site.write(
            &format!("sites/{number}/idle-atlas.toml"),
            format!("[site]\nurl = \"https://halt{number}.marrowvale.example/\"\nweb_root = \"public\"\n[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n{more}"),
        );
        let rows: String = (0..=number).map(|row| format!("/{row}/\n")).collect();
        site.write(&format!("sites/{number}/t.csv"), format!("url\n{rows}"));
        std::fs::create_dir(site.path(&format!("sites/{number}/public"))).unwrap();
    }
    site
}

#[test]
fn many_sites_side_by_side() {
    let site = many(3);
    let ran = site.run(&["build", "--each", "sites/*/idle-atlas.toml"]);
    ran.says(
        2,
        &[
            "unknown key “nonsense”",
            "6 sites",
            "done          https://halt5.marrowvale.example/ (sites/5/idle-atlas.toml): entries 6, added 6",
        ],
    );
    assert_eq!(ran.out.lines().filter(|line| line.contains(" s  ")).count(), 6, "a line each: {}", ran.out);
    for number in [0, 1, 2, 4, 5] {
        assert!(site.path(&format!("sites/{number}/public/sitemap.xml")).is_file(), "{number} is built all the same");
    }
    let told: Vec<Value> =
        serde_json::from_str(&site.run(&["build", "--each", "sites/*/idle-atlas.toml", "--json"]).out).unwrap();
    let configs: Vec<&str> = told.iter().map(|one| one["config"].as_str().unwrap()).collect();
    assert_eq!(configs.len(), 6);
    assert!(configs.is_sorted(), "in the order of their names: {configs:?}");
    assert!(told[3]["error"].as_str().unwrap().contains("nonsense") && told[3]["exit"] == 2);
}

#[rstest]
#[case::no_match(&["build", "--each", "sites/*/atlas.toml"], "--each sites/*/atlas.toml: no file has such a name")]
#[case::another_command(&["uptake", "a.csv", "--each", "sites/*/idle-atlas.toml"], "--each is for build")]
#[case::both(&["build", "--each", "sites/*/idle-atlas.toml", "--config", "a.toml"], "cannot be used with")]
fn what_each_is_not_for(#[case] arguments: &[&str], #[case] wanted: &str) {
    many(9).run(arguments).says(2, &[wanted]);
}

/// What sites share is written once; `config show` says where each value comes from.
#[test]
fn a_site_extends_what_it_shares() {
    let site = TestSite::new("");
    site.write(
        "common.toml",
        "[site]\nweb_root = \"public\"\n[files]\nmain = \"map.xml\"\n[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n",
    );
    for number in 0..2 {
        let own = if number == 0 { "" } else { "[files]\nmain = \"own.xml\"\n" };
        site.write(
            &format!("sites/{number}/idle-atlas.toml"),
            format!(
                "extends = \"../../common.toml\"\n[site]\nurl = \"https://halt{number}.marrowvale.example/\"\n{own}"
            ),
        );
        site.write(&format!("sites/{number}/t.csv"), "url\n/weir/\n");
        std::fs::create_dir(site.path(&format!("sites/{number}/public"))).unwrap();
    }
    site.run(&["build", "--each", "sites/*/idle-atlas.toml"]).says(0, &["2 sites"]);
    assert!(site.path("sites/0/public/map.xml").is_file() && site.path("sites/1/public/own.xml").is_file());
    let shown = site.run(&["config", "show", "--config", "sites/1/idle-atlas.toml"]);
    shown.says(0, &["main", "\"own.xml\"", "# sites/1/../../common.toml", "# default"]);
    let line = |key: &str| shown.out.lines().find(|line| line.starts_with(key)).unwrap();
    assert!(line("web_root").ends_with("common.toml") && !line("main").contains("common.toml"), "{}", shown.out);
    site.write("common.toml", "[site]\nweb_rot = \"public\"\n");
    site.run(&["survey", "--config", "sites/1/idle-atlas.toml"])
        .says(2, &["sites/1/../../common.toml line 2: unknown key “web_rot” (did you mean “web_root”?)"]);
}
