//! A destination in local folders: files are written under a temporary name, synced to disk, then renamed.

use std::any::Any;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::{fs, io};

use super::{Destination, Draft, DraftBody, ROBOTS};
use crate::disk;
use crate::error::StoreError;
use crate::model::{OnDisk, Version};

/// Local folders: one for sitemaps, one for visitors' files, one for templates, and robots.txt.
#[derive(Debug)]
pub struct Folder {
    sitemaps: PathBuf,
    web_root: PathBuf,
    data: Option<PathBuf>,
    robots: Option<PathBuf>,
    /// Folders into which files were put since the last commit.
    touched: Mutex<BTreeSet<PathBuf>>,
}

impl Folder {
    /// Sitemap files go into `sitemaps`, normally the web root itself; files for visitors into `web_root`; files for
    /// the site's own templates into `data`, if set. `robots` is the robots.txt of the site's host, if its path is
    /// configured.
    pub fn new(sitemaps: PathBuf, web_root: PathBuf, data: Option<PathBuf>, robots: Option<PathBuf>) -> Self {
        Self { sitemaps, web_root, data, robots, touched: Mutex::default() }
    }

    /// The path of a file.
    fn path(&self, name: &str) -> PathBuf {
        match (name.split_once(':'), &self.data, &self.robots) {
            (_, _, Some(robots)) if name == ROBOTS => target_of(robots),
            (Some(("site", name)), ..) => self.web_root.join(name),
            (Some(("data", name)), Some(data), _) => data.join(name),
            _ => self.sitemaps.join(name),
        }
    }

    fn touch(&self, path: &Path) {
        let folder = path.parent().map(Path::to_owned);
        self.touched.lock().unwrap_or_else(PoisonError::into_inner).extend(folder);
    }
}

/// The file that a path leads to: symbolic links are written through, not replaced.
fn target_of(path: &Path) -> PathBuf {
    let beside = |target: PathBuf| path.parent().map_or(target.clone(), |folder| folder.join(target));
    fs::canonicalize(path).or_else(|_| fs::read_link(path).map(beside)).unwrap_or_else(|_| path.to_owned())
}

impl DraftBody for disk::TempFile {
    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

impl Destination for Folder {
    fn begin(&self, name: &str) -> Result<Draft, StoreError> {
        let path = self.path(name);
        if let Some(folder) = path.parent().filter(|_| name.contains(':') && name != ROBOTS) {
            fs::create_dir_all(folder).map_err(StoreError::io("cannot make", folder))?;
        }
        let file = disk::TempFile::begin(&path)?;
        if name == ROBOTS {
            // It is the site's own file, perhaps with an owner and a mode of its own.
            file.like(&path)?;
        }
        Ok(Draft::new(name, Box::new(file)))
    }

    fn read(&self, name: &str) -> Result<Option<Vec<u8>>, StoreError> {
        let path = self.path(name);
        // Opening a named pipe would wait for whoever writes into it.
        if fs::metadata(&path).is_ok_and(|metadata| !metadata.is_file() && !metadata.is_dir()) {
            let error = io::Error::new(io::ErrorKind::InvalidInput, "it is not a file");
            return Err(StoreError::io("cannot read", path)(error));
        }
        match fs::read(&path) {
            Ok(bytes) => Ok(Some(bytes)),
            // If it is not a file, that is reported when it is about to be overwritten.
            Err(error) if error.kind() == io::ErrorKind::NotFound || path.is_dir() => Ok(None),
            Err(error) => Err(StoreError::io("cannot read", path)(error)),
        }
    }

    fn version(&self, name: &str) -> Result<Option<Version>, StoreError> {
        let path = self.path(name);
        Ok(disk::stamp(&path).map_err(StoreError::io("cannot read", path))?.map(Version::from))
    }

    fn put(&self, drafts: Vec<Draft>) -> Result<Vec<(String, OnDisk)>, StoreError> {
        let (mut names, mut files) = (Vec::with_capacity(drafts.len()), Vec::with_capacity(drafts.len()));
        for draft in drafts {
            let (name, body, crc) = draft.into_parts();
            files.push(*body.downcast::<disk::TempFile>().map_err(|_| StoreError::Stopped)?);
            self.touch(&self.path(&name));
            names.push((name, crc));
        }
        let stamps = disk::put_in_place(files)?;
        let put = names.into_iter().zip(stamps);
        Ok(put.map(|((name, crc), stamp)| (name, OnDisk { version: Version::from(stamp), crc })).collect())
    }

    fn list(&self) -> Result<Vec<String>, StoreError> {
        // A folder that cannot be read contains nothing of ours; the error is reported when something is written into
        // it.
        let names = fs::read_dir(&self.sitemaps).into_iter().flatten().flatten();
        Ok(names.filter_map(|one| one.file_name().into_string().ok()).collect())
    }

    fn remove(&self, name: &str) -> Result<(), StoreError> {
        let path = self.path(name);
        disk::remove(&path)?;
        // Subfolders of the templates' folder were made for their files, and are removed when empty.
        let below = |folder: &&Path| self.data.as_ref().is_some_and(|data| *folder != data && folder.starts_with(data));
        for folder in path.ancestors().skip(1).take_while(below) {
            if fs::remove_dir(folder).is_err() {
                break;
            }
        }
        Ok(())
    }

    fn commit(&self) -> Result<(), StoreError> {
        let touched = std::mem::take(&mut *self.touched.lock().unwrap_or_else(PoisonError::into_inner));
        touched.iter().try_for_each(|folder| disk::sync_folder(folder))
    }

    fn sweep(&self) -> Result<(), StoreError> {
        let folders = [Some(&self.sitemaps), Some(&self.web_root), self.data.as_ref()];
        folders.into_iter().flatten().try_for_each(|folder| disk::sweep(folder))
    }

    fn shown(&self, name: &str) -> String {
        self.path(name).display().to_string()
    }
}
