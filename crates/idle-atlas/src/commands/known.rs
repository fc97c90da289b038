//! Accepting remarks and findings: they are written into the file of known findings, and only counted from then on.

use std::{fs, io};

use atlas_core::accepted::Accepted;
use atlas_store::disk;

use crate::config::{Settings, codes};
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::view;

/// The beginning of a new file of known findings.
const HEAD: &str =
    "# Remarks and findings that are known and no longer shown: a code, and a pattern for paths or URLs.\n";

/// Accepts what has this code: where it matches these patterns, or all of it.
pub fn accept(settings: &Settings, code: &str, patterns: &[String], screen: &Screen) -> Result<Exit, Failure> {
    let lines: Vec<String> = match patterns {
        [] => vec![code.to_owned()],
        _ => patterns.iter().map(|pattern| format!("{code} {pattern}")).collect(),
    };
    let codes = codes();
    for line in &lines {
        Accepted::parse(line, &codes).map_err(|bad| Failure::said(format!("--accept: {}", bad.message)))?;
    }
    let file = &settings.known_findings;
    let failed = |error: io::Error| Failure::said(format!("cannot read {}: {error}", file.display()));
    let mut text = match fs::read_to_string(file) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => HEAD.to_owned(),
        Err(error) => return Err(failed(error)),
    };
    let new: Vec<String> = lines.into_iter().filter(|line| !text.lines().any(|known| known.trim() == line)).collect();
    if !new.is_empty() {
        if !text.ends_with('\n') {
            text.push('\n');
        }
        text.extend(new.iter().map(|line| format!("{line}\n")));
        disk::replace(file, text.as_bytes())?;
    }
    let accepting = view::survey::Accepting { file: file.display().to_string(), lines: new };
    screen.show(&accepting, || view::survey::accepting(&accepting, file, &screen.layout(settings)))?;
    Ok(Exit::Done)
}
