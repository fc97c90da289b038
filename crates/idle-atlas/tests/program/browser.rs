//! Pages for visitors, opened in a browser: nothing overflows, and an accessibility checker finds no serious fault.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;

use crate::support::TestSite;

/// The script of the accessibility checker, which the project's own checks provide.
const AXE: &str = "IDLE_ATLAS_AXE";

/// Opens a page in a window of this size and returns the result of a script on it.
fn look(folder: &Path, page: &Path, size: &str) -> Value {
    let axe = fs::read_to_string(std::env::var_os(AXE).unwrap_or_else(|| panic!("{AXE} names axe.min.js"))).unwrap();
    let look = "window.addEventListener('load', () => axe.run().then(found => {
        const wide = document.documentElement.scrollWidth - document.documentElement.clientWidth;
        const faults = found.violations.map(one => [one.impact, one.id, one.nodes.length, one.nodes[0].html]);
        const left = document.createElement('pre');
        left.id = 'left-behind';
        left.textContent = JSON.stringify({ wide, faults, passes: found.passes.length });
        document.body.append(left);
    }));";
    let html = fs::read_to_string(page).unwrap();
    let copy = page.with_file_name("looked-at.html");
    fs::write(&copy, html.replace("</head>", &format!("<script>{axe}</script><script>{look}</script></head>")))
        .unwrap();
    let output = Command::new("chromium")
        .args(["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--dump-dom"])
        .args(["--disable-background-networking", "--disable-component-update", "--disable-sync"])
        .args(["--virtual-time-budget=20000", &format!("--window-size={size}")])
        .arg(format!("--user-data-dir={}", folder.join("profile").display()))
        .arg(format!("file://{}", copy.display()))
        .output()
        .unwrap();
    let dom = String::from_utf8(output.stdout).unwrap();
    let left =
        dom.split("<pre id=\"left-behind\">").nth(1).unwrap_or_else(|| panic!("nothing was left behind:\n{dom}"));
    let left = left.split("</pre>").next().unwrap();
    let left = left.replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&");
    serde_json::from_str(&left).unwrap()
}

#[test]
#[ignore = "needs Chromium and axe-core"]
fn visitor_pages_are_accessible_and_fit_their_window() {
    let site = TestSite::sample();
    site.build();
    site.run(&["survey", "--html", "owner.html"]).says(0, &["written"]);
    let line = |path: &str, agent: &str| {
        format!("127.0.0.1 - - [20/Nov/2026:10:00:00 +0000] \"GET {path} HTTP/1.1\" 200 5 \"-\" \"{agent}\"\n")
    };
    site.write("access.log", line("/fares/", "lampbot/1.0") + &line("/old/", "lampbot/1.0") + &line("/", "wickbot/2"));
    let rows = ["/,Picked up", "/fares/,Not indexed", "/staff/rota/,Excluded", "/old/,Picked up"]
        .map(|row| format!("https://www.marrowvale.example{row},7\n"));
    site.write("lamp.csv", format!("URL,State,Impressions\n{}", rows.concat()));
    site.run(&["uptake", "access.log", "lamp.csv", "--engine", "lamp"]).says(0, &["1 picked up"]);
    site.run(&["report", "report.html"]).says(0, &["written"]);
    site.run(&["--each", "idle-atlas.toml", "report", "sites.html"]).says(0, &["written"]);
    // Opened, so that everything in it is looked at.
    site.write("sites.html", site.read("sites.html").replace("<details", "<details open"));
    let profile = tempfile::tempdir().unwrap();
    let both: &[&str] = &["1280,800", "390,844"];
    let pages: [(PathBuf, &[&str]); 4] = [
        (site.path("public/atlas.html"), both),
        (site.path("report.html"), both),
        (site.path("sites.html"), both),
        (site.path("owner.html"), &["1280,800"]),
    ];
    for (page, sizes) in pages {
        for size in sizes {
            let found = look(profile.path(), &page, size);
            assert!(found["passes"].as_u64().unwrap() > 5, "{found}");
            let serious = |fault: &&Value| fault[0] == "serious" || fault[0] == "critical";
            let serious: Vec<&Value> = found["faults"].as_array().unwrap().iter().filter(serious).collect();
            assert!(serious.is_empty(), "{} at {size}: {serious:#?}", page.display());
            assert_eq!(found["wide"], 0, "{} runs over at {size}", page.display());
        }
    }
}
