//! What can go wrong in the store.

use std::io;
use std::path::{Path, PathBuf};

use thiserror::Error;

/// Why something could not be done. What was there before is still there.
#[derive(Debug, Error)]
pub enum StoreError {
    /// A file or folder.
    #[error("{what} {path}: {source}{mend}", path = path.display(), mend = mend_of(.source))]
    Io {
        /// What was tried: "cannot write".
        what: &'static str,
        /// Where.
        path: PathBuf,
        /// The system's word for it.
        source: io::Error,
    },
    /// The ledger's database.
    #[error("the ledger cannot be used: {why}; {mend}")]
    Ledger {
        /// The database's word for it.
        why: String,
        /// How to mend it.
        mend: &'static str,
    },
    /// The ledger was written by another version.
    #[error("the ledger {path} was written by another version of Idle Atlas (format {found}, this one writes {known}); {ANEW}", path = path.display())]
    LedgerFormat {
        /// The database.
        path: PathBuf,
        /// Its format.
        found: i64,
        /// The format of this version.
        known: i64,
    },
    /// The ledger holds something that this program would not have written.
    #[error("the ledger is damaged ({0}); {ANEW}")]
    LedgerDamaged(&'static str),
    /// A thread ended before its work was done.
    #[error("the threads that write files stopped early; build again")]
    Stopped,
    /// It was asked to stop before anything was written.
    #[error("stopped: nothing was written; what is served is as it was")]
    Interrupted,
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
}

/// How to go on without a ledger.
pub(crate) const ANEW: &str = "the files that are served stay as they are. The ledger lies in the folder .idle-atlas beside the configuration: move that folder away and build again; places and dates are then learnt from the sitemaps that are there";

/// What to do where the disk is full.
pub(crate) const MAKE_ROOM: &str =
    "there may be no room left on its disk: make some and build again; the files that are served stay as they are";

/// How to mend what the system complains of, after a semicolon; nothing where its word says all.
fn mend_of(error: &io::Error) -> String {
    let mend = match error.kind() {
        io::ErrorKind::PermissionDenied => {
            "this user may not do that there: give it the right to, or run as the user whom the folder belongs to"
        }
        io::ErrorKind::ReadOnlyFilesystem => "make its file system writable, or write elsewhere",
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => MAKE_ROOM,
        _ => return String::new(),
    };
    format!("; {mend}")
}

impl StoreError {
    /// For `map_err` on the result of a call of the operating system.
    pub fn io(what: &'static str, path: impl AsRef<Path>) -> impl FnOnce(io::Error) -> Self {
        let path = path.as_ref().to_owned();
        move |source| Self::Io { what, path, source }
    }
}
