//! The sitemap of another tool that is written over: kept in the ledger's folder, so that nothing which only it knew is lost.

use std::fs;
use std::path::{Path, PathBuf};

use atlas_core::format::read;
use atlas_core::placement::packed_name;

use crate::destination::{Destination, Names};
use crate::disk;
use crate::error::StoreError;
use crate::guard::is_ours;
use crate::ledger::Ledger;

/// The folder in the ledger's folder.
const FOLDER: &str = "overwritten";

/// Where the main file of another tool is kept that was written over; it may not be there.
pub fn overwritten(ledger: &Path, main: &str) -> PathBuf {
    ledger.join(FOLDER).join(main)
}

/// Keeps the main file that another tool wrote, and the files beside it that it lists, in the ledger's folder, before they are
/// written over. Returns their
/// names, the main file's first; empty where there is nothing to keep.
pub fn keep_overwritten(
    (destination, names): (&dyn Destination, &Names),
    ledger: &dyn Ledger,
    folder: &Path,
) -> Result<Vec<String>, StoreError> {
    let known = ledger.remembered()?.outputs;
    let Some(bytes) = destination.read(&names.main)? else { return Ok(Vec::new()) };
    if known.contains_key(&names.main) || is_ours(&bytes) {
        return Ok(Vec::new());
    }
    let mut kept_names = vec![names.main.clone()];
    let beside = |url: String| {
        let name = url.strip_prefix(names.address.as_str())?.split(['?', '#']).next()?.to_owned();
        (!name.is_empty() && !name.contains(['/', '\\'])).then_some(name)
    };
    // What cannot be read is kept all the same.
    let _ = read(&bytes, |_| (), |child| kept_names.extend(child.loc.and_then(beside)));
    let copies: Vec<String> = kept_names.iter().map(|name| packed_name(name)).collect();
    kept_names.extend(copies);
    let folder = folder.join(FOLDER);
    fs::create_dir_all(&folder).map_err(StoreError::io("cannot make", &folder))?;
    let mut kept = Vec::new();
    for name in kept_names {
        if let Some(bytes) = destination.read(&name)? {
            disk::replace(&folder.join(&name), &bytes)?;
            kept.push(name);
        }
    }
    Ok(kept)
}
