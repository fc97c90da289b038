//! Sources that could not be read whole. What they named in the last build stays as it was written, until they can be
//! read again or have failed for too long.

use std::collections::BTreeMap;

use atlas_core::lastmod::Lastmod;
use atlas_core::number::count;
use atlas_core::report::Outcome;

use super::job::Job;
use crate::error::StoreError;
use crate::ledger::{Ledger, Writing};
use crate::model::Fact;
use crate::provenance::Provenances;
use crate::report::Guard;

/// The seconds of a day.
const DAY: i64 = 86_400;

/// The sources of a run that could not be read whole.
#[derive(Debug, Default)]
pub(super) struct Failing {
    /// Since when each has failed, in seconds since 1970, by name.
    since: BTreeMap<String, i64>,
    /// Those whose entries stand, by index.
    pub(super) standing: Vec<u16>,
    /// Why a build is held back because of them.
    pub(super) held: Option<String>,
}

impl Failing {
    /// Finds them among the outcomes, and notes in each since when it has failed.
    pub(super) fn of(job: &Job<'_>, outcomes: &mut [Outcome], ledger: &dyn Ledger) -> Result<Self, StoreError> {
        let known: BTreeMap<String, i64> = match ledger.fact(Fact::Failing)? {
            Some(text) => serde_json::from_str(&text)
                .map_err(|_| StoreError::LedgerDamaged("since when sources have failed cannot be read"))?,
            None => BTreeMap::new(),
        };
        let now = job.now.as_second();
        let read_before = Provenances::new(ledger.provenances()?, Vec::new());
        let mut failing = Self::default();
        for (at, outcome) in (0u16..).zip(outcomes) {
            let Some(failure) = &mut outcome.failure else { continue };
            let since = known.get(&outcome.name).copied().unwrap_or(now).min(now);
            failing.since.insert(outcome.name.clone(), since);
            failure.since = Some(Lastmod::Instant { seconds: since, offset: 0 });
            let days = (now - since) / DAY;
            let is_over = days >= job.thresholds.stand_days;
            let is_new = !read_before.names(&outcome.name);
            if is_new || is_over {
                failing.held.get_or_insert_with(|| {
                    let name = &outcome.name;
                    if is_new {
                        format!("the first build with source {name} would lack what it has, because it could not be read")
                    } else {
                        let limit = count(job.thresholds.stand_days.unsigned_abs(), "day", "days");
                        format!(
                            "source {name} could not be read for {}, and what it named stays as it was for {limit} (stand_days)",
                            count(days.unsigned_abs(), "day", "days")
                        )
                    }
                });
            }
            let is_given_up = is_over && job.allow.contains(&Guard::Part);
            if !is_new && !is_given_up {
                failing.standing.push(at);
            }
        }
        Ok(failing)
    }

    /// Whether any source could not be read whole.
    pub(super) fn is_any(&self) -> bool {
        !self.since.is_empty()
    }

    /// Remembers since when each has failed.
    pub(super) fn remember(&self, writing: &dyn Writing) -> Result<(), StoreError> {
        let text = serde_json::to_string(&self.since).unwrap_or_default();
        writing.set_fact(Fact::Failing, Some(text.as_str()).filter(|_| self.is_any()))
    }
}
