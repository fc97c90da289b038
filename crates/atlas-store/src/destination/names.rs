//! What files are called, and where engines and visitors find them.

use atlas_core::placement::{MOST_FILES, index_name, packed_name};
use serde::Serialize;

/// The name of the main file, unless the configuration says otherwise.
pub const MAIN: &str = "sitemap.xml";
/// For how many days a file that left the index stays on disk, unless the configuration says otherwise: for engines that still
/// hold the old index.
pub const FOLDED_DAYS: u32 = 14;

/// Whether files are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum Gzip {
    /// `.xml.gz` next to each `.xml`.
    Beside,
    /// `.xml.gz` alone.
    Only,
    /// `.xml` alone.
    Off,
}

/// What the main file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MainFile {
    /// The one and only `urlset`.
    Urlset,
    /// An index over child files.
    Index,
}

/// What files are called, and the addresses under which they are served, wherever they lie.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Names {
    /// The address of the folder with the sitemap files, ending with a slash.
    pub address: String,
    /// The address of the web root, ending with a slash.
    pub site: String,
    /// Sitemap files are written into the web root itself.
    pub in_web_root: bool,
    /// The name of the stylesheet that sitemap files name, where they name one.
    pub style: Option<&'static str>,
    /// The name of the main file.
    pub main: String,
    /// At most so many files in one index: more make a second.
    pub files_per_index: usize,
    /// For how many days a file that left the index stays.
    pub folded_days: u32,
    /// Compressed copies.
    pub gzip: Gzip,
    /// Sitemaps are declared in robots.txt.
    pub declares: bool,
    /// It is made where there is none.
    pub create_robots: bool,
}

impl Names {
    /// The names of a site whose sitemap files lie in its web root, which is served under `address`: plain files and a usual main
    /// file, nothing else.
    pub fn of(address: &str) -> Self {
        Self {
            address: address.to_owned(),
            site: address.to_owned(),
            in_web_root: true,
            style: None,
            main: MAIN.to_owned(),
            files_per_index: MOST_FILES,
            folded_days: FOLDED_DAYS,
            gzip: Gzip::Off,
            declares: false,
            create_robots: false,
        }
    }

    /// The address of the main file.
    pub fn main_address(&self) -> String {
        format!("{}{}", self.address, self.main)
    }

    /// The names of the indexes over so many files: the main file, then `sitemap-2.xml` and so on, by its name.
    pub fn index_names(&self, files: usize) -> Vec<String> {
        let files = files.div_ceil(self.files_per_index.max(1)).max(1);
        (1..=files).map(|number| index_name(&self.main, number)).collect()
    }

    /// The addresses to submit and to declare: that of the main file, and those of further indexes.
    pub fn index_addresses(&self, files: usize) -> Vec<String> {
        self.index_names(files).iter().map(|name| format!("{}{name}", self.address)).collect()
    }

    /// The name under which an index lists a file.
    pub fn listed_name(&self, file: &str, form: MainFile) -> String {
        match (form, self.gzip) {
            (MainFile::Urlset, _) => self.main.clone(),
            (MainFile::Index, Gzip::Only) => packed_name(file),
            (MainFile::Index, _) => file.to_owned(),
        }
    }

    /// The form of the main file: once an index, always an index.
    pub fn form(&self, files: usize, was_index: bool) -> MainFile {
        if files <= 1 && !was_index && self.gzip != Gzip::Only { MainFile::Urlset } else { MainFile::Index }
    }

    /// The address of a file of ours, by its name in the ledger; none where it is not served.
    pub fn address_of(&self, name: &str) -> Option<String> {
        match name.split_once(':') {
            Some(("site", name)) => Some(format!("{}{name}", self.site)),
            Some(("data", _)) => None,
            _ => Some(format!("{}{name}", self.address)),
        }
    }

    /// The name in the ledger of a file in the web root: a plain name, unless sitemaps are written elsewhere.
    pub fn name_in_web_root(&self, name: &str) -> String {
        if self.in_web_root { name.to_owned() } else { format!("site:{name}") }
    }

    /// The names of a file's plain and compressed form, where they are wanted.
    pub(crate) fn names(&self, file: &str, form: MainFile) -> (Option<String>, Option<String>) {
        let name = match form {
            MainFile::Urlset => self.main.clone(),
            MainFile::Index => file.to_owned(),
        };
        let packed = packed_name(&name);
        match self.gzip {
            Gzip::Beside => (Some(name), Some(packed)),
            Gzip::Only => (None, Some(packed)),
            Gzip::Off => (Some(name), None),
        }
    }
}
