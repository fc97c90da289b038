//! Moving finished files into place, many at a time, while others are still being made.

use std::sync::mpsc::{Receiver, SyncSender, TrySendError, channel, sync_channel};
use std::thread;

use crate::destination::{Destination, Draft};
use crate::error::StoreError;
use crate::model::OnDisk;

/// How many finished files are synced together. Three times as many may be open at once, which must stay well below the
/// limit of a process (256 on some systems).
const BATCH: usize = 64;
/// From this many bytes on, finished files are not held back to wait for others.
const ENOUGH: u64 = 2 << 20;

/// Finished files.
type DraftBatch = Vec<Draft>;
/// The result of a batch.
pub(super) type PlacedBatch = Result<Vec<(String, OnDisk)>, StoreError>;

/// A thread that syncs finished files, many at a time, and moves them into place.
pub(super) struct Placing {
    waiting: DraftBatch,
    batches: SyncSender<DraftBatch>,
    placed: Receiver<PlacedBatch>,
    under_way: usize,
}

impl Placing {
    /// Starts the thread. Between batches it also syncs what was written of the ledger, which is much of a first build;
    /// otherwise all of it would be synced at the end.
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

    /// Passes on a finished file.
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

    /// Waits until all files are in place.
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
