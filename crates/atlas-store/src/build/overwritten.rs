//! The sitemap of another tool that is written over: kept in the ledger's folder, so that nothing which only it knew is lost.

use std::fs;
use std::path::{Path, PathBuf};

use atlas_core::format::read;
use atlas_core::placement::packed_name;

use super::guard::is_ours;
use crate::disk;
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::publish::Place;

/// The folder in the ledger's folder.
const FOLDER: &str = "overwritten";

/// Where the main file of another tool is kept that was written over; it may not be there.
pub fn overwritten(ledger: &Path, main: &str) -> PathBuf {
    ledger.join(FOLDER).join(main)
}

/// Keeps the main file that another tool wrote, and the files beside it that it lists, before they are written over. Returns their
/// names, the main file's first; empty where there is nothing to keep.
pub fn keep_overwritten(place: &Place, ledger: &Ledger) -> Result<Vec<String>, StoreError> {
    let known = ledger.remembered()?.outputs;
    let path = place.folder.join(&place.main);
    let Ok(bytes) = fs::read(&path) else { return Ok(Vec::new()) };
    if known.contains_key(&place.main) || is_ours(&bytes) {
        return Ok(Vec::new());
    }
    let mut names = vec![place.main.clone()];
    let beside = |url: String| {
        let name = url.strip_prefix(place.address.as_str())?.split(['?', '#']).next()?.to_owned();
        (!name.is_empty() && !name.contains(['/', '\\'])).then_some(name)
    };
    // What cannot be read is kept all the same.
    let _ = read(&bytes, |_| (), |child| names.extend(child.loc.and_then(beside)));
    let copies: Vec<String> = names.iter().map(|name| packed_name(&name)).collect();
    names.extend(copies);
    let folder = ledger.folder().join(FOLDER);
    fs::create_dir_all(&folder).map_err(StoreError::io("cannot make", &folder))?;
    let mut kept = Vec::new();
    for name in names {
        if let Ok(bytes) = fs::read(place.folder.join(&name)) {
            disk::replace(&folder.join(&name), &bytes)?;
            kept.push(name);
        }
    }
    Ok(kept)
}
