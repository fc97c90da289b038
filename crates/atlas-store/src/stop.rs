//! Being asked to stop: a token that a job carries and that whoever works on it looks at.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::error::StoreError;

/// A token by which work is asked to stop. All copies of it are one.
#[derive(Debug, Clone, Default)]
pub struct Stop(Arc<StopState>);

#[derive(Debug, Default)]
struct StopState {
    is_asked: AtomicBool,
    is_writing: AtomicBool,
    is_heeded: AtomicBool,
}

impl Stop {
    /// Asks to stop; tells whether that was asked before.
    pub fn ask(&self) -> bool {
        self.0.is_asked.swap(true, Ordering::SeqCst)
    }

    /// Whether to stop.
    pub fn is_asked(&self) -> bool {
        self.0.is_asked.load(Ordering::SeqCst)
    }

    /// Fails where work is to stop.
    pub fn check(&self) -> Result<(), StoreError> {
        if self.is_asked() { Err(StoreError::Interrupted) } else { Ok(()) }
    }

    /// Somebody looks at the token from now on, and ends soon after being asked.
    pub fn heed(&self) {
        self.0.is_heeded.store(true, Ordering::SeqCst);
    }

    /// Whether somebody looks at the token.
    pub fn is_heeded(&self) -> bool {
        self.0.is_heeded.load(Ordering::SeqCst)
    }

    /// Whether files are being put in their places: work goes on to the end then, which is near.
    pub fn is_writing(&self) -> bool {
        self.0.is_writing.load(Ordering::SeqCst)
    }

    /// Files are put in their places from now on, or all of them are there.
    pub fn set_writing(&self, is_writing: bool) {
        self.0.is_writing.store(is_writing, Ordering::SeqCst);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_copies_of_a_token_are_one() {
        let (stop, copy) = (Stop::default(), Stop::default());
        let same = stop.clone();
        assert!(!same.ask() && stop.ask(), "the second time it was asked before");
        assert!(matches!(same.check(), Err(StoreError::Interrupted)));
        assert!(copy.check().is_ok());
    }
}
