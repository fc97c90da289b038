//! The names of the files, and the addresses that serve them.

use atlas_core::placement::{MOST_FILES, index_name, is_packed, packed_name, parts_of, plain_name};
use serde::Serialize;

/// The name of the main file, unless the configuration says otherwise.
pub const MAIN: &str = "sitemap.xml";
/// For how many days a file that left the index stays on disk, for engines that still have the old index, unless the
/// configuration says otherwise.
pub const FOLDED_DAYS: u32 = 14;

/// Whether files are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum Gzip {
    /// `.xml.gz` beside each `.xml`.
    Beside,
    /// Only `.xml.gz`.
    Only,
    /// Only `.xml`.
    Off,
}

impl Gzip {
    /// Its word in the configuration and the ledger.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Beside => "beside",
            Self::Only => "only",
            Self::Off => "off",
        }
    }
}

/// What the main file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MainFile {
    /// The only `urlset`.
    Urlset,
    /// An index over child files.
    Index,
}

/// The names of the files, and the addresses that serve them, wherever they are stored.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Names {
    /// The address of the folder with the sitemap files, with its closing slash.
    pub address: String,
    /// The address of the web root, with its closing slash.
    pub site: String,
    /// Whether sitemap files are written into the web root itself.
    pub in_web_root: bool,
    /// The name of the stylesheet of sitemap files, if they have one.
    pub style: Option<&'static str>,
    /// The name of the main file.
    pub main: String,
    /// The most files in one index. If there are more, another index is written.
    pub files_per_index: usize,
    /// For how many days a file that left the index stays on disk.
    pub folded_days: u32,
    /// Whether files are compressed.
    pub gzip: Gzip,
    /// Whether sitemaps are declared in robots.txt.
    pub declares: bool,
    /// Whether robots.txt is created if it does not exist.
    pub create_robots: bool,
}

impl Names {
    /// The names for a site whose sitemap files are in its web root, which is served under `address`: uncompressed,
    /// with the default main file, and nothing else.
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

    /// The names of the indexes for this many files: the main file, then `sitemap-2.xml` and so on, derived from its
    /// name.
    pub(crate) fn index_names(&self, files: usize) -> Vec<String> {
        let files = files.div_ceil(self.files_per_index.max(1)).max(1);
        (1..=files).map(|number| index_name(&self.main, number)).collect()
    }

    /// The addresses to submit and to declare: the main file, and further indexes.
    pub(crate) fn index_addresses(&self, files: usize) -> Vec<String> {
        self.index_names(files).iter().map(|name| format!("{}{name}", self.address)).collect()
    }

    /// The name by which an index lists a file.
    pub(crate) fn listed_name(&self, file: &str, form: MainFile) -> String {
        match (form, self.gzip) {
            (MainFile::Urlset, _) => self.main.clone(),
            (MainFile::Index, Gzip::Only) => packed_name(file),
            (MainFile::Index, _) => file.to_owned(),
        }
    }

    /// What the main file is. Once an index, it stays an index.
    pub fn form(&self, files: usize, was_index: bool) -> MainFile {
        if files <= 1 && !was_index && self.gzip != Gzip::Only { MainFile::Urlset } else { MainFile::Index }
    }

    /// The address of a file by its name in the ledger; `None` if it is not served.
    pub fn address_of(&self, name: &str) -> Option<String> {
        match name.split_once(':') {
            Some(("site", name)) => Some(format!("{}{name}", self.site)),
            Some(("data", _)) => None,
            _ => Some(format!("{}{name}", self.address)),
        }
    }

    /// Whether a file with this name is one that an index leads to: in its compressed form if only that is written.
    pub fn is_child(&self, name: &str) -> bool {
        parts_of(plain_name(name)).is_some() && is_packed(name) == (self.gzip == Gzip::Only)
    }

    /// The name in the ledger of a file in the web root: a plain name, unless sitemaps are written elsewhere.
    pub(crate) fn name_in_web_root(&self, name: &str) -> String {
        if self.in_web_root { name.to_owned() } else { format!("site:{name}") }
    }

    /// The names of a file's plain and compressed forms, if they are written.
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
