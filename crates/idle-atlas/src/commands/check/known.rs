//! Accepting findings by their code and URL, so that the same thing elsewhere is still shown.

use std::collections::BTreeSet;

use atlas_core::check::Report;

use crate::commands::known;
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::session::Session;

/// Accepts the findings with this code: about these URLs or paths, or all that there are now.
pub fn accept(
    settings: &Settings,
    report: &Report,
    code: &str,
    urls: &[String],
    session: &Session,
) -> Result<Exit, Failure> {
    let found = report.findings.iter().filter(|finding| finding.code == code).map(|finding| finding.about().to_owned());
    let wanted: BTreeSet<String> = match urls {
        [] => found.collect(),
        urls => urls.iter().cloned().collect(),
    };
    if wanted.is_empty() {
        let message = format!("check finds nothing with the code “{code}” now, so there is nothing to accept");
        return Err(Failure::said(message));
    }
    if let Some(more) = report.more.get(code).filter(|_| urls.is_empty()) {
        let message = format!(
            "{more} more places with the code {code} are not among them; accept them with a pattern: idle-atlas check --accept {code} \"/folder/**\""
        );
        session.screen.complain("in part", &message);
    }
    let patterns: Vec<String> = wanted.iter().map(|about| escaped(about)).collect();
    known::accept(settings, code, &patterns, &session.screen)
}

/// An address as a pattern that matches it alone. What is typed as a pattern stays one.
fn escaped(about: &str) -> String {
    let is_address = about.starts_with("http://") || about.starts_with("https://");
    about.chars().fold(String::new(), |mut pattern, letter| {
        match letter {
            '?' | '[' | ']' | '{' | '}' if is_address => pattern.extend(['[', letter, ']']),
            letter => pattern.push(letter),
        }
        pattern
    })
}
