//! Protocols that announce the address of a file: the main file, the feeds, or new sitemap files.

use atlas_core::announce::{Change, EngineState};
use atlas_core::fingerprint;
use atlas_core::placement::{NEWEST_ATOM, NEWEST_RSS, is_packed, parts_of, plain_name};
use atlas_store::destination::{Gzip, Names};
use atlas_store::error::StoreError;
use atlas_store::ledger::Ledger;
use atlas_store::model::{OutputRuns, Pending};

use super::Tells;

/// What an engine has to be told of files, sorted by key. An engine that was never told anything is told at once, even
/// if nothing has changed since the baseline.
pub(super) fn pending(
    ledger: &dyn Ledger,
    tells: Tells,
    names: &Names,
    state: &EngineState,
    all: bool,
) -> Result<Vec<Pending>, StoreError> {
    let is_first = all || !state.was_told;
    let after = if is_first { 0 } else { state.watermark };
    let mut pending = match tells {
        Tells::Urls(_) => Vec::new(),
        Tells::Main if is_first => vec![address(names.main_address(), Change::Added)],
        Tells::Main => {
            let runs = usize::try_from(state.target() - after).unwrap_or(0);
            let mut written = ledger.runs(runs)?.into_iter();
            let is_new = written.any(|run| run.run > after && run.counts.files_written > 0);
            is_new.then(|| address(names.main_address(), Change::Changed)).into_iter().collect()
        }
        Tells::Feeds => {
            let is_feed = |output: &OutputRuns| {
                let name = output.name.rsplit(':').next().unwrap_or_default();
                [NEWEST_ATOM, NEWEST_RSS].contains(&name)
            };
            outputs(ledger, names, after, is_feed)?
        }
        Tells::NewFiles => {
            let packed = names.gzip == Gzip::Only;
            let is_new = |output: &OutputRuns| {
                let is_child = parts_of(plain_name(&output.name)).is_some() && is_packed(&output.name) == packed;
                output.made > after && (is_child || output.name == names.main)
            };
            outputs(ledger, names, after, is_new)?
        }
    };
    pending.sort_unstable_by_key(|one| one.key);
    Ok(pending)
}

/// The addresses of files of ours that changed after a run.
fn outputs(
    ledger: &dyn Ledger,
    names: &Names,
    after: i64,
    is_wanted: impl Fn(&OutputRuns) -> bool,
) -> Result<Vec<Pending>, StoreError> {
    let outputs = ledger.outputs_after(after)?.into_iter().filter(is_wanted);
    let addresses = outputs.filter_map(|output| {
        let change = if output.made > after { Change::Added } else { Change::Changed };
        Some(address(names.address_of(&output.name)?, change))
    });
    Ok(addresses.collect())
}

fn address(url: String, change: Change) -> Pending {
    Pending { key: fingerprint::key(0, &url), url, change }
}
