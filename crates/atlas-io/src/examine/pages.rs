//! A look at a folder of built pages: whose they are, how they are addressed, and what they contain.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use atlas_core::address::{Address, Site, encode_path};
use atlas_core::page::{Page, PageReader, read};

use super::known::KnownPaths;
use crate::sources::folder::{SourceFolder, extension};
use crate::sources::html::{self, path_of};

/// How many pages are read to find the site's URL.
const SAMPLE: usize = 300;
/// How many pages of a folder are read to see whether any of them would be listed.
const FOLDER_SAMPLE: usize = 20;
/// Names of folders in which a generator or a server keeps built pages.
const WEB_ROOTS: [&str; 10] = ["public", "dist", "_site", "site", "www", "htdocs", "html", "web", "out", "build"];
/// Files that only a server can turn into a page.
const SCRIPTS: [&str; 7] = ["php", "asp", "aspx", "jsp", "cgi", "cfm", "pl"];

/// What a folder of pages contains.
#[derive(Debug, Default)]
pub struct PageFolderFacts {
    /// The number of pages.
    pub pages: usize,
    /// The folders directly below it, most pages first.
    pub folders: Vec<TopFolder>,
    /// The addresses of its pages, by their paths.
    pub known: KnownPaths,
    /// The site's URL that more than half of the pages with a canonical link agree on; how many agree; and how many have
    /// such a link.
    pub site: Option<(Site, usize, usize)>,
    /// One of the canonical links, if most of them are not below the site at the URL that was asked for.
    pub other_canonical: Option<String>,
    /// Whether canonical links omit `.html`.
    pub drop_html: bool,
    /// Whether pages have categories; likewise publication dates, translations, and videos without linked data.
    pub has_categories: bool,
    /// Whether pages have publication dates.
    pub has_dates: bool,
    /// Whether pages have translations.
    pub has_translations: bool,
    /// Whether pages have videos without linked data.
    pub has_bare_videos: bool,
    /// The publisher of news that pages describe as linked data.
    pub publisher: Option<NewsPublisher>,
    /// The number of documents, by extension.
    pub documents: BTreeMap<String, usize>,
    /// The number of files that only a server can turn into a page.
    pub scripts: usize,
    /// Whether the home page is empty until a script has run.
    pub needs_script: bool,
}

/// A folder directly below a folder of pages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TopFolder {
    /// Its name.
    pub name: String,
    /// The number of pages.
    pub pages: usize,
    /// Whether a build would list any of those that were read.
    pub is_listed: bool,
}

/// Who publishes the articles on the pages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewsPublisher {
    /// The folder directly below the web root that most of its articles are in.
    pub folder: String,
    /// Its name, if linked data names it.
    pub name: Option<String>,
    /// The language of the articles.
    pub language: Option<String>,
}

/// The folders in this folder that may be web roots: those with the usual names and pages, or files that a server turns
/// into pages, most first.
pub fn page_folders(folder: &Path) -> Vec<(String, usize)> {
    let pages = |name: &&str| {
        let below = SourceFolder { path: folder.join(name), shown: String::new() };
        let is_one = |path: &Path| html::is_page(path) || SCRIPTS.contains(&extension(path).as_str());
        let pages =
            if below.path.is_dir() { below.walk().flatten().filter(|(path, _)| is_one(path)).count() } else { 0 };
        (pages > 0).then(|| ((*name).to_owned(), pages))
    };
    let mut found: Vec<(String, usize)> = WEB_ROOTS.iter().filter_map(pages).collect();
    found.sort_by_key(|(_, pages)| std::cmp::Reverse(*pages));
    found
}

/// Looks at a folder of pages. `url` is the site's URL, if it is known; `documents` are extensions of documents that can
/// be listed.
pub fn look_at_folder(folder: &Path, url: Option<&Site>, documents: &[&str]) -> PageFolderFacts {
    let placeholder = Site::parse("https://placeholder.example/");
    let Ok(placeholder) = placeholder else { return PageFolderFacts::default() };
    let below = SourceFolder { path: folder.to_owned(), shown: folder.display().to_string() };
    let files = html::files(&below);
    let mut facts = PageFolderFacts { pages: files.len(), ..PageFolderFacts::default() };
    let reader = PageReader::default();
    let mut votes = Votes::default();
    let step = files.len().div_ceil(SAMPLE).max(1);
    for (path, relative) in files.iter().step_by(step) {
        let Ok(bytes) = fs::read(path) else { continue };
        let Ok(page) = read(&bytes, &placeholder.of_file(relative), &reader) else { continue };
        facts.has_categories |= !page.categories.is_empty();
        facts.has_dates |= page.published.is_some();
        facts.has_translations |= !page.alternates.is_empty();
        facts.has_bare_videos |= !page.videos.is_empty() && page.stated_videos.is_empty();
        facts.needs_script |= relative == "index.html" && page.needs_script();
        votes.page(&page, relative, &placeholder);
        if facts.publisher.is_none() && is_news(&bytes) {
            facts.publisher = relative.split_once('/').map(|(top, _)| NewsPublisher {
                folder: top.to_owned(),
                name: publisher_name(&bytes),
                language: page.language.clone(),
            });
        }
    }
    facts.drop_html = votes.without > votes.with;
    facts.site = votes.site();
    facts.other_canonical = url.and_then(|url| votes.other_canonical(url));
    for (_, relative) in &files {
        facts.known.add(&format!("/{}", path_of(relative, facts.drop_html)));
    }
    facts.folders = top_folders(&files, &reader, &placeholder, facts.site.as_ref().map(|(site, ..)| site).or(url));
    for (path, _) in below.walk().flatten() {
        let kind = extension(&path);
        facts.scripts += usize::from(SCRIPTS.contains(&kind.as_str()));
        if documents.contains(&kind.as_str()) && path.file_name().is_none_or(|name| name != "robots.txt") {
            *facts.documents.entry(kind).or_default() += 1;
        }
    }
    facts
}

/// The folders directly below the web root with their pages, largest first.
fn top_folders(
    files: &[(PathBuf, String)],
    reader: &PageReader,
    placeholder: &Site,
    site: Option<&Site>,
) -> Vec<TopFolder> {
    let mut tops: BTreeMap<&str, Vec<&(PathBuf, String)>> = BTreeMap::new();
    for file in files {
        if let Some((top, _)) = file.1.split_once('/') {
            tops.entry(top).or_default().push(file);
        }
    }
    let is_listed = |(path, relative): &(PathBuf, String)| {
        let Ok(bytes) = fs::read(path) else { return false };
        let own = site.unwrap_or(placeholder).of_file(path_of(relative, false));
        let Ok(page) = read(&bytes, &own, reader) else { return false };
        let bare = |path: &str| path.trim_end_matches('/').trim_end_matches(".html").to_owned();
        let is_elsewhere = page.canonical.as_ref().is_some_and(|canonical| {
            site.is_some_and(|site| !site.holds(canonical.as_str())) || bare(canonical.path()) != bare(own.path())
        });
        page.noindex.is_none() && page.refresh.is_none() && !is_elsewhere
    };
    let mut folders: Vec<TopFolder> = tops
        .into_iter()
        .map(|(name, files)| TopFolder {
            name: name.to_owned(),
            pages: files.len(),
            is_listed: files.iter().step_by(files.len().div_ceil(FOLDER_SAMPLE)).any(|file| is_listed(file)),
        })
        .collect();
    folders.sort_by_key(|folder| std::cmp::Reverse(folder.pages));
    folders
}

/// Whether a page says in linked data that it is a news article.
fn is_news(page: &[u8]) -> bool {
    memchr::memmem::find(page, b"\"NewsArticle\"").is_some()
}

/// The name of the publisher in linked data.
fn publisher_name(page: &[u8]) -> Option<String> {
    let at = memchr::memmem::find(page, b"\"publisher\"")?;
    let text = String::from_utf8_lossy(&page[at..page.len().min(at + 600)]).into_owned();
    let object = &text[..text.find('}')?];
    let (_, rest) = object.split_once("\"name\"")?;
    serde_json::Deserializer::from_str(rest.trim_start().strip_prefix(':')?).into_iter::<String>().next()?.ok()
}

/// What pages say about their addresses.
#[derive(Default)]
struct Votes {
    /// One of the canonical links, for messages.
    example: Option<Address>,
    roots: BTreeMap<String, usize>,
    with: usize,
    without: usize,
    stated: usize,
}

impl Votes {
    fn page(&mut self, page: &Page, relative: &str, placeholder: &Site) {
        let canonical = page.canonical.as_ref();
        if let Some(canonical) = canonical.filter(|canonical| canonical.origin() != placeholder.root().origin()) {
            self.stated += 1;
            self.count(canonical, relative);
            self.example.get_or_insert_with(|| canonical.clone());
        }
    }

    fn count(&mut self, canonical: &Address, relative: &str) {
        let encoded = encode_path(path_of(relative, false));
        let dropped = encode_path(path_of(relative, true));
        if let Some(root) = canonical.as_str().strip_suffix(&encoded).filter(|root| root.ends_with('/')) {
            self.with += usize::from(encoded != dropped);
            *self.roots.entry(root.to_owned()).or_default() += 1;
        } else if let Some(root) = canonical.as_str().strip_suffix(&dropped).filter(|root| root.ends_with('/')) {
            self.without += 1;
            *self.roots.entry(root.to_owned()).or_default() += 1;
        }
    }

    /// The root that more than half of the pages which state one agree on.
    fn site(&self) -> Option<(Site, usize, usize)> {
        let (root, count) = self.roots.iter().max_by_key(|(_, count)| **count)?;
        let site = Site::parse(root).ok()?;
        (count * 2 > self.stated).then_some((site, *count, self.stated))
    }

    /// A canonical link, if most of them are not on this site. If they counted, everything would be left out.
    fn other_canonical(&self, site: &Site) -> Option<String> {
        let agree = self.roots.get(site.root().as_str()).copied().unwrap_or(0);
        let example = self.example.as_ref().filter(|_| agree * 2 < self.stated)?;
        Some(example.as_str().to_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder(files: &[(&str, &str)]) -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        for (name, text) in files {
            let path = folder.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        folder
    }

    #[test]
    fn canonicals_vote_for_the_root() {
        let mut votes = Votes { stated: 3, ..Votes::default() };
        let address = |text: &str| Address::parse(text).unwrap();
        votes.count(&address("https://www.marrowvale.example/cy/"), "cy/index.html");
        votes.count(&address("https://www.marrowvale.example/fares"), "fares.html");
        votes.count(&address("https://old.marrowvale.example/x/y.html"), "z.html");
        let (site, agree, stated) = votes.site().unwrap();
        assert_eq!((site.root().as_str(), agree, stated), ("https://www.marrowvale.example/", 2, 3));
        assert!(votes.without > votes.with);
    }

    #[test]
    fn what_lies_in_a_folder() {
        let folder = folder(&[
            ("index.html", "<main>Home</main>"),
            ("hidden/a.html", "<meta name=robots content=noindex><main>A"),
            (
                "news/a.html",
                "<html lang=en><script type='application/ld+json'>{\"@type\": \"NewsArticle\", \"publisher\": {\"@type\": \"Organization\", \"name\": \"The Marrow Vale Gazette\"}}</script><main>Gala",
            ),
            ("news/b.html", "<main>Ice"),
            ("leaflets/fares.pdf", "%PDF"),
            ("robots.txt", ""),
            ("search.php", "<?php"),
        ]);
        let facts = look_at_folder(folder.path(), None, &["pdf", "txt"]);
        assert_eq!((facts.pages, facts.scripts), (4, 1));
        assert_eq!(facts.documents, BTreeMap::from([("pdf".to_owned(), 1)]));
        let folders: Vec<(&str, usize, bool)> =
            facts.folders.iter().map(|one| (one.name.as_str(), one.pages, one.is_listed)).collect();
        assert_eq!(folders, [("news", 2, true), ("hidden", 1, false)]);
        let publisher = facts.publisher.unwrap();
        assert_eq!((publisher.folder.as_str(), publisher.name.as_deref()), ("news", Some("The Marrow Vale Gazette")));
        assert_eq!(publisher.language.as_deref(), Some("en"));
    }
}
