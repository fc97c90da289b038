//! What has come about of a build so far.

use std::collections::BTreeMap;

use super::placing::Placing;
use crate::arrange::Plan;
use crate::destination::Destination;
use crate::disk::segmented_gzip::SegmentCompressor;
use crate::error::StoreError;
use crate::model::{FileDigest, OnDisk, OutputRow};
use crate::report::{FileFate, RobotsFate};

/// What was published.
#[derive(Debug, Default)]
pub struct Published {
    /// What became of each file of the plan.
    pub fates: Vec<FileFate>,
    /// Unpacked size of each file of the plan.
    pub sizes: Vec<u64>,
    /// Names of files that were written.
    pub written: Vec<String>,
    /// Names of files that left the index in this build.
    pub retired: Vec<String>,
    /// Names of files to remove once the ledger is committed.
    pub to_remove: Vec<String>,
    /// What became of robots.txt.
    pub robots: Option<RobotsFate>,
}

/// What has come about so far.
pub(super) struct PublishState {
    pub(super) published: Published,
    pub(super) standings: Vec<Option<FileDigest>>,
    pub(super) outputs: BTreeMap<String, OutputRow>,
    pub(super) placing: Placing,
    pub(super) compressor: SegmentCompressor,
}

impl PublishState {
    /// Nothing has come about.
    pub(super) fn new(plan: &Plan, style: Option<&str>, placing: Placing) -> Self {
        let files = &plan.files;
        Self {
            published: Published {
                fates: vec![FileFate::Unchanged; files.len()],
                sizes: files.iter().map(|file| file.size(style)).collect(),
                ..Published::default()
            },
            standings: files.iter().map(|file| file.before).collect(),
            outputs: BTreeMap::new(),
            placing,
            compressor: SegmentCompressor::default(),
        }
    }

    /// A file was written.
    pub(super) fn wrote(&mut self, name: String, on_disk: OnDisk) {
        // The main file may be written twice, once for the moments between.
        if self.outputs.insert(name.clone(), OutputRow { on_disk, retired: None }).is_none() {
            self.published.written.push(name);
        }
    }

    /// Waits until every file that was finished is in its place.
    pub(super) fn all_placed(&mut self, destination: &dyn Destination) -> Result<(), StoreError> {
        if self.take_placed()? { destination.commit() } else { Ok(()) }
    }

    /// The same, and tells whether there was any; their folders may not be on the disk yet.
    pub(super) fn take_placed(&mut self) -> Result<bool, StoreError> {
        let placed = self.placing.wait()?;
        let any = !placed.is_empty();
        placed.into_iter().for_each(|(name, on_disk)| self.wrote(name, on_disk));
        Ok(any)
    }
}
