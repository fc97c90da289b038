//! What can go wrong in the store.

use std::io;
use std::path::{Path, PathBuf};

use thiserror::Error;

use crate::report::Held;

/// Why something could not be done. What was there before is still there.
#[derive(Debug, Error)]
pub enum StoreError {
    /// A file or folder.
    #[error("{what} {path}: {source}", path = path.display())]
    Io {
        /// What was tried: "cannot write".
        what: &'static str,
        /// Where.
        path: PathBuf,
        /// The system's word for it.
        source: io::Error,
    },
    /// The ledger's database.
    #[error("the ledger cannot be used: {0}")]
    Ledger(#[from] rusqlite::Error),
    /// The ledger was written by a later version.
    #[error("the ledger {path} was written by a newer Idle Atlas (format {found}, this one knows {known}): use that version", path = path.display())]
    LedgerNewer {
        /// The database.
        path: PathBuf,
        /// Its format.
        found: i64,
        /// The newest format known here.
        known: i64,
    },
    /// The ledger holds something that this program would not have written.
    #[error(
        "the ledger is damaged ({0}): delete the folder .idle-atlas and build again; the files that are served stay until then"
    )]
    LedgerDamaged(&'static str),
    /// A thread ended before its work was done.
    #[error("the threads that write files stopped early; build again")]
    Stopped,
    /// Another command is at work.
    #[error("another idle-atlas is at work on this site (it holds {path}): wait for it to end", path = path.display())]
    Busy {
        /// The lock.
        path: PathBuf,
    },
    /// A source could not be read; nothing was written.
    #[error("source {name}: {why}")]
    Source {
        /// The source.
        name: String,
        /// What happened and how to mend it.
        why: String,
    },
    /// An engine could not even be tried.
    #[error("engine {name}: {why}")]
    Engine {
        /// Its name in the configuration.
        name: String,
        /// What happened.
        why: String,
    },
    /// A guard held the build back; nothing was written.
    #[error("{0}")]
    Held(Held),
}

impl StoreError {
    /// For `map_err` on the result of a call of the operating system.
    pub fn io(what: &'static str, path: impl AsRef<Path>) -> impl FnOnce(io::Error) -> Self {
        let path = path.as_ref().to_owned();
        move |source| Self::Io { what, path, source }
    }
}
