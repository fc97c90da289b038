//! Accepting findings: they are written into the file of known findings, and only counted from then on.

use std::collections::BTreeSet;
use std::fs;
use std::io;

use atlas_core::check::Report;
use atlas_store::disk;
use serde::Serialize;

use crate::config::{Settings, codes};
use crate::exit::{Exit, Failure};
use crate::screen::count;
use crate::session::Session;

/// What was accepted.
#[derive(Debug, Serialize)]
struct NowKnown {
    code: String,
    file: String,
    accepted: Vec<String>,
}

/// Accepts the findings with this code: about these URLs or paths, or all that there are now.
pub fn accept(
    settings: &Settings,
    report: &Report,
    code: &str,
    urls: &[String],
    session: &Session,
) -> Result<Exit, Failure> {
    let codes = codes();
    if !codes.contains(&code) {
        return Err(Failure::said(format!(
            "“{code}” is not the code of a finding or remark; the codes are {}",
            codes.join(", ")
        )));
    }
    let found = report.findings.iter().filter(|finding| finding.code == code).map(|finding| finding.about().to_owned());
    let wanted: BTreeSet<String> = match urls {
        [] => found.collect(),
        urls => urls.iter().cloned().collect(),
    };
    if wanted.is_empty() {
        return Err(Failure::said(format!(
            "check finds nothing with the code {code} now, so there is nothing to accept"
        )));
    }
    let file = &settings.known_findings;
    let text = match fs::read_to_string(file) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => String::new(),
        Err(error) => return Err(Failure::said(format!("cannot read {}: {error}", file.display()))),
    };
    let known: BTreeSet<&str> = text.lines().map(str::trim).collect();
    let lines: Vec<String> = wanted.iter().map(|about| format!("{code} {}", escaped(about))).collect();
    let new: Vec<&String> = lines.iter().filter(|line| !known.contains(line.as_str())).collect();
    let mut whole = text.clone();
    if !whole.is_empty() && !whole.ends_with('\n') {
        whole.push('\n');
    }
    new.iter().for_each(|line| whole += &format!("{line}\n"));
    disk::replace(file, whole.as_bytes())?;
    let accepted = NowKnown {
        code: code.to_owned(),
        file: file.display().to_string(),
        accepted: new.iter().map(|line| line[code.len() + 1..].to_owned()).collect(),
    };
    let number = accepted.accepted.len() as u64;
    session.screen.show(&accepted, || match number {
        0 => format!("All of them were accepted before; {} stays as it is.\n", file.display()),
        _ => format!(
            "Accepted {} with the code {code}, each by its URL; written to {}.\nWhat appears elsewhere will still be shown. To show them again, delete their lines.\n",
            count(number, "finding", "findings"),
            file.display()
        ),
    })?;
    Ok(Exit::Done)
}

/// An address as a pattern that matches it alone.
fn escaped(about: &str) -> String {
    about.chars().fold(String::new(), |mut pattern, letter| {
        match letter {
            '*' | '?' | '[' | ']' | '{' | '}' => pattern.extend(['[', letter, ']']),
            letter => pattern.push(letter),
        }
        pattern
    })
}
