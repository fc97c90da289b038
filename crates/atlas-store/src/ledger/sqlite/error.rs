//! Errors of SQLite, in words.

use rusqlite::ErrorCode::{
    CannotOpen, DatabaseBusy, DatabaseLocked, DiskFull, PermissionDenied, ReadOnly, SystemIoFailure,
};

use crate::error::{ANEW, MAKE_ROOM, StoreError};

impl From<rusqlite::Error> for StoreError {
    fn from(error: rusqlite::Error) -> Self {
        let mend = match error.sqlite_error_code() {
            Some(DiskFull | SystemIoFailure) => MAKE_ROOM,
            Some(ReadOnly | PermissionDenied | CannotOpen) => {
                "this user may not write it: give it the folder .idle-atlas beside the configuration"
            }
            Some(DatabaseBusy | DatabaseLocked) => "another program has it open: wait until it ends",
            _ => ANEW,
        };
        Self::Ledger { why: error.into(), mend }
    }
}
