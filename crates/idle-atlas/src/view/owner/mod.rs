//! The owner's page: every entry, including those that are left out, to be searched and sorted in a browser.

use std::path::{Path, PathBuf};

use atlas_core::address::Site;
use atlas_store::diagnostics::Listed;
use htmlize::escape_attribute;
use serde_json::json;

use crate::screen::{FAINT, STRONG, count};

const PAGE: &str = include_str!("page.html");
const STYLE: &str = include_str!("page.css");
const SCRIPT: &str = include_str!("page.js");

/// Finds pictures of the site on disk, so that the page works without a network.
pub struct Pictures<'a> {
    site: &'a Site,
    web_root: PathBuf,
    /// The relative path from the page's folder to the web root.
    way: Option<String>,
}

impl<'a> Pictures<'a> {
    /// For a site, and a page in this folder.
    pub fn new(site: &'a Site, web_root: &Path, folder: &Path) -> Self {
        let web_root = web_root.canonicalize().unwrap_or_else(|_| web_root.to_owned());
        let way = way(folder, &web_root);
        Self { site, web_root, way }
    }

    /// The address of a picture: on disk if it is there, else on the site.
    fn find(&self, image: &str) -> String {
        let on_disk = || {
            let rest = image.strip_prefix(self.site.root().as_str())?;
            let path = atlas_io::reading::relative_path(&format!("/{rest}"))?;
            self.web_root.join(path).is_file().then_some(())?;
            Some(format!("{}/{rest}", self.way.as_deref()?))
        };
        on_disk().unwrap_or_else(|| image.to_owned())
    }
}

/// The relative path between two absolute folders, as a URL.
fn way(from: &Path, to: &Path) -> Option<String> {
    let common = from.components().zip(to.components()).take_while(|(one, other)| one == other).count();
    let up = from.components().skip(common).map(|_| "..".to_owned());
    let down = to.components().skip(common).map(|part| {
        part.as_os_str().to_str().map(|part| atlas_core::address::encode_path(part).replace(['?', '#'], "_"))
    });
    let parts: Option<Vec<String>> = up.map(Some).chain(down).collect();
    let way = parts?.join("/");
    Some(if way.is_empty() { ".".to_owned() } else { way })
}

/// Makes the page; `files` is the address of the folder with the sitemap files.
pub fn page(site: &str, files: &str, entries: &[Listed], pictures: &Pictures<'_>) -> String {
    let rows = entries.iter().map(|entry| {
        json!({
            "url": entry.url,
            "title": entry.title,
            "section": entry.section,
            "reason": entry.reason.map(|reason| reason.code()),
            "why": entry.reason.map(|reason| reason.words()),
            "lastmod": entry.lastmod.or(entry.published).map(|date| date.to_string()),
            "images": entry.images,
            "videos": entry.videos,
            "picture": entry.image.as_deref().map(|image| pictures.find(image)),
            "file": entry.file,
            "sources": entry.sources,
        })
    });
    let data = serde_json::Value::Array(rows.collect()).to_string();
    // So that nothing in it can end its element.
    let data = data.replace('<', "\\u003c");
    let (site, files) = (escape_attribute(site), escape_attribute(files));
    PAGE.replace("{{site}}", &site)
        .replace("{{files}}", &files)
        .replace("{{style}}", STYLE)
        .replace("{{script}}", SCRIPT)
        .replace("{{data}}", &data)
}

/// The page that was written.
#[derive(Debug, serde::Serialize, schemars::JsonSchema)]
pub struct OwnerPage {
    pub file: PathBuf,
    pub entries: usize,
}

/// What `survey --html` says when it is done.
pub fn written(file: &Path, entries: usize) -> String {
    format!(
        "{STRONG}{} written{STRONG:#}, with {}. Open it in a browser.\n\n{FAINT}It also lists what is left out, so do not publish it.{FAINT:#}\n",
        file.display(),
        count(entries as u64, "entry", "entries")
    )
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/railway", "/railway/public", "public")]
    #[case("/railway/out", "/railway/public", "../public")]
    #[case("/railway/public", "/railway/public", ".")]
    #[case("/a", "/b c", "../b%20c")]
    fn ways(#[case] from: &str, #[case] to: &str, #[case] wanted: &str) {
        assert_eq!(way(Path::new(from), Path::new(to)).as_deref(), Some(wanted));
    }
}
