//! The files that a configuration names: one, or all that a pattern matches.

use std::io;
use std::path::{Path, PathBuf};

use atlas_store::stop::Stop;
use globset::{GlobBuilder, GlobMatcher};
use walkdir::{DirEntry, WalkDir};

#[cfg(feature = "object-stores")]
use crate::object::ObjectFile;
use crate::object::ObjectStores;
use crate::reading::input::{FoundInput, Input};

/// The characters of which one makes a text a pattern.
const PATTERN: [char; 4] = ['*', '?', '[', '{'];
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
    place: PatternBase,
    /// What the path of a file below it has to match; without it, all files that are not hidden.
    wanted: Option<GlobMatcher>,
    /// The folder as typed by the user, with `/` at the end unless it is empty.
    folder: String,
    /// The same as typed by the user.
    shown: String,
}

#[derive(Debug, Clone)]
enum PatternBase {
    Local(PathBuf),
    #[cfg(feature = "object-stores")]
    Objects(ObjectFile),
}

impl InputFiles {
    /// Parses the text in the configuration. Paths are relative to `folder`; `shown` is the text as messages may show it.
    /// Characters of patterns (`*`, `?`, `[`, `{`) make it a pattern, and `/` at the end stands for all files below.
    ///
    /// # Errors
    ///
    /// Returns a message if a pattern is not valid, or an object cannot be reached.
    pub fn parse(text: &str, shown: &str, folder: &Path, stores: &ObjectStores) -> Result<Self, String> {
        // A URL may have such characters in its query, and a file in its name.
        let is_one = text.starts_with("http://") || text.starts_with("https://") || folder.join(text).is_file();
        if is_one || !(text.contains(PATTERN) || text.ends_with('/')) {
            return Ok(Self::One(FoundInput { input: Input::parse(text, folder, stores)?, shown: shown.to_owned() }));
        }
        let (below, wanted) = cut(text);
        let wanted = (!wanted.is_empty()).then(|| matcher(wanted)).transpose()?;
        let place = match Input::parse(below, folder, stores)? {
            #[cfg(feature = "object-stores")]
            Input::Object(folder) => PatternBase::Objects(folder),
            _ => PatternBase::Local(folder.join(below)),
        };
        Ok(Self::Matching(Pattern { place, wanted, folder: below.to_owned(), shown: shown.to_owned() }))
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
            Self::Matching(Pattern { place: PatternBase::Local(folder), .. }) => Some(folder.clone()),
            #[cfg(feature = "object-stores")]
            Self::Matching(Pattern { place: PatternBase::Objects(_), .. }) => None,
        }
    }

    /// Whether reading it a second time costs as much, and may give something else.
    pub fn is_remote(&self) -> bool {
        #[cfg(feature = "object-stores")]
        return matches!(
            self,
            Self::Matching(Pattern { place: PatternBase::Objects(_), .. })
                | Self::One(FoundInput { input: Input::Object(_), .. })
        );
        #[cfg(not(feature = "object-stores"))]
        false
    }

    /// All files, in the order of their names.
    ///
    /// # Errors
    ///
    /// Returns an error if a folder cannot be read to its end, or nothing matches.
    #[cfg_attr(not(feature = "object-stores"), expect(unused_variables, reason = "only stores are waited for"))]
    pub fn find(&self, stop: &Stop) -> io::Result<Vec<FoundInput>> {
        let pattern = match self {
            Self::One(found) => return Ok(vec![found.clone()]),
            Self::Matching(pattern) => pattern,
        };
        let found = match &pattern.place {
            PatternBase::Local(folder) => pattern.local(folder)?,
            #[cfg(feature = "object-stores")]
            PatternBase::Objects(folder) => pattern.objects(folder, stop)?,
        };
        if found.is_empty() {
            let why = "no file has such a name";
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

    #[cfg(feature = "object-stores")]
    fn objects(&self, folder: &ObjectFile, stop: &Stop) -> io::Result<Vec<FoundInput>> {
        let ObjectFile { bucket, address } = folder;
        let listed = bucket.list(&address.key, stop)?;
        let found = listed.into_iter().filter_map(|object| {
            let below = object.key.strip_prefix(&address.key)?;
            // An object that ends with “/” stands for a folder.
            let is_wanted = !below.is_empty() && !below.ends_with('/') && !below.split('/').any(is_hidden);
            (is_wanted && self.wants(below)).then(|| FoundInput {
                shown: self.named(below),
                input: Input::Object(ObjectFile { bucket: bucket.clone(), address: address.at(&object.key) }),
            })
        });
        Ok(found.collect())
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
    let first = text.find(PATTERN).unwrap_or(text.len());
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
        let files = InputFiles::parse(typed, typed, folder.path(), &ObjectStores::default()).unwrap();
        let found = files.find(&Stop::default()).unwrap_or_default();
        let shown: Vec<&str> = found.iter().map(|one| one.shown.as_str()).collect();
        assert_eq!(shown, wanted);
        assert!(found.iter().all(|one| folder.path().join(&one.shown) == one.input.file().unwrap()));
    }

    #[test]
    fn a_broken_pattern_is_reported() {
        let error =
            InputFiles::parse("exports/[a.csv", "exports/[a.csv", Path::new(""), &ObjectStores::default()).unwrap_err();
        assert!(error.starts_with("“[a.csv” is not a pattern: "), "{error}");
    }
}
