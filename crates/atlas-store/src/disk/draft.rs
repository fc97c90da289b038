//! Files that appear whole: written under a temporary name, synced to disk, then renamed.

use std::fs::{self, File};
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use tempfile::NamedTempFile;

use super::stamp::{Stamp, stamp_of};
use crate::error::StoreError;

const TEMPORARY: &str = ".atlas-";
const TEMPORARY_END: &str = ".tmp";
/// From this many bytes on it pays to sync a file while it is being written.
const LARGE: u64 = 8 << 20;

/// A file under a temporary name.
pub(crate) struct TempFile {
    target: PathBuf,
    file: BufWriter<NamedTempFile>,
    size: u64,
}

impl TempFile {
    /// Begins a file that will become `target`.
    pub fn begin(target: &Path) -> Result<Self, StoreError> {
        let folder = target.parent().unwrap_or(Path::new("."));
        let mut builder = tempfile::Builder::new();
        builder.prefix(TEMPORARY).suffix(TEMPORARY_END);
        // Web servers must be able to read it, so the user's umask decides, as for any file.
        #[cfg(unix)]
        builder.permissions(std::os::unix::fs::PermissionsExt::from_mode(0o666));
        // The temporary name means nothing to anyone, so only the cause is reported.
        let file = builder.tempfile_in(folder).map_err(|error| io::Error::from(error.kind()));
        let file = file.map_err(StoreError::io("cannot write into", folder))?;
        Ok(Self { target: target.to_owned(), file: BufWriter::with_capacity(1 << 14, file), size: 0 })
    }

    /// Takes over the mode and, as far as this user may, the owner of an existing file.
    pub fn like(&self, existing: &Path) -> Result<(), StoreError> {
        let Ok(metadata) = fs::metadata(existing) else { return Ok(()) };
        let file = self.file.get_ref().as_file();
        #[cfg(unix)]
        {
            use std::os::unix::fs::{MetadataExt, fchown};
            // Only root may give files away; for everyone else the file becomes theirs, as with any editor.
            let _ = fchown(file, Some(metadata.uid()), Some(metadata.gid()));
        }
        file.set_permissions(metadata.permissions()).map_err(StoreError::io("cannot write", &self.target))
    }

    /// Passes what is still buffered to the system.
    fn flushed(self) -> Result<Flushed, StoreError> {
        let target = self.target;
        let failed = StoreError::io("cannot write", &target);
        let file = self.file.into_inner().map_err(|error| failed(error.into_error()))?;
        Ok(Flushed { target, file })
    }
}

/// A file that is complete under its temporary name but perhaps not synced yet.
struct Flushed {
    target: PathBuf,
    file: NamedTempFile,
}

impl Flushed {
    fn sync(&self) -> Result<(), StoreError> {
        self.file.as_file().sync_data().map_err(StoreError::io("cannot write", &self.target))
    }

    fn rename(self) -> Result<Stamp, StoreError> {
        let failed = || StoreError::io("cannot write", &self.target);
        let file = self.file.persist(&self.target).map_err(|error| failed()(error.error))?;
        Ok(stamp_of(&file.metadata().map_err(failed())?))
    }
}

/// From this many small files on, their whole file system is synced once, rather than each file.
#[cfg(target_os = "linux")]
const MANY: usize = 16;
/// The largest average size of such files. For larger ones the waits matter less, and other writes on the same file
/// system need not be waited for.
#[cfg(target_os = "linux")]
const SMALL: u64 = 512 << 10;

/// Syncs what has been written of a large file so far. If that fails, it is done when the file is finished.
pub(crate) fn bring(path: &Path) {
    if fs::metadata(path).is_ok_and(|metadata| metadata.len() >= LARGE) {
        let _ = File::open(path).and_then(|file| file.sync_data());
    }
}

/// Syncs files and moves them into place. Returns their stamps.
pub(crate) fn put_in_place(drafts: Vec<TempFile>) -> Result<Vec<Stamp>, StoreError> {
    let bytes = drafts.iter().map(|draft| draft.size).sum();
    let flushed: Vec<Flushed> = drafts.into_iter().map(TempFile::flushed).collect::<Result<_, _>>()?;
    sync_all(&flushed, bytes)?;
    flushed.into_iter().map(Flushed::rename).collect()
}

/// Syncs files with this many bytes in total.
fn sync_all(files: &[Flushed], bytes: u64) -> Result<(), StoreError> {
    #[cfg(not(target_os = "linux"))]
    let _ = bytes;
    #[cfg(target_os = "linux")]
    if files.len() >= MANY && bytes / files.len() as u64 <= SMALL {
        let first = &files[0];
        let failed = StoreError::io("cannot write", &first.target);
        return rustix::fs::syncfs(first.file.as_file()).map_err(|error| failed(error.into()));
    }
    files.iter().try_for_each(Flushed::sync)
}

impl Write for TempFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.write_all(bytes)?;
        self.size += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

/// Writes a small file whole.
///
/// # Errors
///
/// Returns an error if the file cannot be written. The old one is untouched then.
pub fn replace(target: &Path, bytes: &[u8]) -> Result<Stamp, StoreError> {
    let mut draft = TempFile::begin(target)?;
    draft.write_all(bytes).map_err(StoreError::io("cannot write", target))?;
    let file = draft.flushed()?;
    file.sync()?;
    file.rename()
}

/// Removes a file. It is not an error if it does not exist.
///
/// # Errors
///
/// Returns an error if the file exists but cannot be removed.
pub fn remove(path: &Path) -> Result<(), StoreError> {
    match fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(StoreError::io("cannot remove", path)(error)),
        _ => Ok(()),
    }
}

/// Syncs the names in a folder.
pub(crate) fn sync_folder(folder: &Path) -> Result<(), StoreError> {
    File::open(folder).and_then(|folder| folder.sync_all()).map_err(StoreError::io("cannot write into", folder))
}

/// Removes temporary files that a killed build left. Only for the holder of the lock.
pub(crate) fn sweep(folder: &Path) -> Result<(), StoreError> {
    let Ok(names) = fs::read_dir(folder) else { return Ok(()) };
    for name in names.flatten() {
        let text = name.file_name();
        let text = text.to_string_lossy();
        if text.starts_with(TEMPORARY) && text.ends_with(TEMPORARY_END) {
            remove(&name.path())?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_appear_only_when_they_are_put() {
        let folder = tempfile::tempdir().unwrap();
        let paths: Vec<PathBuf> = (0..40).map(|nth| folder.path().join(format!("{nth}.xml"))).collect();
        let drafts = paths.iter().map(|path| {
            let mut draft = TempFile::begin(path).unwrap();
            draft.write_all(b"<urlset>").unwrap();
            draft
        });
        let drafts: Vec<TempFile> = drafts.collect();
        assert!(paths.iter().all(|path| !path.exists()));
        let stamps = put_in_place(drafts).unwrap();
        assert!(stamps.iter().all(|stamp| stamp.size == 8) && paths.iter().all(|path| path.exists()));
    }
}
