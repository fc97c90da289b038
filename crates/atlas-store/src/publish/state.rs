//! The progress of publishing.

use std::collections::BTreeMap;

use super::placing::Placing;
use crate::arrange::Plan;
use crate::destination::Destination;
use crate::disk::segmented_gzip::SegmentCompressor;
use crate::error::StoreError;
use crate::model::{FileDigest, OnDisk, OutputRow};
use crate::report::{FileFate, RobotsFate};

/// The result of publishing.
#[derive(Debug, Default)]
pub struct Published {
    /// The fate of each planned file.
    pub fates: Vec<FileFate>,
    /// The unpacked size of each planned file.
    pub sizes: Vec<u64>,
    /// Names of files that were written.
    pub written: Vec<String>,
    /// Names of files that left the index in this build.
    pub retired: Vec<String>,
    /// Names of files to remove once the ledger is committed.
    pub to_remove: Vec<String>,
    /// The name that the main file had before this build renamed it.
    pub moved_main: Option<String>,
    /// The fate of robots.txt.
    pub robots: Option<RobotsFate>,
}

/// The progress of publishing.
pub(super) struct PublishState {
    pub(super) published: Published,
    pub(super) digests: Vec<Option<FileDigest>>,
    pub(super) outputs: BTreeMap<String, OutputRow>,
    pub(super) placing: Placing,
    pub(super) compressor: SegmentCompressor,
}

impl PublishState {
    /// Before anything is written.
    pub(super) fn new(plan: &Plan, style: Option<&str>, placing: Placing) -> Self {
        let files = &plan.files;
        Self {
            published: Published {
                fates: vec![FileFate::Unchanged; files.len()],
                sizes: files.iter().map(|file| file.size(style)).collect(),
                ..Published::default()
            },
            digests: files.iter().map(|file| file.before).collect(),
            outputs: BTreeMap::new(),
            placing,
            compressor: SegmentCompressor::default(),
        }
    }

    /// Records that a file was written.
    pub(super) fn wrote(&mut self, name: String, on_disk: OnDisk) {
        // The main file may be written twice, the first time for the time in between.
        if self.outputs.insert(name.clone(), OutputRow { on_disk, retired: None }).is_none() {
            self.published.written.push(name);
        }
    }

    /// Waits until all finished files are in place.
    pub(super) fn all_placed(&mut self, destination: &dyn Destination) -> Result<(), StoreError> {
        if self.take_placed()? { destination.commit() } else { Ok(()) }
    }

    /// The same, and returns whether there were any. Their names may not be synced yet.
    pub(super) fn take_placed(&mut self) -> Result<bool, StoreError> {
        let placed = self.placing.wait()?;
        let any = !placed.is_empty();
        placed.into_iter().for_each(|(name, on_disk)| self.wrote(name, on_disk));
        Ok(any)
    }
}
