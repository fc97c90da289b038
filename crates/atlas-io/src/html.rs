//! The source `html`: a folder of built pages.
//!
//! Each file becomes the URL under which a web server gives it out: `index.html` its folder's, any other its own path,
//! without `.html` where the site drops it. Hidden files, and links that lead back into themselves, are left alone.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use atlas_core::address::Site;
use atlas_core::contribution::{Row, Said};
use atlas_core::fingerprint;
use atlas_core::page::{self, Page, Reader};
use atlas_store::arrival::{BLOCK_BYTES, Block};
use atlas_store::disk;
use atlas_store::error::StoreError;
use atlas_store::source::{Gathering, Learnt, Problem, Source, Stamp};
use rayon::prelude::*;
use walkdir::{DirEntry, WalkDir};

/// The largest file that is read as a page.
const LARGEST_PAGE: u64 = 32 * 1024 * 1024;
/// How many files are read at a time: their bytes are never all in memory.
const BATCH: usize = 512;
/// A file touched this shortly before it is read may be touched again within the same tick of the file system's clock: it
/// is read again the next time.
const FRESH: i64 = 2_000_000_000;

/// A folder of pages.
#[derive(Debug, Clone)]
pub struct HtmlFolder {
    /// The folder.
    pub folder: PathBuf,
    /// The folder as the user wrote it.
    pub shown: String,
    /// The site.
    pub site: Site,
    /// The path of the folder's address below the site's root: empty, or ending with a slash.
    pub below: String,
    /// Whether addresses go without `.html`.
    pub drop_html: bool,
    /// Whether a page that names another URL as its canonical one is taken at its word.
    pub heed_canonical: bool,
    /// The section of its entries.
    pub section: Option<String>,
    /// How pages are read.
    pub reader: Reader,
}

/// What came of a file.
enum Read1 {
    Met(Vec<u8>),
    Learnt(String, Learnt),
    Problem(Problem),
}

impl Source for HtmlFolder {
    fn name(&self) -> String {
        format!("html {}", self.shown)
    }

    fn settings(&self) -> u64 {
        // Not the folder as it is seen from here: the program may be run from anywhere.
        let Self { site, below, drop_html, heed_canonical, section, reader, shown, folder: _ } = self;
        fingerprint::settings(&format!(
            "{} {shown:?} {} {below} {drop_html} {heed_canonical} {section:?} {:?} {:?}",
            page::VERSION,
            site.root(),
            reader.tokens,
            reader.timezone.iana_name(),
        ))
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        if !self.folder.is_dir() {
            let why = format!("there is no folder {}; correct “folder” in the configuration", self.folder.display());
            return Err(StoreError::Source { name: self.name(), why });
        }
        let mut files = Vec::with_capacity(BATCH);
        for found in self.walk() {
            match found {
                Ok(file) => files.push(file),
                Err(problem) => gathering.problem(problem),
            }
            if files.len() == BATCH {
                self.read_batch(&mut files, gathering);
            }
        }
        self.read_batch(&mut files, gathering);
        Ok(())
    }
}

impl HtmlFolder {
    /// All pages below the folder, in the order of their names.
    fn walk(&self) -> impl Iterator<Item = Result<(PathBuf, String), Problem>> + '_ {
        let visible = |entry: &DirEntry| entry.depth() == 0 || !is_hidden(entry);
        let walk = WalkDir::new(&self.folder).follow_links(true).sort_by_file_name().into_iter();
        walk.filter_entry(visible).filter_map(|found| match found {
            Ok(entry) if entry.file_type().is_file() && is_page(entry.path()) => self.relative(entry.path()).map(Ok),
            Ok(_) => None,
            Err(error) if error.loop_ancestor().is_some() => None,
            Err(error) => {
                let path = error.path().unwrap_or(&self.folder).to_owned();
                let missing_target = error.io_error().is_some_and(|error| error.kind() == io::ErrorKind::NotFound);
                let is_about_a_page = !missing_target || is_page(&path);
                let message = match error.io_error() {
                    Some(_) if missing_target => {
                        "it is a link to a file that is not there; mend or remove the link".to_owned()
                    }
                    Some(error) => format!("cannot be read: {error}"),
                    None => error.to_string(),
                };
                is_about_a_page.then(|| Err(self.problem(&path, message)))
            }
        })
    }

    fn relative(&self, path: &Path) -> Option<(PathBuf, String)> {
        let relative = path.strip_prefix(&self.folder).ok()?;
        let parts: Vec<_> = relative.components().map(|part| part.as_os_str().to_string_lossy()).collect();
        Some((path.to_owned(), parts.join("/")))
    }

    fn problem(&self, path: &Path, message: String) -> Problem {
        let relative = path.strip_prefix(&self.folder).unwrap_or(path);
        Problem { file: Path::new(&self.shown).join(relative).display().to_string(), line: None, message }
    }

    fn read_batch(&self, files: &mut Vec<(PathBuf, String)>, gathering: &mut Gathering<'_>) {
        let remembering = &*gathering;
        let read: Vec<Read1> = files
            .par_drain(..)
            .map(|(path, relative)| match self.read(&path, &relative, remembering) {
                Ok(read) => read,
                Err(error) => Read1::Problem(self.problem(&path, format!("cannot be read: {error}"))),
            })
            .collect();
        let mut block = Block::new(gathering.seed());
        for one in read {
            match one {
                Read1::Met(row) => {
                    gathering.met_again();
                    block.push_bytes(&row);
                }
                Read1::Learnt(path, learnt) => {
                    block.push_bytes(&learnt.row);
                    gathering.learn(path, learnt);
                }
                Read1::Problem(problem) => gathering.problem(problem),
            }
            if block.len() * 300 > BLOCK_BYTES {
                gathering.push(std::mem::replace(&mut block, Block::new(gathering.seed())));
            }
        }
        gathering.push(block);
    }

    fn read(&self, path: &Path, relative: &str, gathering: &Gathering<'_>) -> io::Result<Read1> {
        let file = File::open(path)?;
        let stamp = disk::stamp_of(&file.metadata()?);
        if let Some(row) = gathering.remembered(relative, stamp) {
            return Ok(Read1::Met(row.to_vec()));
        }
        if stamp.size > LARGEST_PAGE {
            let message = format!("{} bytes are too many for a page ({LARGEST_PAGE} at most)", stamp.size);
            return Ok(Read1::Problem(self.problem(path, message)));
        }
        let mut bytes = Vec::with_capacity(stamp.size as usize);
        file.take(LARGEST_PAGE).read_to_end(&mut bytes)?;
        let address = self.site.of_file(&format!("{}{}", self.below, path_of(relative, self.drop_html)));
        let page = match page::read(&bytes, &address, &self.reader) {
            Ok(page) if self.heed_canonical => page,
            Ok(page) => Page { canonical: None, ..page },
            Err(why) => return Ok(Read1::Problem(self.problem(path, format!("{why}; it is not listed")))),
        };
        let said = Said { section: self.section.as_deref().map(Into::into), ..page.into_said(&address) };
        let mut row = Vec::new();
        Row::write(&mut row, &said);
        let stamp = if is_fresh(stamp) { Stamp { size: u64::MAX, modified: 0 } } else { stamp };
        Ok(Read1::Learnt(relative.to_owned(), Learnt { stamp, row }))
    }

    /// All pages, without reading them: each with its path below the folder.
    pub fn files(&self) -> Vec<(PathBuf, String)> {
        self.walk().filter_map(Result::ok).collect()
    }
}

/// The path of a file's address below its folder's: `index.html` is the folder itself, and `.html` may be dropped.
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

fn is_hidden(entry: &DirEntry) -> bool {
    entry.file_name().to_string_lossy().starts_with('.')
}

/// Whether a file is a page by its name.
pub fn is_page(path: &Path) -> bool {
    let extension = path.extension().map(|extension| extension.to_string_lossy().to_ascii_lowercase());
    extension.is_some_and(|extension| matches!(extension.as_str(), "html" | "htm" | "xhtml"))
}

fn is_fresh(stamp: Stamp) -> bool {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    now.map_or(true, |now| stamp.modified > i64::try_from(now.as_nanos()).unwrap_or(i64::MAX) - FRESH)
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
