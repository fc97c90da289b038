//! Remembering what a run learnt, besides its files.

use std::collections::HashSet;

use super::found::{RunFindings, SOUND};
use super::job::Job;
use crate::arrange::SegmentPlan;
use crate::derive::ARCHIVES;
use crate::error::StoreError;
use crate::ledger::{Ledger, Writing};
use crate::model::{DerivedBefore, Fact};
use crate::settle::GroupsBefore;

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

/// Remembers what was derived from entries, unless it is as before.
pub(super) fn keep_derived(found: &RunFindings, writing: &dyn Writing) -> Result<(), StoreError> {
    if found.stands {
        return Ok(());
    }
    let rows = found.derived.as_ref().map_or_else(Vec::new, |rows| rows.0.clone());
    let groups = GroupsBefore::packed(found.alternates.of_read_rows());
    writing.keep_derived(&DerivedBefore { rows, groups })?;
    let of_archives = found.outcomes.iter().find(|outcome| outcome.name == ARCHIVES);
    // After a run in part, everything is derived again.
    let is_sound = !found.failing.is_any()
        && found.alternates.faults.is_empty()
        && of_archives.is_none_or(|outcome| outcome.problem_count == 0);
    let is_any = found.has_groups() || found.derived.is_some();
    writing.set_fact(Fact::Groups, found.has_groups().then_some("some"))?;
    writing.set_fact(Fact::Derived, is_any.then_some(if is_sound { SOUND } else { "faulty" }))
}

/// Remembers the sections that rows have made.
pub(super) fn keep_sections(found: &RunFindings, writing: &dyn Writing) -> Result<(), StoreError> {
    let made: Vec<&str> = found.chooser().sections.made().collect();
    if made.is_empty() { Ok(()) } else { writing.set_fact(Fact::MadeSections, Some(&made.join("\n"))) }
}

/// Remembers what was learnt about files, in a run that writes nothing else.
pub(super) fn learn(job: &Job<'_>, found: &RunFindings, ledger: &mut dyn Ledger) -> Result<(), StoreError> {
    let writing = ledger.transaction()?;
    keep_memories(job, found, &*writing)?;
    writing.commit()
}

/// Saves what sources learnt.
pub(super) fn keep_memories(job: &Job<'_>, found: &RunFindings, writing: &dyn Writing) -> Result<(), StoreError> {
    for ((source, memory), outcome) in job.sources.iter().zip(&found.memories).zip(&found.outcomes) {
        match outcome.failure {
            // Files that it did not get to are not gone.
            Some(_) => writing.learnt(&source.name(), source.settings(), memory)?,
            None => writing.remember(&source.name(), source.settings(), memory)?,
        }
    }
    Ok(())
}
