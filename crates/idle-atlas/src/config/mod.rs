//! The configuration file: read as it was typed ([`mod@file`]), then as what it means ([`meaning`]). The rest of the program
//! only sees the second.

pub mod file;
pub mod meaning;
mod sources;

use std::fs;
use std::path::{Path, PathBuf};

use crate::args::Shared;
use crate::exit::Failure;

pub use meaning::Settings;

/// The file's name, looked for upwards from the current folder.
pub const NAME: &str = "idle-atlas.toml";

/// Finds and reads the configuration.
pub fn load(shared: &Shared) -> Result<Settings, Failure> {
    let path = match &shared.config {
        Some(path) => path.clone(),
        None => find()?,
    };
    load_from(&path)
}

/// Reads the configuration at a path.
pub fn load_from(path: &Path) -> Result<Settings, Failure> {
    let text = fs::read_to_string(path).map_err(|error| {
        Failure::said(format!(
            "cannot read the configuration {}: {error}; write one with: idle-atlas init FOLDER",
            path.display()
        ))
    })?;
    let origin = file::Origin { path: path.to_owned(), text };
    let typed = file::parse(&origin)?;
    meaning::Settings::from_file(&origin, typed)
}

fn find() -> Result<PathBuf, Failure> {
    // Where it is right here, paths in messages stay as short as the user would write them.
    if Path::new(NAME).is_file() {
        return Ok(PathBuf::from(NAME));
    }
    let here =
        std::env::current_dir().map_err(|error| Failure::said(format!("there is no current folder: {error}")))?;
    let mut folders = here.ancestors();
    folders.find_map(|folder| Some(folder.join(NAME)).filter(|path| path.is_file())).ok_or_else(|| {
        Failure::said(format!(
            "there is no {NAME} here or in any folder above; write one with: idle-atlas init FOLDER, or name one with --config FILE"
        ))
    })
}
