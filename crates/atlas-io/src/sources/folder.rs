//! Reading a folder of files that each become an entry: visited in the order of names, read in parallel, and not read
//! again until they change. Hidden files, and links that lead back into themselves, are skipped.

use std::ffi::OsStr;
use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::mpsc::sync_channel;
use std::thread;

use atlas_core::address::file_name;
use atlas_core::contribution::Contribution;
use atlas_core::report::Problem;
use atlas_store::arrival::{BLOCK_BYTES, Block};
use atlas_store::disk::{self, Stamp};
use atlas_store::model::{Learnt, Memory};
use atlas_store::source::Gathering;
use rayon::prelude::*;
use walkdir::{DirEntry, WalkDir};

use crate::reading::record::RecordProblem;

/// The largest file that is read, in bytes.
const LARGEST: u64 = 32 * 1024 * 1024;
/// How many files are read at a time, so that not all are in memory.
const BATCH: usize = 256;
/// How many batches may be waiting.
const BATCHES: usize = 4;
/// If a file was touched this shortly before it was read, in nanoseconds, it may be touched again within the same tick
/// of the file system's clock, so it is read again next time.
const FRESH: i64 = 2_000_000_000;

/// A folder of the user's.
#[derive(Debug, Clone)]
pub struct SourceFolder {
    /// Its path.
    pub path: PathBuf,
    /// The path as typed by the user.
    pub shown: String,
}

/// A file with its path below the folder, or something that cannot be accessed.
pub(crate) type FoundFile = Result<(PathBuf, String), Inaccessible>;

/// A file or folder that cannot be accessed.
#[derive(Debug)]
pub(crate) struct Inaccessible {
    pub(crate) path: PathBuf,
    pub(crate) message: String,
    /// Whether nothing is there: a link to a missing file.
    is_missing: bool,
}

/// What a kind of source does with the files of a folder.
pub(crate) trait Files: Sync {
    /// Whether it reads files with this name.
    fn is_ours(&self, path: &Path) -> bool;

    /// The address of such a file, if it follows from its path alone.
    fn address_of(&self, relative: &str) -> Option<String>;

    /// The address of another file in the folder, if the site serves it.
    fn address_of_other(&self, relative: &str) -> Option<String>;

    /// Reads a file; the error is in words. `relative` is its path below the folder, with forward slashes.
    fn read(&self, relative: &str, bytes: &[u8]) -> Result<FileReading, String>;
}

/// The contents of one file.
pub(crate) struct FileReading {
    pub(crate) contribution: Contribution<'static>,
    /// Its links within the site, packed.
    pub(crate) links: Vec<u8>,
    /// What could not be read. Such a file is read again next time.
    pub(crate) troubles: Vec<RecordProblem>,
}

/// The outcome for one file.
enum FileOutcome {
    Met(Learnt),
    Learnt(String, Learnt, Vec<Problem>),
    /// It is not listed, and why.
    Unread(PathBuf, String),
    /// It cannot be read, although it is there.
    Lacking(PathBuf, String),
}

impl SourceFolder {
    /// Reads all files. Fails, in words, if the folder does not exist.
    pub(crate) fn gather(&self, files: &impl Files, gathering: &mut Gathering<'_>) -> Result<(), String> {
        if !self.path.is_dir() {
            return Err(format!("there is no folder {}; correct “folder” in the configuration", self.shown));
        }
        thread::scope(|scope| {
            // One thread lists the folder while the others read what was found.
            let (sender, batches) = sync_channel::<Vec<FoundFile>>(BATCHES);
            scope.spawn(move || {
                let mut found = self.walk().peekable();
                while found.peek().is_some() {
                    // The receiver is gone when reading has ended. Then there is nothing left to do.
                    if sender.send(found.by_ref().take(BATCH).collect()).is_err() {
                        return;
                    }
                }
            });
            for batch in batches {
                if gathering.stop().is_asked() {
                    break;
                }
                self.take(batch, files, gathering);
            }
        });
        Ok(())
    }

    fn take(&self, batch: Vec<FoundFile>, files: &impl Files, gathering: &mut Gathering<'_>) {
        let mut ours = Vec::with_capacity(batch.len());
        for found in batch {
            match found {
                Ok((path, relative)) if files.is_ours(&path) => ours.push((path, relative)),
                Ok((_, relative)) => {
                    if let Some(address) = files.address_of_other(&relative) {
                        gathering.also_there(&address);
                    }
                }
                Err(Inaccessible { path, message, is_missing: true }) if files.is_ours(&path) => {
                    self.cannot_read(&path, message, files, gathering);
                }
                Err(Inaccessible { is_missing: true, .. }) => {}
                // It may be a folder with pages, or lead to one.
                Err(Inaccessible { path, message, .. }) => self.lacks(&path, &message, files, gathering),
            }
        }
        self.read_batch(ours, files, gathering);
    }

    /// All files below the folder, sorted by name, with their paths below it; or what is wrong with one.
    pub(crate) fn walk(&self) -> impl Iterator<Item = FoundFile> + '_ {
        let visible = |entry: &DirEntry| entry.depth() == 0 || !is_hidden(entry);
        // Those that are compared are in one folder, so the order of their paths is that of their names.
        let by_name = |one: &DirEntry, other: &DirEntry| one.path().as_os_str().cmp(other.path().as_os_str());
        let walk = WalkDir::new(&self.path).follow_links(true).sort_by(by_name).into_iter();
        walk.filter_entry(visible).filter_map(|found| match found {
            Ok(entry) if entry.file_type().is_file() => self.relative(entry.path()).map(Ok),
            Ok(_) => None,
            Err(error) if error.loop_ancestor().is_some() => None,
            Err(error) => {
                let path = error.path().unwrap_or(&self.path).to_owned();
                let is_missing = error.io_error().is_some_and(|error| error.kind() == io::ErrorKind::NotFound);
                let message = match error.io_error() {
                    Some(_) if is_missing => "it is a link to a missing file; fix or remove the link".to_owned(),
                    Some(error) => cannot_be_read(error),
                    None => error.to_string(),
                };
                Some(Err(Inaccessible { path, message, is_missing }))
            }
        })
    }

    fn relative(&self, path: &Path) -> Option<(PathBuf, String)> {
        let relative = path.strip_prefix(&self.path).ok()?;
        let parts: Vec<String> = relative.components().map(|part| name_of(part.as_os_str())).collect();
        Some((path.to_owned(), parts.join("/")))
    }

    /// Records that something below the folder cannot be read, so that the source is read only in part.
    fn lacks(&self, path: &Path, message: &str, files: &impl Files, gathering: &mut Gathering<'_>) {
        if files.is_ours(path) {
            self.cannot_read(path, message.to_owned(), files, gathering);
        }
        let Problem { file, .. } = self.problem(path, RecordProblem::row(String::new()));
        gathering.fail_in_part(format!("{file} {message}"));
    }

    /// Records a file that exists but is not listed.
    fn cannot_read(&self, path: &Path, message: String, files: &impl Files, gathering: &mut Gathering<'_>) {
        if let Some(address) = self.relative(path).and_then(|(_, relative)| files.address_of(&relative)) {
            gathering.also_there(&address);
        }
        gathering.problem(self.problem(path, RecordProblem::row(message)));
    }

    fn problem(&self, path: &Path, trouble: RecordProblem) -> Problem {
        let relative = path.strip_prefix(&self.path).unwrap_or(path);
        let RecordProblem { message, passed_over } = trouble;
        Problem { file: Path::new(&self.shown).join(relative).display().to_string(), line: None, message, passed_over }
    }

    fn read_batch(&self, batch: Vec<(PathBuf, String)>, files: &impl Files, gathering: &mut Gathering<'_>) {
        let memory = gathering.memory();
        let read: Vec<FileOutcome> = batch
            .into_par_iter()
            .map(|(path, relative)| match self.read(&path, &relative, files, memory) {
                Ok(read) => read,
                Err(error) if error.kind() == io::ErrorKind::NotFound => {
                    FileOutcome::Unread(path, cannot_be_read(&error))
                }
                Err(error) => FileOutcome::Lacking(path, cannot_be_read(&error)),
            })
            .collect();
        let mut block = Block::new(gathering.decider());
        for one in read {
            match one {
                FileOutcome::Met(learnt) => {
                    gathering.met_again();
                    block.push_bytes(&learnt.row);
                    block.push_links(learnt.links);
                }
                FileOutcome::Learnt(path, learnt, problems) => {
                    block.push_bytes(&learnt.row);
                    block.push_links(learnt.links.clone());
                    gathering.learn(path, learnt);
                    problems.into_iter().for_each(|problem| gathering.problem(problem));
                }
                FileOutcome::Unread(path, why) => self.cannot_read(&path, why, files, gathering),
                FileOutcome::Lacking(path, why) => self.lacks(&path, &why, files, gathering),
            }
            if block.len() * 300 > BLOCK_BYTES {
                gathering.push(std::mem::replace(&mut block, Block::new(gathering.decider())));
            }
        }
        gathering.push(block);
    }

    fn read(&self, path: &Path, relative: &str, files: &impl Files, memory: &Memory) -> io::Result<FileOutcome> {
        if let Some(learnt) = memory.remembered(relative, disk::stamp_of(&fs::metadata(path)?)) {
            return Ok(FileOutcome::Met(learnt.clone()));
        }
        let file = File::open(path)?;
        let stamp = disk::stamp_of(&file.metadata()?);
        if stamp.size > LARGEST {
            let message = format!("{} bytes are too many for a page ({LARGEST} at most)", stamp.size);
            return Ok(FileOutcome::Unread(path.to_owned(), message));
        }
        let mut bytes = Vec::with_capacity(stamp.size as usize);
        file.take(LARGEST).read_to_end(&mut bytes)?;
        let FileReading { contribution, links, troubles } = match files.read(relative, &bytes) {
            Ok(read) => read,
            Err(why) => return Ok(FileOutcome::Unread(path.to_owned(), why)),
        };
        let mut row = Vec::new();
        contribution.write(&mut row);
        let again = is_fresh(stamp) || !troubles.is_empty();
        let stamp = if again { Stamp { size: u64::MAX, modified: 0 } } else { stamp };
        let problems = troubles.into_iter().map(|trouble| self.problem(path, trouble)).collect();
        let learnt = Learnt { stamp, row, links, validators: String::new() };
        Ok(FileOutcome::Learnt(relative.to_owned(), learnt, problems))
    }
}

#[cfg(unix)]
fn name_of(name: &OsStr) -> String {
    file_name(std::os::unix::ffi::OsStrExt::as_bytes(name))
}

#[cfg(not(unix))]
fn name_of(name: &OsStr) -> String {
    name.to_string_lossy().into_owned()
}

/// Why a file or folder cannot be read, and what to do.
fn cannot_be_read(error: &io::Error) -> String {
    let mend = match error.kind() {
        io::ErrorKind::PermissionDenied => "; let the user who builds read it",
        io::ErrorKind::InvalidFilename => "; its path is too long: name a folder further down as a source of its own",
        _ => "",
    };
    format!("cannot be read: {error}{mend}")
}

fn is_hidden(entry: &DirEntry) -> bool {
    entry.file_name().to_string_lossy().starts_with('.')
}

fn is_fresh(stamp: Stamp) -> bool {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    now.map_or(true, |now| stamp.modified > i64::try_from(now.as_nanos()).unwrap_or(i64::MAX) - FRESH)
}

/// The extension of a file's name, in lower case.
pub(crate) fn extension(path: &Path) -> String {
    path.extension().map(|extension| extension.to_string_lossy().to_ascii_lowercase()).unwrap_or_default()
}
