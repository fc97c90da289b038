//! Noticing that files change.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use notify::event::{AccessKind, AccessMode, ModifyKind};
use notify::{ErrorKind, Event, EventKind, RecommendedWatcher, RecursiveMode, Watcher};
use thiserror::Error;

/// The most paths that are remembered of a burst. What goes beyond is only counted.
const MOST_PATHS: usize = 10_000;

/// Why files cannot be watched.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum WatchError {
    /// The system watches no more folders.
    #[error("the system watches no more folders; allow more of them: sysctl fs.inotify.max_user_watches=1048576")]
    TooMany,
    /// A file or folder is not there, or may not be read.
    #[error("{path} cannot be watched: {why}", path = path.display())]
    Path {
        /// Its path.
        path: PathBuf,
        /// What happened.
        why: String,
    },
}

/// What has changed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct FilesChanged {
    /// The paths: up to 10,000 of them.
    pub paths: BTreeSet<PathBuf>,
    /// Whether more has changed than is known.
    pub is_more: bool,
}

impl FilesChanged {
    /// Whether nothing has changed.
    pub fn is_empty(&self) -> bool {
        self.paths.is_empty() && !self.is_more
    }
}

/// What the watcher's thread has seen.
#[derive(Debug, Default)]
struct Heard {
    changed: Mutex<FilesChanged>,
    rang: Condvar,
}

/// Watches files, and folders with everything below them, also through symbolic links.
pub struct FileWatch {
    heard: Arc<Heard>,
    /// Dropped with it, its thread ends.
    _watcher: RecommendedWatcher,
}

impl FileWatch {
    /// Watches these files and folders. Hidden files do not count, and neither does `aside` with what is below it.
    ///
    /// # Errors
    ///
    /// Returns a [`WatchError`] if one of them cannot be watched.
    pub fn new(wanted: &[PathBuf], aside: &Path) -> Result<Self, WatchError> {
        let heard = Arc::<Heard>::default();
        let filter = PathFilter::of(wanted, aside)?;
        let folders = filter.folders();
        let listener = { move |heard: &Heard, event: notify::Result<Event>| filter.hear(heard, event) };
        let hearing = Arc::clone(&heard);
        let watcher = notify::recommended_watcher(move |event| listener(&hearing, event));
        let mut watcher = watcher.map_err(|error| of(error, Path::new("")))?;
        for (folder, mode) in &folders {
            watcher.watch(folder, *mode).map_err(|error| of(error, folder))?;
        }
        Ok(Self { heard, _watcher: watcher })
    }

    /// Waits until something changes, but not longer than this. Returns what has changed since the last call.
    pub fn wait(&self, longest: Duration) -> FilesChanged {
        let end = Instant::now() + longest;
        let mut changed = self.heard.changed.lock().unwrap_or_else(PoisonError::into_inner);
        while changed.is_empty() {
            let left = end.saturating_duration_since(Instant::now());
            if left.is_zero() {
                break;
            }
            (changed, _) = self.heard.rang.wait_timeout(changed, left).unwrap_or_else(PoisonError::into_inner);
        }
        std::mem::take(&mut *changed)
    }
}

/// Which events count.
#[derive(Debug)]
struct PathFilter {
    /// Folders that are watched with everything below them.
    trees: Vec<PathBuf>,
    /// Single files, by folder.
    files: BTreeMap<PathBuf, BTreeSet<OsString>>,
    aside: PathBuf,
}

impl PathFilter {
    fn of(wanted: &[PathBuf], aside: &Path) -> Result<Self, WatchError> {
        let whole = |path: &Path| path.canonicalize().unwrap_or_else(|_| path.to_owned());
        let mut filter = Self { trees: Vec::new(), files: BTreeMap::new(), aside: whole(aside) };
        for path in wanted {
            if path.is_dir() {
                filter.trees.push(whole(path));
                continue;
            }
            // A file that is written again as a whole is another file: its folder tells. So does the folder of the one
            // that a link leads to.
            let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
            if !folder.is_dir() {
                let why = "it is not there".to_owned();
                return Err(WatchError::Path { path: path.clone(), why });
            }
            let link = path.file_name().map(|name| (whole(folder), name.to_owned()));
            let target = path.canonicalize().ok();
            let target = target.and_then(|target| Some((target.parent()?.to_owned(), target.file_name()?.to_owned())));
            for (folder, name) in link.into_iter().chain(target) {
                filter.files.entry(folder).or_default().insert(name);
            }
        }
        // A folder that is removed and made again is another folder, of which the one around it tells.
        for tree in &filter.trees {
            if let (Some(folder), Some(name)) = (tree.parent(), tree.file_name()) {
                filter.files.entry(folder.to_owned()).or_default().insert(name.to_owned());
            }
        }
        Ok(filter)
    }

    /// What to watch, and how.
    fn folders(&self) -> Vec<(PathBuf, RecursiveMode)> {
        let is_below = |folder: &Path, of: &Path| folder != of && folder.starts_with(of);
        let trees = self.trees.iter().filter(|tree| !self.trees.iter().any(|other| is_below(tree, other)));
        let is_in_a_tree = |folder: &Path| self.trees.iter().any(|tree| folder.starts_with(tree));
        let files = self.files.keys().filter(|folder| !is_in_a_tree(folder));
        let trees = trees.map(|tree| (tree.clone(), RecursiveMode::Recursive));
        trees.chain(files.map(|folder| (folder.clone(), RecursiveMode::NonRecursive))).collect()
    }

    fn hear(&self, heard: &Heard, event: notify::Result<Event>) {
        let Ok(event) = event else { return self.note(heard, [], true) };
        let is_change = match event.kind {
            // A file that is being written counts once it is closed, too.
            EventKind::Access(AccessKind::Close(AccessMode::Write)) => true,
            EventKind::Access(_) | EventKind::Modify(ModifyKind::Metadata(_)) => false,
            _ => true,
        };
        let needs_rescan = event.need_rescan();
        if is_change || needs_rescan {
            self.note(heard, event.paths.into_iter().filter(|path| self.counts(path)), needs_rescan);
        }
    }

    fn note(&self, heard: &Heard, paths: impl IntoIterator<Item = PathBuf>, is_more: bool) {
        let mut changed = heard.changed.lock().unwrap_or_else(PoisonError::into_inner);
        for path in paths {
            if changed.paths.len() < MOST_PATHS {
                changed.paths.insert(path);
            } else {
                changed.is_more = true;
            }
        }
        changed.is_more |= is_more;
        if !changed.is_empty() {
            heard.rang.notify_all();
        }
    }

    fn counts(&self, path: &Path) -> bool {
        if path.starts_with(&self.aside) {
            return false;
        }
        let is_hidden = |path: &Path| path.components().any(|part| part.as_os_str().to_string_lossy().starts_with('.'));
        // The folders themselves may be hidden, or in a hidden one.
        let below = self.trees.iter().filter_map(|tree| path.strip_prefix(tree).ok());
        let is_in_a_tree = below.into_iter().any(|below| !below.as_os_str().is_empty() && !is_hidden(below));
        let named = path.parent().and_then(|folder| self.files.get(folder)).zip(path.file_name());
        is_in_a_tree || named.is_some_and(|(names, name)| names.contains(name))
    }
}

/// What the watcher says, with the path at fault.
fn of(error: notify::Error, path: &Path) -> WatchError {
    match error.kind {
        ErrorKind::MaxFilesWatch => WatchError::TooMany,
        ErrorKind::Io(why) if why.raw_os_error() == Some(28) => WatchError::TooMany,
        why => {
            let path = error.paths.first().cloned().unwrap_or_else(|| path.to_owned());
            WatchError::Path { path, why: notify::Error::new(why).to_string() }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use rstest::rstest;

    use super::*;

    /// How long a change may take to be seen.
    const SOON: Duration = Duration::from_secs(10);
    /// How long to wait where nothing should be seen.
    const BRIEFLY: Duration = Duration::from_millis(300);

    fn seen(watch: &FileWatch) -> bool {
        !watch.wait(SOON).is_empty()
    }

    #[test]
    fn changes_below_a_folder_are_seen() {
        let place = tempfile::tempdir().unwrap();
        let root = place.path().join("public");
        fs::create_dir_all(root.join("deep/er")).unwrap();
        fs::create_dir(place.path().join("aside")).unwrap();
        let watch = FileWatch::new(std::slice::from_ref(&root), &place.path().join("aside")).unwrap();
        assert!(watch.wait(BRIEFLY).is_empty());
        fs::write(root.join("deep/er/a.html"), "x").unwrap();
        assert!(seen(&watch));
        while !watch.wait(BRIEFLY).is_empty() {}
        fs::create_dir(root.join("new")).unwrap();
        assert!(seen(&watch));
        while !watch.wait(BRIEFLY).is_empty() {}
        fs::write(root.join("new/b.html"), "x").unwrap();
        assert!(seen(&watch), "a folder that was made later is watched, too");
        while !watch.wait(BRIEFLY).is_empty() {}
        fs::read(root.join("new/b.html")).unwrap();
        fs::write(root.join(".hidden"), "x").unwrap();
        fs::write(place.path().join("aside/ledger"), "x").unwrap();
        fs::write(place.path().join("other"), "x").unwrap();
        assert_eq!(watch.wait(BRIEFLY), FilesChanged::default(), "reading is no change, nor is what does not count");
    }

    #[cfg(unix)]
    #[test]
    fn changes_are_seen_through_links() {
        let place = tempfile::tempdir().unwrap();
        let (root, real) = (place.path().join("public"), place.path().join("releases/7"));
        fs::create_dir_all(&real).unwrap();
        fs::create_dir_all(&root).unwrap();
        fs::write(real.join("rows.csv"), "url\n").unwrap();
        std::os::unix::fs::symlink(&real, root.join("current")).unwrap();
        std::os::unix::fs::symlink(real.join("rows.csv"), place.path().join("rows.csv")).unwrap();
        let wanted = [root, place.path().join("rows.csv")];
        let watch = FileWatch::new(&wanted[..1], Path::new("/nowhere")).unwrap();
        fs::write(real.join("a.html"), "x").unwrap();
        assert!(seen(&watch), "a folder behind a link");
        let watch = FileWatch::new(&wanted[1..], Path::new("/nowhere")).unwrap();
        fs::write(real.join("rows.csv"), "url\n/a/\n").unwrap();
        assert!(seen(&watch), "a file behind a link");
    }

    #[rstest]
    #[case::written_again(|file: &Path| fs::write(file, "y").unwrap())]
    #[case::replaced(|file: &Path| {
        fs::write(file.with_extension("tmp"), "y").unwrap();
        fs::rename(file.with_extension("tmp"), file).unwrap();
    })]
    #[case::removed(|file: &Path| fs::remove_file(file).unwrap())]
    fn a_single_file_is_watched(#[case] change: fn(&Path)) {
        let place = tempfile::tempdir().unwrap();
        let file = place.path().join("rows.csv");
        fs::write(&file, "x").unwrap();
        let watch = FileWatch::new(std::slice::from_ref(&file), Path::new("/nowhere")).unwrap();
        fs::write(place.path().join("other.csv"), "x").unwrap();
        assert!(watch.wait(BRIEFLY).is_empty());
        change(&file);
        assert!(seen(&watch));
    }

    #[test]
    fn a_missing_folder_is_named() {
        let error = FileWatch::new(&["/nowhere/rows.csv".into()], Path::new("/")).err().unwrap();
        assert_eq!(error.to_string(), "/nowhere/rows.csv cannot be watched: it is not there");
    }
}
