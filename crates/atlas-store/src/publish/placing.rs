//! Putting finished files in their places, many at a time, while others are still being made.

use std::sync::mpsc::{Receiver, SyncSender, TrySendError, channel, sync_channel};
use std::thread;

use crate::destination::{Destination, Draft};
use crate::error::StoreError;
use crate::model::OnDisk;

/// How many finished files are brought to the disk together. Three times as many may be open at once, which has to stay
/// well below what systems allow a process (256 on some).
const BATCH: usize = 64;
/// From so many bytes on, finished files are not kept waiting for others while the disk has nothing to do.
const ENOUGH: u64 = 2 << 20;

/// Finished files.
type DraftBatch = Vec<Draft>;
/// What came of a batch.
pub(super) type PlacedBatch = Result<Vec<(String, OnDisk)>, StoreError>;

/// A thread that brings finished files to the disk, many at a time, and puts them in their places.
pub(super) struct Placing {
    waiting: DraftBatch,
    batches: SyncSender<DraftBatch>,
    placed: Receiver<PlacedBatch>,
    under_way: usize,
}

impl Placing {
    /// Starts it. Between batches it also brings to the disk what was written of the ledger, which is a large part of a first
    /// build: else all of that would be waited for at the end.
    pub(super) fn start<'scope, 'env>(
        scope: &'scope thread::Scope<'scope, 'env>,
        destination: &'env dyn Destination,
        flush_ledger: Box<dyn Fn() + Send>,
    ) -> Self {
        let (batches, coming) = sync_channel::<DraftBatch>(1);
        let (sender, placed) = channel();
        scope.spawn(move || {
            for batch in coming {
                if sender.send(destination.put(batch)).is_err() {
                    return;
                }
                flush_ledger();
            }
        });
        Self { waiting: Vec::new(), batches, placed, under_way: 0 }
    }

    /// Hands over a finished file.
    pub(super) fn put(&mut self, draft: Draft) -> Result<(), StoreError> {
        self.waiting.push(draft);
        if self.waiting.len() >= BATCH {
            return self.send();
        }
        if self.waiting.iter().map(Draft::size).sum::<u64>() < ENOUGH {
            return Ok(());
        }
        match self.batches.try_send(std::mem::take(&mut self.waiting)) {
            Ok(()) => self.under_way += 1,
            Err(TrySendError::Full(batch)) => self.waiting = batch,
            Err(TrySendError::Disconnected(_)) => return Err(StoreError::Stopped),
        }
        Ok(())
    }

    fn send(&mut self) -> Result<(), StoreError> {
        self.under_way += 1;
        self.batches.send(std::mem::take(&mut self.waiting)).map_err(|_| StoreError::Stopped)
    }

    /// Waits for all files that were handed over.
    pub(super) fn wait(&mut self) -> PlacedBatch {
        if !self.waiting.is_empty() {
            self.send()?;
        }
        let mut done = Vec::new();
        for _ in 0..std::mem::take(&mut self.under_way) {
            done.append(&mut self.placed.recv().map_err(|_| StoreError::Stopped)??);
        }
        Ok(done)
    }
}
