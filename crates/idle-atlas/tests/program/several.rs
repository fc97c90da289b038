//! Several sites at once, and sitemaps on another host than the site's.

use crate::support::{HTML, ROOT, Site};

/// Two sites side by side in one folder.
fn two() -> Site {
    let site = Site::new("");
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
    // Each has its own memory: both say that nothing changed.
    let again = site.json(&[&both[..], &["build"]].concat());
    let documents = again.as_array().unwrap();
    assert_eq!(documents.len(), 2);
    for one in documents {
        assert_eq!((one["exit"].as_u64(), &one["result"]["written"]), (Some(0), &serde_json::json!([])));
        assert_eq!(one["result"]["run"], 2);
    }
}

#[test]
fn one_that_fails_does_not_stop_the_other() {
    let site = two();
    std::fs::remove_file(site.path("railway/index.html")).unwrap();
    let ran = site.run(&["--config", "railway.toml", "--config", "shop.toml", "build"]);
    ran.says(3, &["nothing would be left to list", "Run 1: 1 entry"]);
    assert!(site.path("shop/sitemap.xml").exists());
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
    let site = Site::new(&format!(
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
    site.run(&["why", "/halts/weir.html"]).says(0, &["https://sitemaps.marrowvale.example/railway/sitemap.xml"]);
    site.reconfigure("[robots]\nfile = \"public/robots.txt\"\ncreate = true\n", "");
    site.run(&["build"])
        .says(0, &["put this line into https://www.marrowvale.example/robots.txt", "Sitemap: https://sitemaps"]);
    // Without the line in robots.txt nobody may list another host's pages.
    site.write("public/robots.txt", "User-agent: *\nDisallow:\n");
    site.run(&["check"]).says(0, &["not-declared"]);
    site.run(&["check", "--strict"]).says(1, &["not-declared"]);
}
