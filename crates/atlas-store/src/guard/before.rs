//! The state after the last build, as far as guards compare it.

use std::collections::BTreeMap;

use crate::destination::Gzip;
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::Fact;

/// The state after the last build, as far as guards compare it.
#[derive(Debug, Default)]
pub(crate) struct Before {
    pub(super) site: Option<String>,
    pub(super) main: Option<String>,
    pub(super) gzip: Option<String>,
    pub(super) accepted: BTreeMap<String, u64>,
    /// The instant of the last run, in seconds since 1970.
    pub(super) at: Option<i64>,
}

impl Before {
    pub(crate) fn read(ledger: &dyn Ledger) -> Result<Self, StoreError> {
        let accepted = ledger.fact(Fact::AcceptedLeftOut)?.unwrap_or_default();
        let accepted = accepted.lines().filter_map(|line| {
            let (code, share) = line.split_once(' ')?;
            Some((code.to_owned(), share.parse().ok()?))
        });
        Ok(Self {
            site: ledger.fact(Fact::Site)?,
            main: ledger.fact(Fact::Main)?,
            gzip: ledger.fact(Fact::Gzip)?,
            accepted: accepted.collect(),
            at: ledger.runs(1)?.first().map(|run| run.at),
        })
    }
}

/// The word for the compression in the ledger: whether files end in `.gz`.
pub(super) fn gzip_word(gzip: Gzip) -> &'static str {
    if gzip == Gzip::Only { "only" } else { "plain" }
}
