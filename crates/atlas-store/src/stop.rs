//! The stop token: it is passed along with a job, and everything that works on the job checks it.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::error::StoreError;

/// A token that asks work to stop. All copies share one state.
#[derive(Debug, Clone, Default)]
pub struct Stop(Arc<StopState>);

#[derive(Debug, Default)]
struct StopState {
    is_asked: AtomicBool,
    is_writing: AtomicBool,
    is_heeded: AtomicBool,
}

impl Stop {
    /// Asks to stop. Returns whether that had been asked before.
    pub fn ask(&self) -> bool {
        self.0.is_asked.swap(true, Ordering::SeqCst)
    }

    /// Whether work has been asked to stop.
    pub fn is_asked(&self) -> bool {
        self.0.is_asked.load(Ordering::SeqCst)
    }

    /// Ends the work if it has been asked to stop.
    ///
    /// # Errors
    ///
    /// Returns [`StoreError::Interrupted`] then.
    pub fn check(&self) -> Result<(), StoreError> {
        if self.is_asked() { Err(StoreError::Interrupted) } else { Ok(()) }
    }

    /// Declares that someone checks the token from now on and will stop soon after being asked.
    pub fn heed(&self) {
        self.0.is_heeded.store(true, Ordering::SeqCst);
    }

    /// Whether anyone checks the token.
    pub fn is_heeded(&self) -> bool {
        self.0.is_heeded.load(Ordering::SeqCst)
    }

    /// Whether files are being moved into place. This continues to the end, which is near.
    pub fn is_writing(&self) -> bool {
        self.0.is_writing.load(Ordering::SeqCst)
    }

    /// Records that files are being moved into place, or that all of them are.
    pub(crate) fn set_writing(&self, is_writing: bool) {
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
