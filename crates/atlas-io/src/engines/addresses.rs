//! Protocols that announce the address of a file: the main file, the feeds, or new sitemap files.

use atlas_core::announce::{Change, EngineState};
use atlas_core::fingerprint;
use atlas_core::placement::{NEWEST_ATOM, NEWEST_RSS};
use atlas_store::destination::Names;
use atlas_store::error::StoreError;
use atlas_store::ledger::{Ledger, PendingChanges};
use atlas_store::model::{OutputRuns, Pending};

use super::Tells;

/// What an engine with this progress has to be told of files.
pub(super) fn pending(
    ledger: &dyn Ledger,
    tells: Tells,
    names: &Names,
    state: &EngineState,
) -> Result<PendingChanges, StoreError> {
    let after = state.watermark;
    let addresses = match tells {
        Tells::Urls(_) => Vec::new(),
        Tells::Main => {
            let last_run = ledger.last_run()?;
            let runs = usize::try_from(last_run - after).unwrap_or(0);
            let mut written = ledger.runs(runs)?.into_iter();
            let last = written.find(|run| run.run > after && run.counts.files_written > 0);
            let change = if after == 0 { Change::Added } else { Change::Changed };
            last.map(|run| (names.main_address(), change, run.run)).into_iter().collect()
        }
        Tells::Feeds => {
            let is_feed = |output: &OutputRuns| {
                let name = output.name.rsplit(':').next().unwrap_or_default();
                [NEWEST_ATOM, NEWEST_RSS].contains(&name).then_some(output.changed)
            };
            outputs(ledger, names, after, is_feed)?
        }
        Tells::NewFiles => {
            let is_new = |output: &OutputRuns| {
                (names.is_child(&output.name) || output.name == names.main).then_some(output.made)
            };
            outputs(ledger, names, after, is_new)?
        }
    };
    let mut pending = PendingChanges::default();
    for (url, change, run) in addresses {
        let key = fingerprint::key(0, &url);
        if state.awaits(run, key) {
            pending.push(&Pending { key, url, change, run, ends_run: false });
        }
    }
    pending.sort();
    Ok(pending)
}

/// The addresses of files of ours that changed after a run, with the run that counts for each; `run_of` returns it for a
/// file that is wanted.
fn outputs(
    ledger: &dyn Ledger,
    names: &Names,
    after: i64,
    run_of: impl Fn(&OutputRuns) -> Option<i64>,
) -> Result<Vec<(String, Change, i64)>, StoreError> {
    let addresses = ledger.outputs_after(after)?.into_iter().filter_map(|output| {
        let change = if output.made > after { Change::Added } else { Change::Changed };
        Some((names.address_of(&output.name)?, change, run_of(&output)?))
    });
    Ok(addresses.collect())
}
