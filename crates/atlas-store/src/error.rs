//! Errors of the store.

use std::error::Error as StdError;
use std::io;
use std::path::{Path, PathBuf};

use atlas_core::placement::LimitError;
use thiserror::Error;

/// The cause of an error, of whatever type.
pub type Cause = Box<dyn StdError + Send + Sync>;

/// Why something could not be done. Whatever was there before is still there.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum StoreError {
    /// An operation on a file or folder failed.
    #[error("{what} {path}: {source}{mend}", path = path.display(), mend = mend_of(.source))]
    Io {
        /// The operation: "cannot write".
        what: &'static str,
        /// The file or folder.
        path: PathBuf,
        /// The system's error.
        source: io::Error,
    },
    /// The ledger's database failed.
    #[error("the ledger cannot be used: {why}; {mend}")]
    Ledger {
        /// The database's error.
        #[source]
        why: Cause,
        /// How to fix it.
        mend: &'static str,
    },
    /// Another version wrote the ledger.
    #[error("the ledger {path} was written by another version of Idle Atlas (format {found}, this one writes {known}); {ANEW}", path = path.display())]
    LedgerFormat {
        /// The database file.
        path: PathBuf,
        /// The format of that ledger.
        found: i64,
        /// The format of this version.
        known: i64,
    },
    /// The ledger contains something that this program would not have written.
    #[error("the ledger is damaged ({0}); {ANEW}")]
    LedgerDamaged(&'static str),
    /// A sitemap file would exceed a limit. It was not written.
    #[error("a sitemap file would have {0}; build again, and report this as a bug if it happens again")]
    Limit(#[from] LimitError),
    /// A thread ended before its work was done.
    #[error("the threads that write files stopped early; build again")]
    Stopped,
    /// It was asked to stop before anything was written.
    #[error("stopped: nothing was written; the served files are unchanged")]
    Interrupted,
    /// Another command is running.
    #[error("another idle-atlas is working on this site (it has locked {path}); wait until it ends", path = path.display())]
    Busy {
        /// The lock file.
        path: PathBuf,
    },
    /// A source could not be read. Nothing was written.
    #[error("source {name}: {why}")]
    Source {
        /// The name of the source.
        name: String,
        /// What happened, and how to fix it.
        #[source]
        why: Cause,
    },
    /// An engine could not be contacted at all.
    #[error("engine {name}: {why}")]
    Engine {
        /// Its name in the configuration.
        name: String,
        /// What happened.
        #[source]
        why: Cause,
    },
}

/// How to go on without a ledger.
pub(crate) const ANEW: &str = "the served files stay as they are. The ledger is in the folder .idle-atlas beside the configuration: move that folder away and build again; placement and dates are then learnt from the existing sitemaps";

/// What to do if the disk is full.
pub(crate) const MAKE_ROOM: &str =
    "its disk may be full: free some space and build again; the served files stay as they are";

/// How to fix a system error, after a semicolon; empty if the error says enough.
fn mend_of(error: &io::Error) -> String {
    let mend = match error.kind() {
        io::ErrorKind::PermissionDenied => {
            "this user has no permission for that: grant it, or run as the owner of the folder"
        }
        io::ErrorKind::ReadOnlyFilesystem => "make its file system writable, or write elsewhere",
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => MAKE_ROOM,
        _ => return String::new(),
    };
    format!("; {mend}")
}

impl StoreError {
    /// For use with `map_err` on the result of a system call.
    pub fn io(what: &'static str, path: impl AsRef<Path>) -> impl FnOnce(io::Error) -> Self {
        let path = path.as_ref().to_owned();
        move |source| Self::Io { what, path, source }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// A caller finds the cause, of its own type, behind each kind of failure.
    #[rstest]
    #[case(StoreError::io("cannot write", "sitemap.xml")(io::ErrorKind::StorageFull.into()))]
    #[case(StoreError::Ledger { why: Box::new(io::Error::from(io::ErrorKind::StorageFull)), mend: MAKE_ROOM })]
    #[case(StoreError::Source { name: "table halts.csv".into(), why: Box::new(io::Error::from(io::ErrorKind::StorageFull)) })]
    #[case(StoreError::Engine { name: "testmoor".into(), why: Box::new(io::Error::from(io::ErrorKind::StorageFull)) })]
    fn errors_keep_their_cause(#[case] error: StoreError) {
        let cause = error.source().and_then(|cause| cause.downcast_ref::<io::Error>()).expect("a cause");
        assert_eq!(cause.kind(), io::ErrorKind::StorageFull);
        assert!(error.to_string().contains(&cause.to_string()), "{error}");
    }
}
