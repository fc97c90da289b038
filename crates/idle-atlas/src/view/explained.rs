//! The page about one kind of finding: `check --explain`.

use atlas_core::check::{FindingKind, kinds};
use atlas_core::report::Severity;
use serde_json::{Value, json};

use crate::screen::{BAD, FAINT, STRONG, WARN};

/// Similar codes are proposed from this likeness on.
const LIKE: f64 = 0.75;

/// The page.
pub fn page(kind: &FindingKind) -> String {
    let style = match kind.severity {
        Severity::Error => BAD,
        Severity::Warning => WARN,
        Severity::Advice => FAINT,
    };
    let example =
        kind.example.lines().map(|line| format!("{}\n", format!("    {line}").trim_end())).collect::<String>();
    format!(
        "{STRONG}{}{STRONG:#} ({style}{}{style:#})\n\n{}\n\n{FAINT}For example{FAINT:#}\n{example}\n{FAINT}What to do{FAINT:#}\n  {}\n",
        kind.code, kind.severity, kind.means, kind.mend
    )
}

/// The same for programs.
pub fn document(kind: &FindingKind) -> Value {
    json!({
        "code": kind.code,
        "severity": kind.severity,
        "means": kind.means,
        "example": kind.example,
        "mend": kind.mend,
    })
}

/// The proposal for a code that does not exist.
pub fn nearest(code: &str) -> String {
    let likeness = |known: &str| strsim::jaro_winkler(known, code);
    let nearest = kinds().map(|kind| kind.code).max_by(|one, other| likeness(one).total_cmp(&likeness(other)));
    nearest.filter(|known| likeness(known) > LIKE).map_or(String::new(), |known| format!(" (did you mean “{known}”?)"))
}
