//! `check`: reads a web root the way an engine does.

use std::path::Path;

use atlas_core::finding::Severity;
use atlas_core::lastmod::Lastmod;
use atlas_io::check::WebRoot;

use crate::args;
use crate::config::{Settings, meaning};
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::view;

pub fn run(settings: &Settings, check: &args::Check, screen: &Screen) -> Result<Exit, Failure> {
    let folder = check.folder.as_deref().unwrap_or(&settings.web_root);
    if !folder.is_dir() {
        return Err(Failure::said(format!("there is no folder {}; name the web root to check", folder.display())));
    }
    let is_own = check.folder.is_none() || same_folder(folder, &settings.web_root);
    let robots = is_own.then(|| settings.robots.clone());
    let sitemaps = settings.sitemaps_elsewhere().filter(|_| is_own);
    let root = WebRoot { folder: folder.to_owned(), site: settings.site.clone(), robots, sitemaps };
    let mut report = root.check(Some(&settings.main_address()), Lastmod::from_timestamp(meaning::now()));
    let found = report.findings.len();
    report.findings.retain(|finding| !settings.accepted.holds(finding.code, &finding.file));
    let accepted = (found - report.findings.len()) as u64;
    screen.show(&report, || view::check::check(&report, folder, accepted, &screen.layout(settings)))?;
    let number = |wanted| report.findings.iter().filter(|finding| finding.severity == wanted).count() as u64;
    screen.count(&[("errors", number(Severity::Error)), ("warnings", number(Severity::Warning))]);
    let errors = report.findings.iter().any(|finding| finding.severity == Severity::Error);
    Ok(screen.exit(errors, !report.findings.is_empty()))
}

fn same_folder(one: &Path, other: &Path) -> bool {
    matches!((one.canonicalize(), other.canonicalize()), (Ok(one), Ok(other)) if one == other)
}
