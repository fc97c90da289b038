//! The command `check`: reading a web root back.

use std::fs;

use crate::support::{HTML, TestSite};

fn built() -> TestSite {
    let site = TestSite::new(&format!("{HTML}[files]\nurls_per_file = 3\n"));
    for number in 0..7 {
        site.page(&format!("p{number}.html"), "Page", &number.to_string());
    }
    site.build();
    site
}

#[test]
fn a_fresh_build_has_no_findings() {
    let site = built();
    let ran = site.run(&["check"]);
    ran.says(0, &["Read 4 sitemap files with 7 entries", "(index)", "Nothing is wrong"]);
    let report = site.json(&["check"]);
    assert_eq!(report["findings"], serde_json::json!([]));
    assert_eq!(report["files"].as_array().unwrap().len(), 4);
}

#[test]
fn what_is_broken_is_found_in_words() {
    let site = built();
    fs::remove_file(site.path("public/atlas-pages-3.xml")).unwrap();
    site.spoil("atlas-pages-2.xml.gz", "not gzip");
    let child = site.read("public/atlas-pages-1.xml");
    site.spoil("atlas-pages-1.xml", format!("\n{child}"));
    site.write("public/robots.txt", "User-agent: *\nDisallow:\n");
    let ran = site.run(&["check", "public"]);
    ran.says(
        1,
        &[
            "error file-missing",
            "error before-declaration",
            "error file-broken",
            "error copy-differs",
            "warning not-declared",
            "no line “Sitemap: https://www.marrowvale.example/sitemap.xml”",
            "4 errors, 1 warning",
        ],
    );
    let report = site.json(&["check"]);
    assert_eq!(report["findings"][0]["severity"], "error");
}

#[test]
fn a_missing_folder() {
    built().run(&["check", "elsewhere"]).says(2, &["there is no folder or file elsewhere"]);
}

/// A file by another writer that never declared the namespace of its images.
#[test]
fn elements_outside_their_namespace_are_found_and_reported() {
    let url = |path: &str| {
        format!(
            "<url><loc>https://www.marrowvale.example/{path}/</loc><image:image><image:loc>https://www.marrowvale.example/{path}.svg</image:loc></image:image></url>\n"
        )
    };
    let old = format!(
        "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">\n{}{}</urlset>",
        url("halts"),
        url("fares")
    );
    let site = TestSite::new("[[source]]\nfrom = \"sitemap\"\nfile = \"old.xml\"\n");
    site.write("old.xml", &old);
    let told = "old.xml line 2: image:image is not in its namespace, and likewise in 1 more entry; it is not read";
    site.run(&["survey"]).says(0, &[told]);
    site.run(&["build"]).says(0, &[told, "2 entries"]);
    site.spoil("sitemap.xml", &old);
    site.run(&["check"]).says(
        1,
        &[
            "error namespace",
            "https://www.marrowvale.example/halts/: image:image is not in its namespace",
            "Declare the element's namespace at the root",
        ],
    );
}

#[test]
fn a_missing_file_is_reported_with_what_names_it() {
    let site = built();
    fs::remove_file(site.path("public/sitemap.xml")).unwrap();
    site.write("public/robots.txt", "Sitemap: https://www.marrowvale.example/gone.xml\n");
    site.run(&["check"]).says(
        1,
        &["there is no such file; it is the main file of this site", "there is no such file; declared in robots.txt"],
    );
}
