//! What a judge of files knows beforehand.

use super::codes::FindingKind;
use super::listed::PageSample;
use super::request::{FileRequest, Origin};
use crate::accepted::Accepted;
use crate::address::Site;
use crate::lastmod::Lastmod;
use crate::placement::is_sitemap;
use crate::robots::Robots;

/// A judge of files, and what it knows beforehand.
#[derive(Debug)]
pub struct Judge<'k> {
    /// The instant of the check.
    pub(super) now: Lastmod,
    pub(super) known: &'k Accepted,
    pub(super) robots: Robots,
    /// The crawlers whose rules count: `*`, and those that the configuration names.
    pub(super) tokens: Vec<String>,
    /// The lines of the rules that shut crawlers out of the home page.
    pub(super) shut_by: Vec<usize>,
    /// The origin whose robots.txt declares the sitemaps. They may list its URLs from any host.
    pub(super) origin: String,
    /// The same as a site, for recognising its plain addresses.
    pub(super) home: Option<Site>,
    /// The address of the main file of this tool, if there is a configuration.
    pub(super) main: Option<String>,
    /// The listed URLs that the caller wants to visit.
    pub(super) sample: PageSample,
    /// Whether files may list URLs of any folder, because it is unknown where they are served.
    pub(super) anywhere: bool,
}

impl Judge<'_> {
    /// What bars engines from a path, in words, unless it shuts the whole site, which is said once.
    pub(super) fn barred(&self, path: &str) -> Option<String> {
        self.tokens.iter().find_map(|token| {
            let barred = self.robots.barred(token, path).filter(|barred| !self.shut_by.contains(&barred.line))?;
            let whom = if token == "*" { String::new() } else { format!("{token} from ") };
            Some(format!("robots.txt line {} bars {whom}it: “Disallow: {}”", barred.line, barred.pattern))
        })
    }

    /// What names a file.
    pub(super) fn named_by(&self, wanted: &FileRequest) -> String {
        match (wanted.trail.last(), wanted.origin) {
            (Some(index), _) => format!("listed in {index}"),
            (None, Origin::Declared) => "declared in robots.txt".to_owned(),
            _ if self.main.as_deref() == Some(&wanted.address) => "it is the main file of this site".to_owned(),
            _ => "it is the file to be checked".to_owned(),
        }
    }

    /// The advice for a finding that a build mends, if a build writes the file; otherwise something else.
    pub(super) fn mend(&self, kind: &FindingKind, address: &str, otherwise: &'static str) -> &'static str {
        if self.is_built(address) { kind.mend } else { otherwise }
    }

    /// Whether a build writes a file with this name.
    fn is_built(&self, address: &str) -> bool {
        let Some((folder, main)) = self.main.as_deref().and_then(|main| main.rsplit_once('/')) else { return false };
        let name = address.strip_prefix(folder).and_then(|rest| rest.strip_prefix('/'));
        name.is_some_and(|name| is_sitemap(main, name))
    }
}
