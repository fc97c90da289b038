//! The documentation covers everything that the program may report.

use std::fs;
use std::path::PathBuf;

use atlas_store::report::Guard;
use regex::Regex;

const REPORTS: &str = include_str!("../../../../docs/reports.md");
const ARCHITECTURE: &str = include_str!("../../../../docs/architecture.md");
const CONTRIBUTING: &str = include_str!("../../../../CONTRIBUTING.md");

/// Whether a row of a table begins with this code.
fn is_told(code: &str) -> bool {
    REPORTS.lines().any(|line| line.starts_with(&format!("| `{code}` ")))
}

#[test]
fn every_guard_is_documented() {
    let guards = Guard::ALL.map(|guard| guard.code().to_owned());
    for code in &guards {
        assert!(is_told(code), "docs/reports.md says nothing of {code}");
    }
    let rows = REPORTS.lines().filter(|line| line.starts_with("| `")).count();
    assert_eq!(rows, guards.len(), "docs/reports.md tells of one that there is not");
}

#[test]
fn every_exit_code_is_documented_and_in_help() {
    for code in ["| 0 |", "| 1 |", "| 2 |", "| 3 |", "| 130 |"] {
        assert!(REPORTS.contains(code), "{code}");
    }
    let help = crate::support::TestSite::new("").run(&["--help"]).out;
    for words in ["0 done, remarks or not", "1 done in part", "3 held back by a guard", "--strict"] {
        assert!(help.contains(words), "{words}: {help}");
    }
}

#[test]
fn every_path_and_test_that_the_pages_for_developers_name_exists() {
    let crates = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("..");
    let path = Regex::new(r"`((?:atlas-(?:core|store|io)|idle-atlas)/[^`]+)`").unwrap();
    let mut named = 0;
    for found in [ARCHITECTURE, CONTRIBUTING].iter().flat_map(|page| path.captures_iter(page)) {
        named += 1;
        let written = &found[1];
        assert!(written.contains("NAME") || crates.join(written).exists(), "{written} does not exist");
    }
    assert!(named > 100, "only {named} paths were read");
    let tests = Regex::new(r"`([^`]+\.rs)`: ((?:`[a-z_0-9]+`(?:, )?)+)").unwrap();
    let name = Regex::new(r"`([a-z_0-9]+)`").unwrap();
    let mut found = 0;
    for row in tests.captures_iter(ARCHITECTURE) {
        let code = fs::read_to_string(crates.join(&row[1])).unwrap();
        for test in name.captures_iter(&row[2]) {
            found += 1;
            assert!(code.contains(&format!("fn {}(", &test[1])), "{} has no test {}", &row[1], &test[1]);
        }
    }
    assert!(found >= 18, "only {found} tests were read");
}

/// The newest row about the ledger's format is as the program writes it.
#[test]
fn the_format_of_the_ledger_is_documented() {
    let site = crate::support::TestSite::new(crate::support::HTML);
    site.page("index.html", "Home", "Tea");
    site.build();
    let ledger = fs::read_dir(site.path(".idle-atlas")).unwrap().flatten().map(|entry| entry.path());
    let formats = ledger.filter_map(|path| {
        let connection = rusqlite::Connection::open(&path).ok()?;
        connection.pragma_query_value(None, "user_version", |row| row.get::<_, i64>(0)).ok()
    });
    let format = formats.max().unwrap();
    let row = format!("| {} | {format} |", env!("CARGO_PKG_VERSION"));
    let page = include_str!("../../../../docs/reference/ledger.md");
    let rows: Vec<&str> = page.lines().filter(|line| line.starts_with("| 0") || line.starts_with("| 1")).collect();
    assert_eq!(rows.last(), Some(&row.as_str()));
}
