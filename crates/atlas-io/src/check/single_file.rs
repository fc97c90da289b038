//! A single sitemap file on disk, of which it is unknown where it will be served.

use std::path::PathBuf;

use atlas_core::address::Address;
use atlas_core::check::{FetchResult, FetchedFile, FileRequest};
use atlas_core::placement::is_packed;

use super::files::{first_listed, read_unpacked};
use super::place::SitemapPlace;

/// The address that a file has if it lists nothing that tells one.
const NOWHERE: &str = "https://site.example";

/// A file that is checked on its own.
#[derive(Debug)]
pub struct SingleFile {
    path: PathBuf,
    address: String,
    fetched: FetchResult,
}

impl SingleFile {
    /// Reads a file. Its address is taken to be at the root of the host of the first URL in it.
    pub fn read(path: PathBuf) -> Self {
        let fetched = read_unpacked(&path, is_packed(&path.to_string_lossy()));
        let first = match &fetched {
            FetchResult::Bytes(bytes) => first_listed(bytes).and_then(|url| Address::parse(&url).ok()),
            _ => None,
        };
        let origin = first.as_ref().map_or(NOWHERE, |address| address.origin()).to_owned();
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let address = format!("{origin}/{}", atlas_core::address::encode_path(&name));
        Self { path, address, fetched }
    }

    /// The address that it is taken to have.
    pub fn address(&self) -> &str {
        &self.address
    }

    /// Whether nothing in it tells where it will be served.
    pub fn is_nowhere(&self) -> bool {
        self.address.starts_with(NOWHERE)
    }

    /// What came of reading it.
    pub fn fetched(&self) -> &FetchResult {
        &self.fetched
    }
}

impl SitemapPlace for SingleFile {
    fn fetch(&self, wanted: &FileRequest) -> FetchedFile {
        if wanted.address == self.address {
            return self.fetched.clone().into();
        }
        // What an index lists may lie beside it.
        let name = wanted.address.split(['?', '#']).next().unwrap_or_default().rsplit('/').next().unwrap_or_default();
        let beside = self.path.with_file_name(name);
        match !name.is_empty() && beside.is_file() {
            true => read_unpacked(&beside, is_packed(name)).into(),
            false => FetchResult::OutOfReach.into(),
        }
    }
}
