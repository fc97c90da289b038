//! Checking a web root as an engine would see it.

use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use atlas_core::address::Site;
use atlas_core::check::{FetchResult, Inspection, Report};
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::{MOST_BYTES, is_packed, packed_name};
use atlas_store::disk::segmented_gzip::unpack;

use super::path::relative_path;

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
    /// Inspects all sitemaps, starting from robots.txt; `main` is the main file of the configuration, if there is one.
    pub fn check(&self, main: Option<&str>, now: Lastmod) -> Report {
        let mut inspection = Inspection::new(now);
        let robots_address = format!("{}/robots.txt", self.site.root().origin());
        let robots = match &self.robots {
            Some(path) => read(path),
            None => self.fetch(&robots_address),
        };
        inspection.robots(&robots_address, &robots, main);
        self.astray(&robots_address).iter().for_each(|address| inspection.robots_elsewhere(address));
        while let Some(wanted) = inspection.next_wanted() {
            let fetched = self.fetch(&wanted.address);
            inspection.file(&wanted, &fetched);
            if let FetchResult::Bytes(bytes) = &fetched
                && !wanted.is_gzip()
            {
                let copy = self.fetch(&packed_name(&wanted.address));
                inspection.copies(&wanted.address, bytes, &copy);
            }
        }
        inspection.finish()
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

    fn fetch(&self, address: &str) -> FetchResult {
        let Some(path) = self.path(address) else { return FetchResult::OutOfReach };
        let fetched = read(&path);
        match fetched {
            FetchResult::Bytes(bytes) if is_packed(address) => match unpack(&bytes, MOST_BYTES) {
                Ok(bytes) => FetchResult::Bytes(bytes),
                Err(error) => FetchResult::Broken(format!("it is not a gzip file, or a broken one: {error}")),
            },
            fetched => fetched,
        }
    }

    fn path(&self, address: &str) -> Option<PathBuf> {
        let own = (&self.folder, &self.site);
        let served = self.sitemaps.iter().map(|(folder, site)| (folder, site)).chain([own]);
        let mut found = served.filter_map(|(folder, site)| {
            let rest = address.strip_prefix(site.root().as_str())?;
            Some(folder.join(relative_path(&format!("/{rest}"))?))
        });
        found.next()
    }
}

fn read(path: &Path) -> FetchResult {
    let read = || -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        File::open(path)?.take(MOST_BYTES + 1).read_to_end(&mut bytes)?;
        Ok(bytes)
    };
    match read() {
        Ok(bytes) => FetchResult::Bytes(bytes),
        Err(error) if error.kind() == io::ErrorKind::NotFound => FetchResult::Missing,
        Err(error) => FetchResult::Broken(format!("cannot be read: {error}")),
    }
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
        let fetch = |name: &str| root.fetch(&format!("https://www.marrowvale.example/{name}"));
        assert!(matches!(fetch("broken.xml.gz"), FetchResult::Broken(why) if why.contains("not a gzip file")));
        assert!(matches!(fetch("folder.xml"), FetchResult::Broken(why) if why.contains("cannot be read")));
        assert_eq!(fetch("lost.xml"), FetchResult::Missing);
    }
}
