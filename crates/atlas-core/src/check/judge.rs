//! What a judge of files knows beforehand.

use super::codes::FindingKind;
use super::listed::PageSample;
use super::request::{FileRequest, Origin};
use crate::accepted::Accepted;
use crate::address::Site;
use crate::lastmod::Lastmod;
use crate::placement::is_sitemap;
use crate::robots::{Barred, Robots};

/// A judge of files, and what it knows beforehand.
#[derive(Debug)]
pub struct Judge<'k> {
    /// The instant of the check.
    pub(super) now: Lastmod,
    pub(super) known: &'k Accepted,
    pub(super) robots: Robots,
    /// The line of the rule that shuts engines out of the home page, if there is one.
    pub(super) shut_by: Option<usize>,
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
    /// The rule that bars engines from a path, unless it shuts the whole site, which is said once.
    pub(super) fn barred(&self, path: &str) -> Option<Barred> {
        self.robots.barred("*", path).filter(|barred| self.shut_by != Some(barred.line))
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
