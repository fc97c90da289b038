//! The commands, one per file. Each does its work through the libraries and passes the result to its view.

mod ownership;
mod programs;
pub mod uptake;
mod by_hand;
mod keys;
mod known;
pub mod travel;
pub mod announce;
pub mod build;
pub mod check;
pub mod configuration;
pub mod packaging;
pub mod history;
pub mod init;
pub mod report;
pub mod serve;
pub mod survey;
mod units;
mod round_process;
pub mod watch;
#[cfg(feature = "test-engine")]
pub mod rehearse;
#[cfg(feature = "test-engine")]
pub mod test_engine;
pub mod why;
#[cfg(feature = "test-engine")]
pub mod demo;

use std::path::PathBuf;
use std::time::{Duration, Instant};
use std::{env, fs, io, thread};

use atlas_store::build::Job;
use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger};
use tempfile::TempDir;

use crate::config::Settings;
use crate::exit::Failure;
use crate::screen::Screen;

/// What is said of commands that need a test engine, in a program without one.
#[cfg(not(feature = "test-engine"))]
pub const NO_TEST_ENGINE: &str =
    "this idle-atlas was built without a test engine; build it with the cargo feature “test-engine”";
/// How long to wait for a ledger that another command is using.
const PATIENCE: Duration = Duration::from_secs(60);

/// A ledger for a command that only looks.
struct LookedAt {
    ledger: Box<dyn Ledger>,
    /// The folder of a copy, if this user may not write into that of the ledger.
    copy: Option<TempDir>,
}

impl LookedAt {
    /// Opens the ledger of a site, or a copy of it.
    fn open(settings: &Settings, screen: &Screen) -> Result<Self, StoreError> {
        let error = match open_ledger(settings, screen) {
            Ok(ledger) => return Ok(Self { ledger, copy: None }),
            Err(error) => error,
        };
        let StoreError::Io { source, .. } = &error else { return Err(error) };
        if !matches!(source.kind(), io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem) {
            return Err(error);
        }
        Self::copy(settings)
    }

    /// A copy of the ledger of a site.
    fn copy(settings: &Settings) -> Result<Self, StoreError> {
        let folder = std::env::temp_dir();
        let copy = tempfile::tempdir().map_err(StoreError::io("cannot make a folder in", &folder))?;
        for file in fs::read_dir(&settings.ledger).into_iter().flatten().flatten() {
            let target = copy.path().join(file.file_name());
            if file.path().is_file() {
                fs::copy(file.path(), &target).map_err(StoreError::io("cannot copy", file.path()))?;
            }
        }
        Ok(Self { ledger: ledger::open(copy.path())?, copy: Some(copy) })
    }

    /// A job whose temporary data is where it may be.
    fn job<'a>(&self, job: Job<'a>) -> Job<'a> {
        match &self.copy {
            Some(copy) => job.scratch(copy.path()),
            None => job,
        }
    }
}

/// The path of this program. Where the system does not tell (a container without /proc), it is the one that it was started
/// by, if that is whole.
fn own_program() -> Result<PathBuf, Failure> {
    let started_by = || env::args_os().next().map(PathBuf::from).filter(|path| path.is_absolute() && path.is_file());
    env::current_exe()
        .or_else(|error| started_by().ok_or(error))
        .map_err(|error| Failure::said(format!("cannot tell where this program is: {error}")))
}

/// Opens the ledger of a site. If it is busy, says so and waits.
fn open_ledger(settings: &Settings, screen: &Screen) -> Result<Box<dyn Ledger>, StoreError> {
    let started = Instant::now();
    let mut told = false;
    loop {
        match ledger::open(&settings.ledger) {
            Err(StoreError::Busy { .. }) if started.elapsed() < PATIENCE => {
                if !std::mem::replace(&mut told, true) {
                    let seconds = PATIENCE.as_secs();
                    let message = format!("another idle-atlas is working on this site; for {seconds} seconds at most");
                    screen.complain("waiting", &message);
                }
                thread::sleep(Duration::from_millis(100));
            }
            opened => return opened,
        }
    }
}
