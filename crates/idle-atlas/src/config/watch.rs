//! Resolving `[watch]`.

use std::path::PathBuf;

use jiff::SignedDuration;

use super::context::{Context, period};
use super::tables::{At, WatchTable};
use crate::exit::Failure;

/// How long nothing may have changed before a build, in seconds.
const QUIET: i64 = 5;

/// How a site is watched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WatchSettings {
    /// How long nothing may have changed before a build.
    pub quiet: SignedDuration,
    /// How often to build without a change, if the configuration says so.
    pub every: Option<SignedDuration>,
    /// Folders and files to watch besides what sources read.
    pub also: Vec<PathBuf>,
}

impl Context<'_> {
    /// How the site is watched.
    pub(super) fn watching(&self, table: &WatchTable) -> Result<WatchSettings, Failure> {
        let quiet = self.number("quiet_seconds", table.quiet_seconds.as_ref(), (0, 3_600), QUIET)?;
        let every = |typed: &At<String>| period("every", self.origin, typed, "such as \"15m\" or \"6h\"");
        let also = |typed: &At<String>| {
            let path = self.folder.join(typed.as_ref());
            match path.exists() {
                true => Ok(path),
                false => Err(self.origin.error(typed, format!("“also”: there is no {}", path.display()))),
            }
        };
        Ok(WatchSettings {
            quiet: SignedDuration::from_secs(quiet),
            every: table.every.as_ref().map(every).transpose()?,
            also: table.also.iter().map(also).collect::<Result<_, _>>()?,
        })
    }
}
