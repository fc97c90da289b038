//! Declaring the indexes in robots.txt.

use std::path::Path;
use std::{fs, io};

use atlas_core::robots::declare;

use super::place::Place;
use crate::error::StoreError;
use crate::report::RobotsFate;

/// What is to be declared in robots.txt.
pub(crate) struct Declaration<'p> {
    pub(super) path: &'p Path,
    before: Option<Vec<u8>>,
    pub(super) after: Vec<u8>,
}

impl<'p> Declaration<'p> {
    /// Reads robots.txt, where one is named; `declared` are the lines that the tool has written into it before.
    pub(crate) fn of(place: &'p Place, files: usize, declared: &str) -> Result<Option<Self>, StoreError> {
        let Some(path) = &place.robots else { return Ok(None) };
        let before = match fs::read(path) {
            Ok(bytes) => Some(bytes),
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            Err(error) => return Err(StoreError::io("cannot read", path)(error)),
        };
        let wanted = place.index_addresses(files);
        let outdated: Vec<&str> = declared.lines().filter(|line| !wanted.iter().any(|one| one == line)).collect();
        let wanted: Vec<&str> = wanted.iter().map(String::as_str).collect();
        let after = declare(before.as_deref().unwrap_or(b""), &wanted, &outdated);
        Ok(Some(Self { path, before, after }))
    }

    /// What becomes of it.
    pub(crate) fn fate(&self) -> RobotsFate {
        match &self.before {
            Some(before) if *before == self.after => RobotsFate::Unchanged,
            Some(_) => RobotsFate::Declared,
            None => RobotsFate::Created,
        }
    }
}
