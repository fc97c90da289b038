//! Keeping the sitemap of another tool before it is overwritten, in the ledger's folder, so that nothing that only this
//! sitemap recorded is lost.

use std::fs;
use std::path::{Path, PathBuf};

use atlas_core::format::read;
use atlas_core::placement::packed_name;

use crate::destination::{Destination, Names};
use crate::disk;
use crate::error::StoreError;
use crate::guard::is_ours;
use crate::ledger::Ledger;

/// The name of its folder within the ledger's.
const FOLDER: &str = "overwritten";

/// Where the overwritten main file of another tool is kept, if there is one.
pub fn overwritten(ledger: &Path, main: &str) -> PathBuf {
    ledger.join(FOLDER).join(main)
}

/// Copies the main file of another tool, and the files beside it that it lists, into the ledger's folder before they
/// are overwritten. Returns their names, starting with the main file; empty if there is nothing to keep.
///
/// # Errors
///
/// Returns an error if a file cannot be read or copied, or the ledger cannot be read.
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
    let beside = |url: std::borrow::Cow<'_, str>| {
        let name = url.strip_prefix(names.address.as_str())?.split(['?', '#']).next()?.to_owned();
        (!name.is_empty() && !name.contains(['/', '\\'])).then_some(name)
    };
    // A file that cannot be read is kept, too.
    let _ = read(&bytes, |_| (), |child| kept_names.extend(child.loc.and_then(beside)));
    let copies: Vec<String> = kept_names.iter().map(|name| packed_name(name)).collect();
    kept_names.extend(copies);
    keep_files(destination, &kept_names, folder)
}

/// A name for the copy of a file. No two names have the same.
fn file_name(name: &str) -> String {
    name.replace('%', "%25").replace('/', "%2F").replace(':', "%3A")
}

/// Copies those of these files that exist into the ledger's folder. Returns their names.
pub(super) fn keep_files(
    destination: &dyn Destination,
    names: &[String],
    folder: &Path,
) -> Result<Vec<String>, StoreError> {
    let folder = folder.join(FOLDER);
    let mut kept = Vec::new();
    for name in names {
        if let Some(bytes) = destination.read(name)? {
            fs::create_dir_all(&folder).map_err(StoreError::io("cannot make", &folder))?;
            disk::replace(&folder.join(file_name(name)), &bytes)?;
            kept.push(name.clone());
        }
    }
    Ok(kept)
}
