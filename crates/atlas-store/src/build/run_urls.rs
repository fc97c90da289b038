//! What a run leaves behind by URL: those that came, changed and went, and the titles of those that went.

use std::collections::HashMap;

use atlas_core::contribution::{Contribution, url_of};
use atlas_core::placement::FileKind;

use super::found::{Departed, RunFindings};
use crate::arrival::RowId;
use crate::model::{Memory, RunUrls};
use crate::settle::Novelty;

/// How many URLs of each kind are remembered of a run.
const MOST: usize = 10_000;

/// The URLs of a run; `added` are the rows of new entries. A first run has none: its entries are the baseline.
pub(super) fn run_urls(found: &RunFindings, added: &[RowId]) -> RunUrls {
    if found.first {
        return RunUrls::default();
    }
    let urls = |rows: &[RowId]| {
        let rows = &rows[..rows.len().min(MOST)];
        found.arrivals.read_each(rows, |_, row| url_of(row).to_owned())
    };
    let pages = found.settled.candidates.iter().filter(|candidate| candidate.kind == FileKind::Pages);
    let changed = pages.filter(|candidate| candidate.news == Novelty::Changed).map(|candidate| candidate.row_id);
    let gone = |left_out: bool| {
        let gone = found.gone.iter().filter(move |one| one.gone.reason.is_some() == left_out);
        gone.map(|one| one.url.clone()).take(MOST).collect()
    };
    RunUrls {
        added: urls(added),
        changed: urls(&changed.take(MOST).collect::<Vec<_>>()),
        removed: gone(false),
        left_out: gone(true),
    }
}

/// Finds the titles of entries that are gone, as far as a source remembers their pages.
pub(super) fn title_gone(gone: &mut [Departed], memories: &[Memory]) {
    if gone.is_empty() {
        return;
    }
    let mut by_url: HashMap<String, &mut Option<String>> =
        gone.iter_mut().map(|gone| (gone.url.clone(), &mut gone.title)).collect();
    for learnt in memories.iter().flat_map(|memory| memory.known.values()).filter(|learnt| !learnt.row.is_empty()) {
        if let Some(title) = by_url.get_mut(url_of(&learnt.row)) {
            **title = Contribution::read(&learnt.row).title.map(|title| title.into_owned());
        }
    }
}
