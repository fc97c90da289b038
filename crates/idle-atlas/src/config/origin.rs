//! The text of a configuration, for the positions of errors.

use std::path::{Path, PathBuf};

use crate::exit::Failure;

use super::tables::At;

/// The file and its text.
#[derive(Debug)]
pub struct ConfigText {
    pub path: PathBuf,
    pub text: String,
    /// The configuration that it extends. Positions in it count behind those in its own text.
    pub shared: Option<SharedText>,
}

/// A configuration that others extend, and its text.
#[derive(Debug)]
pub struct SharedText {
    pub path: PathBuf,
    pub text: String,
}

impl ConfigText {
    /// An error about this value.
    pub fn error<T>(&self, at: &At<T>, message: impl AsRef<str>) -> Failure {
        self.error_at(at.span().start, message)
    }

    /// An error about the value that begins at this byte.
    pub fn error_at(&self, byte: usize, message: impl AsRef<str>) -> Failure {
        Failure::said(format!("{}: {}", self.place(byte), message.as_ref()))
    }

    /// The file and line of a byte.
    pub fn place(&self, byte: usize) -> String {
        format!("{} line {}", self.part(byte).0.display(), self.line_of(byte))
    }

    /// The line of a byte in its file, counted from 1.
    pub fn line_of(&self, byte: usize) -> usize {
        let (_, text, at) = self.part(byte);
        let before = &text.as_bytes()[..at.min(text.len())];
        before.iter().filter(|byte| **byte == b'\n').count() + 1
    }

    /// The file that a byte is in, its text, and where in it.
    pub(super) fn part(&self, byte: usize) -> (&Path, &str, usize) {
        match &self.shared {
            Some(shared) if byte > self.text.len() => (&shared.path, &shared.text, byte - self.text.len() - 1),
            _ => (&self.path, &self.text, byte),
        }
    }
}
