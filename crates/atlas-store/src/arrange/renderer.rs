//! Rendering entries as they are written in their files.

use std::ops::Range;

use atlas_core::choose::Kept;
use atlas_core::contribution::Contribution;
use atlas_core::entry::Entry;
use atlas_core::format::{Frame, url_bytes};
use atlas_core::output_policy::OutputPolicy;
use atlas_core::placement::{FileKind, Weight};
use rayon::prelude::*;

use crate::arrival::{Arrivals, RowId};
use crate::derive::Alternates;
use crate::model::{NO_GROUP, SegmentRow, SegmentText, facts_of};
use crate::settle::{Candidate, Settled};

use super::plan::{Member, MemberOrigin};
use super::waiting::{Arrival, series_of};

/// Renders entries.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Renderer<'a> {
    /// The rows.
    pub(crate) arrivals: &'a Arrivals,
    /// What is written for them.
    pub(crate) policy: &'a OutputPolicy,
    /// Groups of translations.
    pub(crate) alternates: &'a Alternates,
    /// The stylesheet of all files.
    pub(crate) style: Option<&'a str>,
}

impl Renderer<'_> {
    /// A candidate as it is written; `contribution` is its row.
    pub(crate) fn entry<'e>(&'e self, candidate: &Candidate, contribution: &'e Contribution<'_>) -> Entry<'e> {
        let group = self.alternates.list(candidate.group);
        self.policy.entry(contribution, candidate.kept(), candidate.observed(), group, candidate.kind)
    }

    /// A new entry as it is written; `contribution` is its row.
    pub(crate) fn new_entry<'e>(&'e self, kept: Kept, group: u32, contribution: &'e Contribution<'_>) -> Entry<'e> {
        self.policy.entry(contribution, kept, None, self.alternates.list(group), FileKind::Pages)
    }

    /// The weight of a candidate, and the namespaces it needs.
    pub(super) fn measure(&self, candidate: &Candidate) -> (Weight, Frame) {
        let row = self.arrivals.row(candidate.row_id);
        measured(&self.entry(candidate, &Contribution::read(&row)))
    }
}

/// The weight of an entry, and the namespaces it needs.
fn measured(entry: &Entry<'_>) -> (Weight, Frame) {
    (Weight { bytes: url_bytes(entry), media: entry.media() }, Frame::of(entry))
}

impl Renderer<'_> {
    /// The weight of an entry in an existing segment, and the namespaces it needs.
    pub(super) fn weigh(
        &self,
        member: Member,
        base: &SegmentRow,
        text: &SegmentText,
        settled: &Settled,
    ) -> (Weight, Frame) {
        match member.from() {
            MemberOrigin::Base(at) => {
                let bytes = text.element(at).len() as u64;
                if base.frame == Frame::default() {
                    return (Weight { bytes, media: 0 }, Frame::default());
                }
                let (frame, facts) = facts_of(text.element(at), base.frame);
                (Weight { bytes, media: u32::try_from(facts.media()).unwrap_or(u32::MAX) }, frame)
            }
            MemberOrigin::Candidate(at) => self.measure(&settled.candidates[at as usize]),
            MemberOrigin::Row(_) => Default::default(),
        }
    }

    pub(super) fn arrival(&self, at: u32, settled: &Settled) -> Arrival {
        let candidate = &settled.candidates[at as usize];
        let series = series_of(usize::from(candidate.section), candidate.kind);
        Arrival::new(candidate.age, candidate.named, Member::candidates(at), series, self.measure(candidate))
    }

    /// The new entries in some blocks.
    pub(super) fn added(&self, blocks: Range<usize>, settled: &Settled) -> impl ParallelIterator<Item = Arrival> {
        let arrivals = self.arrivals;
        blocks.into_par_iter().flat_map_iter(move |at| {
            let (block, before) = (arrivals.block(at), arrivals.first_of(at).0);
            let rows = (0..block.len()).zip(before..);
            let new = rows.filter(|(_, at)| settled.entry_rows.is_new(RowId(*at)));
            let added = new.filter_map(|(row, at)| {
                let summary = block.summary(row);
                let (kept, row_id) = (summary.kept()?, RowId(at));
                let weight = Weight { bytes: u64::from(summary.bytes), media: summary.media() };
                let group = self.alternates.group_of(row_id);
                let measured = match group {
                    NO_GROUP => (weight, summary.frame()),
                    group => {
                        // It was measured without its alternates.
                        let row = arrivals.row(row_id);
                        measured(&self.new_entry(kept, group, &Contribution::read(&row)))
                    }
                };
                let series = series_of(usize::from(kept.section), FileKind::Pages);
                let named = settled.entry_rows.named(row_id);
                Some(Arrival::new(summary.age, named, Member::row(row_id), series, measured))
            });
            added.collect::<Vec<_>>()
        })
    }
}
