//! Withdrawing: the files of this tool and its lines in robots.txt leave the web root, and nothing else does.

use std::collections::BTreeSet;

use atlas_core::robots::{declare, sitemap_lines};
use serde::Serialize;

use super::job::Job;
use crate::destination::{ROBOTS, has_bytes, replace};
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::Fact;

/// What leaves the web root, or would.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Withdrawn {
    /// Names of the files.
    pub files: Vec<String>,
    /// Names of files that this tool wrote and somebody has changed since. They stay.
    pub changed: Vec<String>,
    /// The `Sitemap:` lines that leave robots.txt.
    pub lines: Vec<String>,
}

impl Withdrawn {
    /// Whether there is nothing.
    pub fn is_empty(&self) -> bool {
        self.files.is_empty() && self.lines.is_empty()
    }
}

/// Finds what the tool has written.
///
/// # Errors
///
/// Returns an error if the ledger or robots.txt cannot be read.
pub fn withdrawal(job: &Job<'_>, ledger: &dyn Ledger) -> Result<Withdrawn, StoreError> {
    let mut withdrawn = Withdrawn { files: Vec::new(), changed: Vec::new(), lines: Vec::new() };
    for (name, output) in &ledger.remembered()?.outputs {
        if job.destination.version(name)?.is_none() {
            continue;
        }
        match has_bytes(job.destination, name, &output.on_disk) {
            true => withdrawn.files.push(name.clone()),
            false => withdrawn.changed.push(name.clone()),
        }
    }
    let declared = ledger.fact(Fact::Declared)?.unwrap_or_default();
    let there = sitemap_lines(&job.destination.read(ROBOTS)?.unwrap_or_default());
    let ours =
        there.into_iter().map(|(_, address)| address).filter(|address| declared.lines().any(|one| one == address));
    withdrawn.lines = ours.collect();
    Ok(withdrawn)
}

/// Takes everything that the tool has written out of the web root. The lines in robots.txt go first, then the main file,
/// then the files that it leads to, so that at no instant anything leads to a file that is gone. The ledger remembers the
/// site, so that a later build goes on where this one left off.
///
/// # Errors
///
/// Returns an error if a file cannot be removed, or the ledger fails. Then the same call does the rest.
pub fn withdraw(job: &Job<'_>, ledger: &mut dyn Ledger) -> Result<Withdrawn, StoreError> {
    let withdrawn = withdrawal(job, ledger)?;
    if !withdrawn.lines.is_empty()
        && let Some(robots) = job.destination.read(ROBOTS)?
    {
        let lines: Vec<&str> = withdrawn.lines.iter().map(String::as_str).collect();
        replace(job.destination, ROBOTS, &declare(&robots, &[], &lines))?;
    }
    let all: BTreeSet<&String> = withdrawn.files.iter().collect();
    let is_main = |name: &&&String| name.starts_with(job.names.main.as_str());
    let (main, others): (Vec<&String>, Vec<&String>) = all.into_iter().partition(|name| is_main(&name));
    main.iter().chain(&others).try_for_each(|name| job.destination.remove(name))?;
    job.destination.commit()?;
    job.destination.publish()?;
    let writing = ledger.transaction()?;
    withdrawn.files.iter().chain(&withdrawn.changed).try_for_each(|name| writing.drop_output(name))?;
    writing.set_fact(Fact::Declared, None)?;
    writing.set_fact(Fact::FormerMain, None)?;
    writing.commit()?;
    Ok(withdrawn)
}
