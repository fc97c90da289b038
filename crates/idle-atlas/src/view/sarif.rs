//! Findings as SARIF, the format in which build servers take the results of checks (OASIS, Static Analysis Results
//! Interchange Format 2.1.0).

use std::path::PathBuf;

use atlas_core::check::{FindingKind, Report, kinds};
use atlas_core::report::{Finding, Severity};
use serde_json::{Value, json};

/// The document; `path` finds the file on disk with an address.
pub fn document(report: &Report, path: &dyn Fn(&str) -> Option<PathBuf>) -> String {
    let met: Vec<&FindingKind> =
        kinds().filter(|kind| report.findings.iter().any(|finding| finding.code == kind.code)).collect();
    let results: Vec<Value> = report.findings.iter().map(|finding| result(finding, &met, path)).collect();
    let document = json!({
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": {
                "name": "idle-atlas",
                "version": env!("CARGO_PKG_VERSION"),
                "rules": met.iter().map(|kind| rule(kind)).collect::<Vec<_>>(),
            }},
            "results": results,
        }],
    });
    format!("{document:#}\n")
}

fn level(severity: Severity) -> &'static str {
    match severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
        Severity::Advice => "note",
    }
}

fn rule(kind: &FindingKind) -> Value {
    json!({
        "id": kind.code,
        "shortDescription": { "text": kind.means },
        "help": { "text": kind.mend },
        "defaultConfiguration": { "level": level(kind.severity) },
    })
}

fn result(finding: &Finding, met: &[&FindingKind], path: &dyn Fn(&str) -> Option<PathBuf>) -> Value {
    let about = finding.url.as_ref().map_or(String::new(), |url| format!("{url}: "));
    let mut result = json!({
        "ruleId": finding.code,
        "ruleIndex": met.iter().position(|kind| kind.code == finding.code),
        "level": level(finding.severity),
        "message": { "text": format!("{about}{}. {}", finding.what, finding.mend) },
    });
    if let Some(place) = finding.file.as_ref().or(finding.url.as_ref()) {
        let file = path(place).map_or(place.clone(), |path| path.display().to_string().replace('\\', "/"));
        let mut location = json!({ "artifactLocation": { "uri": file } });
        if let Some(line) = finding.line {
            location["region"] = json!({ "startLine": line });
        }
        result["locations"] = json!([{ "physicalLocation": location }]);
    }
    result
}
