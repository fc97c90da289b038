//! Remembering what a run learnt, besides its files.

use std::collections::HashSet;

use super::found::RunFindings;
use super::job::Job;
use crate::arrange::SegmentPlan;
use crate::error::StoreError;
use crate::ledger::{Ledger, Writing};

/// Remembers the new fingerprints of rows that came in another form and say the same, in segments that stay.
pub(super) fn restate(found: &RunFindings, writing: &dyn Writing) -> Result<(), StoreError> {
    let mut restated = found.settled.restated.iter().copied().peekable();
    let kept: HashSet<(i64, u32)> = found
        .plan
        .files
        .iter()
        .flat_map(|file| file.segments.iter().map(move |segment| (file.id, segment)))
        .filter_map(|(file, segment)| match segment {
            SegmentPlan::Kept(row) => Some((file?, row.number)),
            SegmentPlan::Made(_) => None,
        })
        .collect();
    for (file, segment) in found.remembered.segments(|_| true) {
        let range = segment.range();
        let mut raws = None;
        while let Some((at, raw)) = restated.next_if(|(at, _)| range.contains(&(*at as usize))) {
            if !kept.contains(&(file.id, segment.number)) {
                continue;
            }
            if raws.is_none() {
                raws = Some(writing.whole(file.id, segment.number, false)?.into_raws());
            }
            if let Some(raws) = &mut raws {
                let nth = (at as usize - range.start) * 8;
                raws[nth..nth + 8].copy_from_slice(&raw.to_le_bytes());
            }
        }
        if let Some(raws) = raws {
            writing.keep_raws(file.id, segment.number, &raws)?;
        }
    }
    Ok(())
}

/// Remembers what was learnt about files, in a run that writes nothing else.
pub(super) fn learn(job: &Job<'_>, found: &RunFindings, ledger: &mut dyn Ledger) -> Result<(), StoreError> {
    let writing = ledger.transaction()?;
    keep_memories(job, found, &*writing)?;
    writing.commit()
}

/// Saves what sources learnt.
pub(super) fn keep_memories(job: &Job<'_>, found: &RunFindings, writing: &dyn Writing) -> Result<(), StoreError> {
    for (source, memory) in job.sources.iter().zip(&found.memories) {
        writing.remember(&source.name(), source.settings(), memory)?;
    }
    Ok(())
}
