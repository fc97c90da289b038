//! The source `markdown`.

use serde_json::Value;

use crate::support::{TestSite, has, source, words};

/// One entry of a list, by its path.
fn entry(site: &TestSite, path: &str) -> Value {
    let list = site.json(&["survey", "--list", "--under", path]);
    list.as_array()
        .unwrap()
        .iter()
        .find(|entry| entry["url"].as_str().unwrap().ends_with(path))
        .cloned()
        .unwrap_or_default()
}

#[test]
fn markdown_with_front_matter_of_both_kinds() {
    let site = TestSite::new(&source(
        "markdown",
        "folder = \"articles\"\nsection = \"journal\"\nfields = { url = \"/{section}/{published:%Y}/{slug}/\" }",
    ));
    site.write(
        "articles/2026-11-20-frost.md",
        "---\ntitle: Frost on the cutting\ndate: 2026-11-20\nlastmod: 2026-11-21T09:00:00Z\ntags: [frost, track]\ncategories: weather\nauthor: Ifor\n---\n\n# Frost\n\nIt was cold, as the photograph by the gatepost shows.\n\n![The cutting](/pictures/frost.svg) and [the fares](/fares/)\n",
    );
    site.write("articles/gala.md", "+++\ntitle = \"Gala\"\ndate = 2026-05-01\nslug = \"spring-gala\"\n+++\nText\n");
    site.write("articles/draft.md", "---\ndate: 2026-01-01\ndraft: true\n---\nNot yet\n");
    site.write("articles/hidden.md", "---\ndate: 2026-01-01\nidle_atlas:\n  keep: no\n---\nNot this one\n");
    site.write("articles/broken.md", "---\ntitle: [frost\n---\nText\n");
    site.write("articles/dateless.md", "Just text\n");
    let ran = site.run(&["survey"]);
    ran.says(
        1,
        &[
            "2 entries would be listed",
            "articles/broken.md: its front matter is broken YAML in line",
            "articles/dateless.md: it has no url, because “published” is missing; the file is skipped",
        ],
    );
    let frost = words(&site, "/journal/2026/frost/");
    for (field, value) in [
        ("title", "Frost on the cutting"),
        ("modified", "2026-11-21T09:00:00Z"),
        ("tags", "track"),
        ("categories", "weather"),
        ("authors", "Ifor"),
        ("images", "https://www.marrowvale.example/pictures/frost.svg"),
    ] {
        assert!(has(&frost, field, value), "{field} {value}: {frost:?}");
    }
    assert_eq!(entry(&site, "/journal/2026/spring-gala/")["section"], "journal");
    assert_eq!(entry(&site, "/journal/2026/draft/")["reason"], "draft");
    assert_eq!(entry(&site, "/journal/2026/hidden/")["reason"], "own-word");
}

#[test]
fn markdown_urls_follow_their_files_by_default() {
    let site = TestSite::new(&source("markdown", "folder = \"docs\""));
    site.write("docs/index.md", "# Home");
    site.write("docs/halts/_index.md", "# Halts");
    site.write("docs/halts/lamp works.md", "# Lampworks");
    site.build();
    assert_eq!(site.paths().into_iter().collect::<Vec<_>>(), ["/", "/halts/", "/halts/lamp%20works/"]);
}
