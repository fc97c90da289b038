//! Where files go and what they are called.

use std::path::PathBuf;

use crate::arrange::FilePlan;
use atlas_core::placement::{index_name, packed_name};

/// For how many days a file that left the index stays on disk, unless the configuration says otherwise: for engines that still
/// hold the old index.
pub const FOLDED_DAYS: u32 = 14;

/// Whether files are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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
pub enum Form {
    /// The one and only `urlset`.
    Urlset,
    /// An index over child files.
    Index,
}

/// Where files go and what they are called.
#[derive(Debug, Clone)]
pub struct Place {
    /// The folder that sitemap files are written into: as a rule the site's web root.
    pub folder: PathBuf,
    /// The address of that folder, ending with a slash.
    pub address: String,
    /// The folder that the site is served from, where files for its visitors go.
    pub web_root: PathBuf,
    /// The address of that folder, ending with a slash.
    pub site: String,
    /// The folder for what the site's own templates include, where it is wanted.
    pub data: Option<PathBuf>,
    /// The name of the stylesheet that sitemap files name, where they name one.
    pub style: Option<&'static str>,
    /// The name of the main file.
    pub main: String,
    /// At most so many files in one index: more make a second.
    pub files_per_index: usize,
    /// For how many days a file that left the index stays on disk.
    pub folded_days: u32,
    /// Compressed copies.
    pub gzip: Gzip,
    /// The robots.txt to declare in.
    pub robots: Option<PathBuf>,
    /// It is made where there is none.
    pub create_robots: bool,
}

impl Place {
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
    pub fn listed_name(&self, file: &FilePlan, form: Form) -> String {
        match (form, self.gzip) {
            (Form::Urlset, _) => self.main.clone(),
            (Form::Index, Gzip::Only) => packed_name(&file.name()),
            (Form::Index, _) => file.name(),
        }
    }

    /// The form of the main file: once an index, always an index.
    pub fn form(&self, files: usize, was_index: bool) -> Form {
        if files <= 1 && !was_index && self.gzip != Gzip::Only { Form::Urlset } else { Form::Index }
    }

    /// The address of a file of ours, by its name in the ledger; none where it is not served.
    pub fn address_of(&self, name: &str) -> Option<String> {
        match name.split_once(':') {
            Some(("site", name)) => Some(format!("{}{name}", self.site)),
            Some(("data", _)) => None,
            _ => Some(format!("{}{name}", self.address)),
        }
    }

    /// Where a file of ours is, by its name in the ledger.
    pub fn path(&self, name: &str) -> PathBuf {
        match (name.split_once(':'), &self.data) {
            (Some(("site", name)), _) => self.web_root.join(name),
            (Some(("data", name)), Some(data)) => data.join(name),
            _ => self.folder.join(name),
        }
    }

    /// The name in the ledger of a file in the web root: a plain name, unless sitemaps are written elsewhere.
    pub fn name_in_web_root(&self, name: &str) -> String {
        if self.folder == self.web_root { name.to_owned() } else { format!("site:{name}") }
    }

    /// The names of a file's plain and compressed form, where they are wanted.
    pub(super) fn names(&self, file: &FilePlan, form: Form) -> (Option<String>, Option<String>) {
        let name = match form {
            Form::Urlset => self.main.clone(),
            Form::Index => file.name(),
        };
        let packed = packed_name(&name);
        match self.gzip {
            Gzip::Beside => (Some(name), Some(packed)),
            Gzip::Only => (None, Some(packed)),
            Gzip::Off => (Some(name), None),
        }
    }
}
