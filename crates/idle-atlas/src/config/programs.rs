//! Resolving `[[before_build]]`, `[[when_built]]` and `[[when_failed]]`.

use std::time::Duration;

use atlas_io::program::Program;

use super::context::Context;
use super::file::ConfigFile;
use super::tables::ProgramTable;
use crate::exit::Failure;

/// How long a program may take, in seconds, unless the configuration says otherwise.
const WAIT: u64 = 600;

/// Programs of the user's around a build, each kind in the order in which they run.
#[derive(Debug, Default)]
pub struct Programs {
    /// Before anything is gathered.
    pub before_build: Vec<Program>,
    /// After files changed, and before anything is announced.
    pub when_built: Vec<Program>,
    /// After a build that was held back or failed.
    pub when_failed: Vec<Program>,
}

impl Context<'_> {
    /// The programs around a build.
    pub(super) fn programs(&self, typed: &ConfigFile) -> Result<Programs, Failure> {
        let some = |tables: &[ProgramTable]| {
            let program = |table: &ProgramTable| {
                let wait = self.number("wait_seconds", table.wait_seconds.as_ref(), (1, 86_400), WAIT)?;
                self.program("run", &table.run, Duration::from_secs(wait))
            };
            tables.iter().map(program).collect::<Result<Vec<_>, Failure>>()
        };
        Ok(Programs {
            before_build: some(&typed.before_build)?,
            when_built: some(&typed.when_built)?,
            when_failed: some(&typed.when_failed)?,
        })
    }
}
