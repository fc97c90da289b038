//! The source `html`: a folder of built pages.
//!
//! Each file gets the URL under which a web server delivers it: `index.html` that of its folder, any other file its own
//! path, without `.html` if the site drops it. Other documents (PDF and the like) are listed if configured.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use atlas_core::address::Site;
use atlas_core::contribution::Contribution;
use atlas_core::fingerprint::{self, PageField};
use atlas_core::links;
use atlas_core::page::{self, Page, PageReader};
use atlas_store::error::StoreError;
use atlas_store::source::{Gathering, Source};

use crate::reading::record::RecordProblem;
use crate::reading::relative_path;
use crate::sources::failed;
use crate::sources::folder::{FileReading, Files, SourceFolder, extension};
use crate::sources::oembed::Asking;

/// A folder of pages.
#[derive(Debug, Clone)]
pub struct HtmlSource {
    /// The folder.
    pub folder: SourceFolder,
    /// The site.
    pub site: Site,
    /// The path of the folder's address below the site's root: empty, or ending with a slash.
    pub below: String,
    /// The address that serves the folder, with its closing slash.
    pub address: String,
    /// Whether addresses omit `.html`.
    pub drop_html: bool,
    /// Whether a page whose canonical address is another URL is left out.
    pub heed_canonical: bool,
    /// Extensions, in lower case, of documents that are listed besides pages, such as `pdf`.
    pub documents: Vec<String>,
    /// The section of its entries.
    pub section: Option<String>,
    /// How pages are read.
    pub reader: PageReader,
    /// Where to ask about videos.
    pub asking: Arc<Asking>,
}

impl Source for HtmlSource {
    fn name(&self) -> String {
        format!("html {}", self.folder.shown)
    }

    fn settings(&self) -> u64 {
        // Not the path of the folder: the program may be run from anywhere.
        let Self { site, below, drop_html, heed_canonical, documents, section, reader, asking, folder, address: _ } =
            self;
        fingerprint::settings(&format!(
            "{} {:?} {} {below} {drop_html} {heed_canonical} {documents:?} {section:?} {} {}",
            page::VERSION,
            folder.shown,
            site.root(),
            reader.written(),
            asking.written(),
        ))
    }

    fn reads_pages(&self) -> bool {
        true
    }

    fn serves(&self) -> Option<&str> {
        Some(&self.address)
    }

    fn reads(&self) -> Option<Vec<PathBuf>> {
        Some(vec![self.folder.path.clone()])
    }

    fn page(&self, url: &str) -> Option<Vec<u8>> {
        let below = relative_path(&format!("/{}", url.strip_prefix(self.address.as_str())?))?;
        let path = self.folder.path.join(below);
        let named = path.file_name().map(|name| format!("{}.html", name.to_string_lossy()));
        let beside = named.map(|name| path.with_file_name(name));
        let files = [Some(path.join("index.html")), Some(path.join("index.htm")), Some(path), beside];
        files.into_iter().flatten().find(|file| file.is_file()).and_then(|file| fs::read(file).ok())
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let mut maps = maps(&self.reader, &self.asking, "");
        if !self.heed_canonical {
            maps.retain(|(field, _)| *field != PageField::Canonical);
        }
        gathering.maps(maps);
        let run = Self { asking: self.asking.begin(gathering.stop()), ..self.clone() };
        self.folder.gather(&run, gathering).map_err(|why| failed(self.name(), why))
    }
}

impl Files for HtmlSource {
    fn is_ours(&self, path: &Path) -> bool {
        is_page(path) || self.is_document(path)
    }

    fn address_of(&self, relative: &str) -> Option<String> {
        Some(self.site.of_file(&format!("{}{}", self.below, path_of(relative, self.drop_html))).into_string())
    }

    fn address_of_other(&self, relative: &str) -> Option<String> {
        Some(self.site.of_file(&format!("{}{relative}", self.below)).into_string())
    }

    fn read(&self, relative: &str, bytes: &[u8]) -> Result<FileReading, String> {
        let address = self.site.of_file(&format!("{}{}", self.below, path_of(relative, self.drop_html)));
        let section = self.section.clone().map(Into::into);
        if !is_page(Path::new(relative)) {
            // Only its own content tells when a document changed.
            let digest = Some(fingerprint::row(bytes));
            let contribution =
                Contribution { url: address.into_string().into(), digest, section, ..Contribution::default() };
            return Ok(FileReading { contribution, links: Vec::new(), troubles: Vec::new() });
        }
        let mut page = page::read(bytes, &address, &self.reader).map_err(|why| format!("{why}; it is not listed"))?;
        if !self.heed_canonical {
            page.canonical = None;
        }
        let mut troubles = std::mem::take(&mut page.troubles);
        troubles.extend(self.asking.complete(&mut page, &address, &self.site));
        let links = followed_links(&page, &self.site);
        let troubles = troubles.into_iter().map(RecordProblem::cell).collect();
        Ok(FileReading { contribution: Contribution { section, ..page.into_contribution(&address) }, links, troubles })
    }
}

/// How each field of a page is found, as a fingerprint. Some settings affect some fields; `more` affects all of them.
pub(crate) fn maps(reader: &PageReader, asking: &Asking, more: &str) -> Vec<(PageField, u64)> {
    let PageReader { timezone, tokens, players, lead_picture, drop_parameters } = reader;
    let how = |field: PageField| match field {
        PageField::Images => format!("{lead_picture} {}", drop_parameters.written()),
        PageField::Videos => format!("{players:?} {} {}", asking.written(), drop_parameters.written()),
        PageField::Noindex => format!("{tokens:?}"),
        PageField::Modified | PageField::Published => format!("{:?}", timezone.iana_name()),
        _ => String::new(),
    };
    PageField::ALL.iter().map(|&field| (field, fingerprint::settings(&format!("{} {more}", how(field))))).collect()
}

/// The links of a page that a crawler may follow and that stay within the site, or are meant to, packed.
pub(crate) fn followed_links(page: &Page, site: &Site) -> Vec<u8> {
    let followed = page.links.iter().filter(|link| !page.nofollow && !link.nofollow);
    let means = |address: &&str| site.holds(address) || site.respelt(address).is_some();
    let within = followed.map(|link| link.address.as_str()).filter(means);
    links::pack(within.collect())
}

impl HtmlSource {
    fn is_document(&self, path: &Path) -> bool {
        !self.documents.is_empty() && self.documents.contains(&extension(path))
    }
}

/// All pages of a folder without reading them, each with its path below the folder.
pub fn files(folder: &SourceFolder) -> Vec<(PathBuf, String)> {
    folder.walk().filter_map(Result::ok).filter(|(path, _)| is_page(path)).collect()
}

/// The path of a file's address below that of the folder: `index.html` is the folder itself, and `.html` may be
/// dropped.
pub fn path_of(relative: &str, drop_html: bool) -> &str {
    let name_at = relative.rfind('/').map_or(0, |at| at + 1);
    let (folder, name) = relative.split_at(name_at);
    match name.rsplit_once('.') {
        Some(("index", _)) => folder,
        Some((stem, extension)) if drop_html && extension.eq_ignore_ascii_case("html") => {
            &relative[..folder.len() + stem.len()]
        }
        _ => relative,
    }
}

/// Whether a file is a page, judged by its name.
pub fn is_page(path: &Path) -> bool {
    matches!(extension(path).as_str(), "html" | "htm" | "xhtml")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("index.html", "", "")]
    #[case("halts/index.html", "halts/", "halts/")]
    #[case("halts/index.htm", "halts/", "halts/")]
    #[case("fares.html", "fares.html", "fares")]
    #[case("halts/old.HTML", "halts/old.HTML", "halts/old")]
    #[case("a.b/c.xhtml", "a.b/c.xhtml", "a.b/c.xhtml")]
    fn files_become_paths(#[case] file: &str, #[case] kept: &str, #[case] dropped: &str) {
        assert_eq!(path_of(file, false), kept);
        assert_eq!(path_of(file, true), dropped);
    }
}
