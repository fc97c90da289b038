//! The files that a configuration names: one, or all that a pattern matches.

use std::io;
use std::path::{Path, PathBuf};

use atlas_store::stop::Stop;
use globset::{GlobBuilder, GlobMatcher};
use walkdir::{DirEntry, WalkDir};

use crate::reading::input::{FoundInput, Input};

/// The most files that a pattern may match. A pattern that matches more was meant otherwise.
const MOST: usize = 1_000_000;

/// Where to read from: one file, or several.
#[derive(Debug, Clone)]
pub enum InputFiles {
    /// One.
    One(FoundInput),
    /// The files that match a pattern, in the order of their names.
    Matching(Pattern),
}

/// A pattern over the paths of files.
#[derive(Debug, Clone)]
pub struct Pattern {
    /// The folder below which files are looked for.
    place: Folder,
    /// What the path of a file below it has to match; without it, all files that are not hidden.
    wanted: Option<GlobMatcher>,
    /// The folder as typed by the user, with `/` at the end unless it is empty.
    folder: String,
    /// The same as typed by the user.
    shown: String,
}

#[derive(Debug, Clone)]
enum Folder {
    Local(PathBuf),
}

impl InputFiles {
    /// Parses the text in the configuration. Paths are relative to `folder`; `shown` is the text as messages may show it.
    /// Characters of patterns (`*`, `?`, `[`, `{`) make it a pattern, and `/` at the end stands for all files below.
    ///
    /// # Errors
    ///
    /// Returns a message if a pattern is not valid.
    pub fn parse(text: &str, shown: &str, folder: &Path) -> Result<Self, String> {
        let input = Input::parse(text, folder);
        let is_path = input.file().is_some();
        // A file may have a name with such characters in it.
        let is_there = input.file().is_some_and(Path::is_file);
        let is_pattern = text.contains(['*', '?', '[', '{']) || text.ends_with('/');
        if !is_path || is_there || !is_pattern {
            return Ok(Self::One(FoundInput { input, shown: shown.to_owned() }));
        }
        let (below, wanted) = cut(text);
        let wanted = (!wanted.is_empty()).then(|| matcher(wanted)).transpose()?;
        Ok(Self::Matching(Pattern {
            place: Folder::Local(folder.join(below)),
            wanted,
            folder: below.to_owned(),
            shown: shown.to_owned(),
        }))
    }

    /// The one input, unless it is a pattern.
    pub fn one(&self) -> Option<&Input> {
        match self {
            Self::One(found) => Some(&found.input),
            Self::Matching(_) => None,
        }
    }

    /// The same as typed by the user.
    pub fn shown(&self) -> &str {
        match self {
            Self::One(found) => &found.shown,
            Self::Matching(pattern) => &pattern.shown,
        }
    }

    /// The local file or folder whose changes tell that there is something else to read.
    pub fn watched(&self) -> Option<PathBuf> {
        match self {
            Self::One(found) => found.input.file().map(Path::to_owned),
            Self::Matching(Pattern { place: Folder::Local(folder), .. }) => Some(folder.clone()),
        }
    }

    /// All files, in the order of their names.
    ///
    /// # Errors
    ///
    /// Returns an error if a folder cannot be read to its end, or nothing matches.
    pub fn find(&self, _stop: &Stop) -> io::Result<Vec<FoundInput>> {
        let pattern = match self {
            Self::One(found) => return Ok(vec![found.clone()]),
            Self::Matching(pattern) => pattern,
        };
        let found = match &pattern.place {
            Folder::Local(folder) => pattern.local(folder)?,
        };
        if found.is_empty() {
            let why = "there is no such file; correct “file” in the configuration";
            return Err(io::Error::new(io::ErrorKind::NotFound, why));
        }
        Ok(found)
    }
}

impl Pattern {
    fn local(&self, folder: &Path) -> io::Result<Vec<FoundInput>> {
        let is_shown = |entry: &DirEntry| entry.depth() == 0 || !is_hidden(&entry.file_name().to_string_lossy());
        let walk = WalkDir::new(folder).follow_links(true).sort_by_file_name().into_iter().filter_entry(is_shown);
        let mut found = Vec::new();
        for entry in walk {
            let entry = entry.map_err(unreadable)?;
            if !entry.file_type().is_file() {
                continue;
            }
            let below = entry.path().strip_prefix(folder).unwrap_or(entry.path()).to_string_lossy().replace('\\', "/");
            if self.wants(&below) {
                found.push(FoundInput { input: Input::File(entry.path().to_owned()), shown: self.named(&below) });
                if found.len() > MOST {
                    return Err(io::Error::other(format!("more than {MOST} files match")));
                }
            }
        }
        Ok(found)
    }

    fn wants(&self, below: &str) -> bool {
        self.wanted.as_ref().is_none_or(|wanted| wanted.is_match(below))
    }

    fn named(&self, below: &str) -> String {
        format!("{}{below}", self.folder)
    }
}

/// The system's own words, after the path if it is not the folder itself.
fn unreadable(error: walkdir::Error) -> io::Error {
    let path = error.path().filter(|_| error.depth() > 0).map(|path| format!("{}: ", path.display()));
    match (error.io_error().map(io::Error::kind), path) {
        (Some(kind), Some(path)) => io::Error::new(kind, format!("{path}{error}")),
        (Some(_), None) => error.into_io_error().unwrap_or_else(|| io::ErrorKind::Other.into()),
        (None, _) => io::Error::other(error.to_string()),
    }
}

/// Whether a file or folder is not meant for readers: programs that write tables leave `_SUCCESS` and `.crc` files.
fn is_hidden(name: &str) -> bool {
    // Folders that give a column may have a name that begins so.
    name.starts_with('.') || (name.starts_with('_') && !name.contains('='))
}

/// The folder before a pattern, with its `/`, and the pattern.
fn cut(text: &str) -> (&str, &str) {
    let first = text.find(['*', '?', '[', '{']).unwrap_or(text.len());
    text.split_at(text[..first].rfind('/').map_or(0, |slash| slash + 1))
}

fn matcher(pattern: &str) -> Result<GlobMatcher, String> {
    let glob = GlobBuilder::new(pattern).literal_separator(true).build();
    glob.map(|glob| glob.compile_matcher()).map_err(|error| format!("“{pattern}” is not a pattern: {}", error.kind()))
}

#[cfg(test)]
mod tests {
    use std::fs;

    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::one("a.csv", &["a.csv"])]
    #[case::some("*.csv", &["a.csv", "b [old].csv"])]
    #[case::any_depth("exports/**/*.csv", &["exports/year=2025/c.csv", "exports/year=2026/c.csv"])]
    #[case::one_level("exports/*.csv", &[])]
    #[case::a_folder("exports/", &["exports/year=2025/c.csv", "exports/year=2026/c.csv", "exports/year=2026/d.txt"])]
    #[case::a_name_that_looks_like_a_pattern("b [old].csv", &["b [old].csv"])]
    fn files_by_name(#[case] typed: &str, #[case] wanted: &[&str]) {
        let folder = tempfile::tempdir().unwrap();
        let all = [
            "a.csv",
            "b [old].csv",
            "exports/year=2026/c.csv",
            "exports/year=2025/c.csv",
            "exports/year=2026/d.txt",
            "exports/_SUCCESS",
            "exports/year=2026/.c.csv.crc",
            "exports/_temporary/0/c.csv",
        ];
        for file in all {
            let path = folder.path().join(file);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, "url\n").unwrap();
        }
        let files = InputFiles::parse(typed, typed, folder.path()).unwrap();
        let found = files.find(&Stop::default()).unwrap_or_default();
        let shown: Vec<&str> = found.iter().map(|one| one.shown.as_str()).collect();
        assert_eq!(shown, wanted);
        assert!(found.iter().all(|one| folder.path().join(&one.shown) == one.input.file().unwrap()));
    }

    #[test]
    fn a_broken_pattern_is_reported() {
        let error = InputFiles::parse("exports/[a.csv", "exports/[a.csv", Path::new("")).unwrap_err();
        assert!(error.starts_with("“[a.csv” is not a pattern: "), "{error}");
    }
}
