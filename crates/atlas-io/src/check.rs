//! Reading a web root back, the way an engine would be served from it.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use atlas_core::address::Site;
use atlas_core::inspect::{Fetched, Inspection, Report};
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::MOST_BYTES;
use atlas_store::squeeze::unpack;

use crate::serve::relative_path;

/// A folder that is served under a site's URL.
#[derive(Debug, Clone)]
pub struct WebRoot {
    /// The folder.
    pub folder: PathBuf,
    /// The site.
    pub site: Site,
    /// The robots.txt, where it is not simply in the folder.
    pub robots: Option<PathBuf>,
}

impl WebRoot {
    /// Inspects all sitemaps, starting at robots.txt; `main` is the main file of the configuration, where there is one.
    pub fn check(&self, main: Option<&str>, now: Lastmod) -> Report {
        let mut inspection = Inspection::new(now);
        let robots_address = format!("{}/robots.txt", self.site.root().origin());
        let robots = match &self.robots {
            Some(path) => read(path),
            None => self.fetch(&robots_address),
        };
        inspection.robots(&robots_address, &robots, main);
        while let Some(wanted) = inspection.next_wanted() {
            let fetched = self.fetch(&wanted.address);
            inspection.file(&wanted, &fetched);
            if let Fetched::Bytes(bytes) = &fetched
                && !wanted.is_gzip()
            {
                let copy = self.fetch(&format!("{}.gz", wanted.address));
                inspection.copies(&wanted.address, bytes, &copy);
            }
        }
        inspection.finish()
    }

    fn fetch(&self, address: &str) -> Fetched {
        let Some(path) = self.path(address) else { return Fetched::Missing };
        let fetched = read(&path);
        match fetched {
            Fetched::Bytes(bytes) if address.ends_with(".gz") => match unpack(&bytes, MOST_BYTES) {
                Ok(bytes) => Fetched::Bytes(bytes),
                Err(error) => Fetched::Broken(format!("it is no gzip file, or a broken one: {error}")),
            },
            fetched => fetched,
        }
    }

    fn path(&self, address: &str) -> Option<PathBuf> {
        let rest = address.strip_prefix(self.site.root().as_str())?;
        Some(self.folder.join(relative_path(&format!("/{rest}"))?))
    }
}

fn read(path: &Path) -> Fetched {
    let read = || -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        File::open(path)?.take(MOST_BYTES + 1).read_to_end(&mut bytes)?;
        Ok(bytes)
    };
    match read() {
        Ok(bytes) => Fetched::Bytes(bytes),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Fetched::Missing,
        Err(error) => Fetched::Broken(format!("cannot be read: {error}")),
    }
}
