//! How a command ends: exit codes, and failures.

use std::io;
use std::process::ExitCode;

use atlas_store::error::StoreError;
use thiserror::Error;

/// What is true of a command that was stopped before it wrote anything.
pub const NOTHING_WRITTEN: &str = "nothing was written; the served files are unchanged";

/// The exit codes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Exit {
    /// Done.
    Done = 0,
    /// Partly done: something could not be read, or was refused.
    InPart = 1,
    /// Not done.
    NotDone = 2,
    /// Held back by a guard.
    Held = 3,
    /// Interrupted; the code that shells expect.
    Interrupted = 130,
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit as u8)
    }
}

impl Exit {
    /// The exit that this code stands for.
    pub fn of_code(code: i32) -> Self {
        let all = [Self::Done, Self::InPart, Self::Held, Self::Interrupted];
        all.into_iter().find(|exit| *exit as i32 == code).unwrap_or(Self::NotDone)
    }

    /// [`Exit::InPart`] if something was not done.
    pub fn in_part(something: bool) -> Self {
        if something { Self::InPart } else { Self::Done }
    }
}

/// Why a command failed.
#[derive(Debug, Error)]
pub enum Failure {
    /// An error of the store, a source or the ledger.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Any other failure, in words.
    #[error("{0}")]
    Message(String),
    /// Standard output is closed.
    #[error("the output was closed")]
    PipeClosed,
}

impl Failure {
    /// A failure in words.
    pub fn said(text: impl Into<String>) -> Self {
        Self::Message(text.into())
    }

    /// A failure to write to standard output.
    pub fn output(error: &io::Error) -> Self {
        match error.kind() {
            io::ErrorKind::BrokenPipe => Self::PipeClosed,
            _ => Self::said(format!("cannot write to the output: {error}")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_as_documented() {
        let codes = [Exit::Done, Exit::InPart, Exit::NotDone, Exit::Held].map(|exit| exit as u8);
        assert_eq!(codes, [0, 1, 2, 3]);
        assert_eq!(Exit::in_part(true), Exit::InPart);
        assert_eq!(Exit::in_part(false), Exit::Done);
    }
}
