//! Which sitemap files stand in which console, by the user's own word.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use crate::destination::Names;
use crate::error::StoreError;
use crate::ledger::Ledger;

/// What is to be done in one console.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ConsoleFiles {
    /// The name by which the user knows it.
    pub console: String,
    /// The addresses of files to submit: the main file, and new child files if others were submitted there.
    pub submit: Vec<String>,
    /// The addresses of files to remove, because they are no longer part of the sitemap.
    pub remove: Vec<String>,
}

/// The addresses of the main file and of all files that it leads to.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn sitemap_files(ledger: &dyn Ledger, names: &Names) -> Result<BTreeSet<String>, StoreError> {
    let outputs = ledger.outputs_after(-1)?;
    let listed = outputs.iter().filter(|output| output.name == names.main || names.is_child(&output.name));
    Ok(listed.filter_map(|output| names.address_of(&output.name)).collect())
}

/// What is to be done in each console that the user has submitted a file in.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn consoles(ledger: &dyn Ledger, names: &Names) -> Result<Vec<ConsoleFiles>, StoreError> {
    let mut submitted: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for file in ledger.submitted_files()? {
        submitted.entry(file.console).or_default().insert(file.address);
    }
    if submitted.is_empty() {
        return Ok(Vec::new());
    }
    let (current, main) = (sitemap_files(ledger, names)?, names.main_address());
    let consoles = submitted.into_iter().map(|(console, submitted)| {
        // Who submitted children wants each of them; else the main file is enough.
        let wants_children = submitted.iter().any(|address| *address != main);
        let is_missing = |address: &&String| !submitted.contains(*address) && (**address == main || wants_children);
        let submit = current.iter().filter(is_missing).cloned().collect();
        let remove = submitted.difference(&current).cloned().collect();
        ConsoleFiles { console, submit, remove }
    });
    Ok(consoles.collect())
}
