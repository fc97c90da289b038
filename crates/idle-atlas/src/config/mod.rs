//! The configuration: parsed as typed ([`mod@file`], [`tables`]), then resolved into settings ([`resolve`]). The rest of the
//! program sees only the settings.

mod tables;
mod origin;
mod extends;
pub mod file;
mod context;
mod rules;
mod output;
mod pages;
mod sources;
mod stores;
mod engines;
mod programs;
mod ownership;
mod watch;
mod uptake;
pub mod resolve;
pub mod reference;
pub mod shown;

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use atlas_io::object::ObjectStores;
use atlas_io::reading::files::InputFiles;
use atlas_store::stop::Stop;
use walkdir::{DirEntry, WalkDir};

use crate::args::Shared;
use crate::exit::Failure;

pub use context::replace_variables;
pub use resolve::{Settings, codes};
pub use sources::DOCUMENTS;
pub use uptake::EngineExports;

/// The name of the configuration file, which is looked for in the current folder and its parents.
pub const NAME: &str = "idle-atlas.toml";

/// The configurations that a command applies to: those that are named, or found in a named folder, else the one that is
/// found.
pub fn named(shared: &Shared) -> Result<Vec<PathBuf>, Failure> {
    if !shared.each.is_empty() {
        return matching(&shared.each);
    }
    if shared.config.is_empty() {
        return Ok(vec![find()?]);
    }
    let mut all = Vec::new();
    for path in &shared.config {
        if path.is_dir() {
            all.extend(below(path)?);
        } else {
            all.push(path.clone());
        }
    }
    Ok(all)
}

/// Whether a command applies to several sites, or to all that match a pattern.
pub fn are_several(shared: &Shared) -> bool {
    !shared.each.is_empty() || (!shared.config.is_empty() && named(shared).is_ok_and(|paths| paths.len() > 1))
}

/// All configurations that match one of these patterns, by name.
fn matching(patterns: &[String]) -> Result<Vec<PathBuf>, Failure> {
    let mut all = BTreeSet::new();
    for pattern in patterns {
        let failed = |why: String| Failure::said(format!("--each {pattern}: {why}"));
        let files = InputFiles::parse(pattern, pattern, Path::new("."), &ObjectStores::default()).map_err(failed)?;
        let found = files.find(&Stop::default()).map_err(|error| failed(error.to_string()))?;
        let path = |file: &Path| file.strip_prefix(".").unwrap_or(file).to_owned();
        all.extend(found.into_iter().filter_map(|one| one.input.file().map(path)));
    }
    Ok(all.into_iter().collect())
}

/// Whether no configuration is named and none is found.
pub fn is_none(shared: &Shared) -> bool {
    shared.config.is_empty() && shared.each.is_empty() && find().is_err()
}

/// All configurations in a folder and its subfolders, sorted by name. Hidden folders are skipped.
fn below(folder: &Path) -> Result<Vec<PathBuf>, Failure> {
    let is_hidden = |entry: &DirEntry| entry.depth() > 0 && entry.file_name().to_string_lossy().starts_with('.');
    let walk = WalkDir::new(folder).sort_by_file_name().into_iter().filter_entry(|entry| !is_hidden(entry));
    let mut found = Vec::new();
    for entry in walk {
        let entry = entry.map_err(|error| Failure::said(format!("--config {}: {error}", folder.display())))?;
        if entry.file_type().is_file() && entry.file_name() == NAME {
            found.push(entry.into_path());
        }
    }
    if found.is_empty() {
        return Err(Failure::said(format!(
            "--config {}: there is no {NAME} in this folder or deeper",
            folder.display()
        )));
    }
    Ok(found)
}

/// Rejects a configuration that would overwrite the files of an earlier one.
pub fn apart(before: &[(PathBuf, Settings)], path: &Path, settings: &Settings) -> Result<(), Failure> {
    let Some((other, _)) = before.iter().find(|(_, other)| other.writes_where(settings)) else { return Ok(()) };
    Err(Failure::said(format!(
        "{} and {} write their sitemaps into the same folder, {}; give each site a folder of its own: [files] folder, address",
        other.display(),
        path.display(),
        settings.folder().display()
    )))
}

/// The environment variable that names a file with the text of the configuration as it was when `watch` read it. A round
/// goes by that text, whatever has become of the configuration since.
pub const AS_READ: &str = "IDLE_ATLAS_CONFIGURATION_AS_READ";

/// Reads the configuration at a path.
pub fn load_from(path: &Path) -> Result<Settings, Failure> {
    let as_read = std::env::var_os(AS_READ).map(PathBuf::from);
    let text = fs::read_to_string(as_read.as_deref().unwrap_or(path)).map_err(|error| {
        Failure::said(format!(
            "cannot read the configuration {}: {error}; write one with: idle-atlas init FOLDER",
            path.display()
        ))
    })?;
    let origin = extends::with_shared(path, text)?;
    let typed = file::parse(&origin)?;
    resolve::Settings::from_file(&origin, typed)
}

fn find() -> Result<PathBuf, Failure> {
    // If it is in the current folder, paths in messages stay as short as the user would type them.
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
