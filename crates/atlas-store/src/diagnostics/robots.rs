//! Notices about robots.txt: what it shuts out by mistake, and lines in it that lead nowhere.

use atlas_core::address;
use atlas_core::choose::Chooser;
use atlas_core::report::{Example, Notice, Noticed};
use atlas_core::robots::{Barred, ROBOTS_LIMIT};

use crate::destination::{Destination, Names, ROBOTS};
use crate::error::StoreError;
use crate::report::OtherSitemap;
use crate::settle::ReportLimits;

/// What is worth a look in robots.txt. `files` are the addresses of the sitemap files; `others` are the sitemaps that it
/// declares besides.
pub(crate) fn about_robots(
    (destination, names): (&dyn Destination, &Names),
    chooser: &Chooser,
    files: &[String],
    others: &[OtherSitemap],
    telling: ReportLimits<'_>,
) -> Result<Vec<Noticed>, StoreError> {
    let tokens = || std::iter::once("*").chain(chooser.tokens.iter().map(String::as_str));
    let barred = |path: &str| tokens().find_map(|token| chooser.robots.barred(token, path));
    let rule = |barred: Barred| Some(format!("line {}: Disallow: {}", barred.line, barred.pattern));
    let mut all = Vec::new();
    for section in chooser.sections.list().iter().filter(|section| section.on) {
        let folders = section.matching.iter().flat_map(|patterns| patterns.folders());
        let shut =
            folders.filter_map(|folder| Some(Example { detail: rule(barred(&folder)?), url: folder, page: None }));
        let shut: Vec<Example> = shut.collect();
        if !shut.is_empty() && telling.wants(Notice::SectionShut, &section.name) {
            all.push(Noticed::new(Notice::SectionShut, Some(section.name.clone()), 1, shut));
        }
    }
    let mut some = |code: Notice, found: Vec<Example>| {
        let wanted: Vec<Example> = found.into_iter().filter(|one| telling.wants(code, &one.url)).collect();
        if !wanted.is_empty() {
            let count = wanted.len() as u64;
            all.push(Noticed::new(code, None, count, wanted.into_iter().take(telling.examples.max(1)).collect()));
        }
    };
    let origin = chooser.site.root().origin();
    let own = files.iter().filter(|file| address::origin(file) == origin);
    let shut = own
        .filter_map(|file| Some(Example { detail: rule(barred(address::path(file))?), url: file.clone(), page: None }));
    some(Notice::SitemapShut, shut.collect());
    let mut dead = Vec::new();
    for OtherSitemap { line, address } in others {
        let name = address.strip_prefix(names.address.as_str()).filter(|name| !name.contains(['/', '?']));
        if let Some(name) = name
            && destination.version(name)?.is_none()
        {
            dead.push(Example { url: address.clone(), detail: Some(format!("line {line}")), page: None });
        }
    }
    some(Notice::DeadSitemapLine, dead);
    let size = destination.read(ROBOTS)?.map_or(0, |robots| robots.len());
    if size > ROBOTS_LIMIT {
        let detail = Some(format!("{} KiB", size.div_ceil(1024)));
        some(Notice::RobotsTooLarge, vec![Example { url: format!("{origin}/robots.txt"), detail, page: None }]);
    }
    Ok(all)
}
