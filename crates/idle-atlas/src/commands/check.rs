//! The command `check`: reads a web root as an engine does.

use std::fs;
use std::path::Path;

use atlas_core::address::{Address, Site};
use atlas_core::check::Report;
use atlas_core::format::read;
use atlas_core::lastmod::Lastmod;
use atlas_core::report::Severity;
use atlas_core::robots::sitemap_lines;
use atlas_io::live::WebRoot;
use atlas_store::destination::MAIN;

use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::session::Session;
use crate::{args, view};

pub fn run(settings: &Settings, check: &args::CheckArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let folder = check.folder.as_deref().unwrap_or(&settings.web_root);
    if !folder.is_dir() {
        return Err(Failure::said(format!("there is no folder {}; name the web root to check", folder.display())));
    }
    let is_own = check.folder.is_none() || same_folder(folder, &settings.web_root);
    let robots = settings.robots.clone().filter(|_| is_own);
    let sitemaps = settings.sitemaps_elsewhere().filter(|_| is_own);
    let root = WebRoot { folder: folder.to_owned(), site: settings.site.clone(), robots, sitemaps };
    let mut report = root.check(Some(&settings.main_address()), Lastmod::from_timestamp(session.now()));
    if is_own {
        let home = fs::read(folder.join("index.html")).ok();
        let missing = settings
            .ownership
            .missing(settings.site.root().as_str(), home.as_deref(), |name| fs::read(folder.join(name)).ok());
        report.findings.extend(missing);
    }
    let found = report.findings.len();
    report.findings.retain(|finding| !settings.accepted.holds(finding.code, &finding.file));
    let accepted = (found - report.findings.len()) as u64;
    screen.show(&report, || view::check::check(&report, folder, accepted, &screen.layout(settings)))?;
    let number = |wanted| report.findings.iter().filter(|finding| finding.severity == wanted).count() as u64;
    screen.count(&[("errors", number(Severity::Error)), ("warnings", number(Severity::Warning))]);
    Ok(exit_of(&report, screen))
}

/// Checks a folder without a configuration. The site's URL is taken from its robots.txt, or from a sitemap in it.
pub fn without_configuration(folder: &Path, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    if !folder.is_dir() {
        return Err(Failure::said(format!("there is no folder {}; name the web root to check", folder.display())));
    }
    let bytes = |name: &str| fs::read(folder.join(name)).unwrap_or_default();
    let declared = sitemap_lines(&bytes("robots.txt")).into_iter().map(|(_, address)| address);
    let main = declared.chain(listed_in(&bytes(MAIN))).find_map(|text| Address::parse(&text).ok());
    let Some(main) = main else {
        return Err(Failure::said(format!(
            "nothing in {} says what the site's URL is: neither a Sitemap line in robots.txt nor a {MAIN}. Write a configuration: idle-atlas init {}",
            folder.display(),
            folder.display()
        )));
    };
    let site = Site::parse(&format!("{}/", main.origin())).map_err(|error| Failure::said(error.to_string()))?;
    let expected = site.of_file(MAIN).into_string();
    let expected = folder.join(MAIN).is_file().then_some(expected);
    let root = WebRoot { folder: folder.to_owned(), site, robots: None, sitemaps: None };
    let report = root.check(expected.as_deref(), Lastmod::from_timestamp(session.now()));
    let layout = screen.layout_at(main.origin());
    screen.show(&report, || view::check::check(&report, folder, 0, &layout))?;
    Ok(exit_of(&report, screen))
}

/// The first address in a sitemap or an index.
fn listed_in(bytes: &[u8]) -> Option<String> {
    let mut first = None;
    // The check itself reports what is wrong with it.
    let _ = read(bytes, |url| first = first.take().or(url.loc), |_| ());
    let mut child = None;
    let _ = read(bytes, |_| (), |sitemap| child = child.take().or(sitemap.loc));
    first.or(child)
}

fn exit_of(report: &Report, screen: &Screen) -> Exit {
    let errors = report.findings.iter().any(|finding| finding.severity == Severity::Error);
    screen.exit(errors, !report.findings.is_empty())
}

fn same_folder(one: &Path, other: &Path) -> bool {
    matches!((one.canonicalize(), other.canonicalize()), (Ok(one), Ok(other)) if one == other)
}
