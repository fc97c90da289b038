//! The documentation covers everything that the program may report.

use atlas_core::choose::Reason;
use atlas_core::report::Notice;
use atlas_store::report::Guard;

const REPORTS: &str = include_str!("../../../../docs/reports.md");

/// Whether a row of a table begins with this code.
fn is_told(code: &str) -> bool {
    REPORTS.lines().any(|line| line.starts_with(&format!("| `{code}` ")))
}

#[test]
fn every_guard_reason_and_remark_is_told() {
    let notices = Notice::ALL.map(|notice| serde_json::to_value(notice).unwrap().as_str().unwrap().to_owned());
    let guards = Guard::ALL.map(|guard| guard.code().to_owned());
    let reasons = Reason::ALL.map(|reason| reason.code().to_owned());
    for code in guards.iter().chain(&reasons).chain(&notices) {
        assert!(is_told(code), "docs/reports.md says nothing of {code}");
    }
    let rows = REPORTS.lines().filter(|line| line.starts_with("| `")).count();
    assert_eq!(rows, guards.len() + reasons.len() + notices.len(), "docs/reports.md tells of one that there is not");
}

#[test]
fn every_exit_code_is_told_in_the_pages_and_in_help() {
    for code in ["| 0 |", "| 1 |", "| 2 |", "| 3 |", "| 130 |"] {
        assert!(REPORTS.contains(code), "{code}");
    }
    let help = crate::support::TestSite::new("").run(&["--help"]).out;
    for words in ["0 done, remarks or not", "1 done in part", "3 held back by a guard", "--strict"] {
        assert!(help.contains(words), "{words}: {help}");
    }
}
