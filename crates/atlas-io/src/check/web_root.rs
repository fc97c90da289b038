//! A web root as an engine would see it.

use std::fs;
use std::path::{Path, PathBuf};

use atlas_core::address::{Address, Site};
use atlas_core::check::{FetchResult, FetchedFile, FileRequest, Inspection, PackedCopy, is_sitemap};
use atlas_core::placement::{is_packed, packed_name, plain_name};
use atlas_store::error::StoreError;
use atlas_store::stop::Stop;

use super::files::{compared, first_listed, head, read, read_unpacked};
use super::place::{SitemapPlace, inspect};
use crate::reading::relative_path;

/// The most files of a folder that are searched for sitemaps that nothing leads to.
const MOST_SEARCHED: usize = 100_000;

/// A folder that is served under a site's URL.
#[derive(Debug, Clone)]
pub struct WebRoot {
    /// The folder.
    pub folder: PathBuf,
    /// The site.
    pub site: Site,
    /// The robots.txt, if it is not in that folder.
    pub robots: Option<PathBuf>,
    /// Another folder and its URL, if the sitemaps are not in the site's own folder.
    pub sitemaps: Option<(PathBuf, Site)>,
}

impl WebRoot {
    /// Inspects all sitemaps, starting from robots.txt; `main` is the main file of the configuration, if there is one,
    /// and `is_retired` says which files are known to be out of the index for a while.
    ///
    /// # Errors
    ///
    /// Returns [`StoreError::Interrupted`] if it was asked to stop.
    pub fn inspect(
        &self,
        inspection: &mut Inspection<'_>,
        main: Option<&str>,
        is_retired: &dyn Fn(&str) -> bool,
        stop: &Stop,
    ) -> Result<(), StoreError> {
        let robots_address = format!("{}/robots.txt", self.site.root().origin());
        let robots = match &self.robots {
            Some(path) => read(path),
            None => self.result(&robots_address),
        };
        inspection.robots(&robots_address, &robots.into(), main);
        self.astray(&robots_address).iter().for_each(|address| inspection.robots_elsewhere(address));
        inspect(inspection, self, stop)?;
        for (folder, site) in self.folders() {
            let named = may_be_sitemaps(folder).into_iter().map(|name| (site.of_file(&name).into_string(), name));
            let unmet = named.filter(|(address, name)| !is_retired(name) && !inspection.leads_to(address));
            let stray: Vec<String> =
                unmet.filter(|(_, name)| is_sitemap(&head(&folder.join(name)))).map(|(address, _)| address).collect();
            stray.iter().for_each(|address| inspection.lies_there(address));
        }
        Ok(())
    }

    /// The names and addresses of all sitemap files, whether anything leads to them or not.
    pub fn sitemaps(&self) -> Vec<(String, String)> {
        let of = |(folder, site): (&PathBuf, &Site)| {
            sitemaps_in(folder).into_iter().map(|name| (site.of_file(&name).into_string(), name)).collect::<Vec<_>>()
        };
        self.folders().flat_map(of).map(|(address, name)| (name, address)).collect()
    }

    /// The addresses of robots.txt files where no engine looks: that of the folder itself, if the site is in a folder of
    /// its host, and those of the folders in it.
    fn astray(&self, robots_address: &str) -> Vec<String> {
        let folders = fs::read_dir(&self.folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let files = folders.chain([self.folder.clone()]).map(|folder| folder.join("robots.txt"));
        let address = |file: &Path| {
            let below = file.strip_prefix(&self.folder).ok()?.to_str()?.replace('\\', "/");
            Some(format!("{}{below}", self.site.root()))
        };
        let there = files.filter(|file| file.is_file()).filter_map(|file| address(&file));
        let mut astray: Vec<String> = there.filter(|address| address != robots_address).collect();
        astray.sort();
        astray
    }

    /// The folders that may hold sitemaps, with their URLs.
    fn folders(&self) -> impl Iterator<Item = (&PathBuf, &Site)> {
        let elsewhere = self.sitemaps.iter().map(|(folder, site)| (folder, site));
        elsewhere.chain([(&self.folder, &self.site)])
    }

    fn result(&self, address: &str) -> FetchResult {
        let Some(path) = self.path(address) else { return FetchResult::OutOfReach };
        read_unpacked(&path, is_packed(address))
    }

    /// The file with an address.
    pub fn path(&self, address: &str) -> Option<PathBuf> {
        let mut found = self.folders().filter_map(|(folder, site)| {
            let rest = address.strip_prefix(site.root().as_str())?;
            Some(folder.join(relative_path(&format!("/{rest}"))?))
        });
        found.next()
    }
}

impl SitemapPlace for WebRoot {
    fn fetch(&self, wanted: &FileRequest) -> FetchedFile {
        let result = self.result(&wanted.address);
        let copy = match &result {
            FetchResult::Bytes(bytes) if !wanted.is_gzip() => {
                self.path(&packed_name(&wanted.address)).map_or(PackedCopy::Absent, |path| compared(&path, bytes))
            }
            _ => PackedCopy::Absent,
        };
        FetchedFile { result, answer: None, copy }
    }
}

/// The names of the files in a folder that are sitemaps, in order.
fn sitemaps_in(folder: &Path) -> Vec<String> {
    let named = may_be_sitemaps(folder).into_iter();
    named.filter(|name| is_sitemap(&head(&folder.join(name)))).collect()
}

/// The names of the files in a folder that could be sitemaps, in order.
fn may_be_sitemaps(folder: &Path) -> Vec<String> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten().take(MOST_SEARCHED);
    let named = entries.filter_map(|entry| entry.file_name().into_string().ok());
    let may_be = |name: &String| plain_name(name).to_ascii_lowercase().ends_with(".xml");
    let mut names: Vec<String> = named.filter(may_be).collect();
    names.sort();
    names
}

/// The site that a folder without a configuration belongs to: that of the first address in its robots.txt or in a
/// sitemap in it.
pub fn site_of(folder: &Path) -> Option<Site> {
    let robots = fs::read(folder.join("robots.txt")).unwrap_or_default();
    let declared = atlas_core::robots::sitemap_lines(&robots).into_iter().map(|(_, address)| address);
    let listed = sitemaps_in(folder).into_iter().filter_map(|name| {
        let FetchResult::Bytes(bytes) = read_unpacked(&folder.join(&name), is_packed(&name)) else { return None };
        first_listed(&bytes)
    });
    let first = declared.chain(listed).find_map(|text| Address::parse(&text).ok())?;
    Site::parse(&format!("{}/", first.origin())).ok()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::host_root("https://www.marrowvale.example/", "https://www.marrowvale.example/a/b.xml", Some("a/b.xml"))]
    #[case::in_a_folder(
        "https://www.marrowvale.example/rail/",
        "https://www.marrowvale.example/rail/b.xml",
        Some("b.xml")
    )]
    #[case::outside("https://www.marrowvale.example/rail/", "https://www.marrowvale.example/b.xml", None)]
    #[case::other_host("https://www.marrowvale.example/", "https://cdn.example/b.xml", None)]
    #[case::upwards("https://www.marrowvale.example/", "https://www.marrowvale.example/..%2Fb.xml", None)]
    fn addresses_become_files_of_the_web_root(#[case] site: &str, #[case] address: &str, #[case] wanted: Option<&str>) {
        let root = WebRoot { folder: "public".into(), site: Site::parse(site).unwrap(), robots: None, sitemaps: None };
        assert_eq!(root.path(address), wanted.map(|path| Path::new("public").join(path)));
    }

    #[test]
    fn kinds_of_failure_are_distinguished() {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("broken.xml.gz"), b"lamp oil").unwrap();
        fs::create_dir(folder.path().join("folder.xml")).unwrap();
        let site = Site::parse("https://www.marrowvale.example/").unwrap();
        let root = WebRoot { folder: folder.path().to_owned(), site, robots: None, sitemaps: None };
        let fetch = |name: &str| root.result(&format!("https://www.marrowvale.example/{name}"));
        assert!(matches!(fetch("broken.xml.gz"), FetchResult::Broken(why) if why.contains("not a gzip file")));
        assert!(matches!(fetch("folder.xml"), FetchResult::Broken(why) if why.contains("cannot be read")));
        assert_eq!(fetch("lost.xml"), FetchResult::Missing);
    }
}
