//! A series of files: the files of one kind in a section, while entries are removed and added.

use atlas_core::format::Frame;
use atlas_core::placement::{FileKind, Limits, Placer, Weight};

use super::cut::Cut;
use super::plan::{FilePlan, Made, Member, SegmentPlan};
use super::site::ArrangedSite;
use super::waiting::{Arrival, WaitingEntries};
use crate::error::StoreError;
use crate::model::SegmentText;
use crate::settle::Settled;

/// The files of one kind in a section.
pub(super) struct FileSeries<'a> {
    pub(super) section: usize,
    pub(super) name: &'a str,
    pub(super) kind: FileKind,
    pub(super) cut: Cut,
    pub(super) files: Vec<FilePlan>,
    pub(super) placer: Placer,
    /// The bytes of a file that its entries may use.
    pub(super) inside: u64,
    /// The number of entries in all files.
    pub(super) entries: u64,
    /// Whether entries are waiting to be placed.
    pub(super) awaited: bool,
}

impl FileSeries<'_> {
    /// Takes entries from the end of files that are over their limits.
    pub(super) fn shrink_overfull(
        &mut self,
        site: &ArrangedSite<'_>,
        settled: &Settled,
        waiting: &mut WaitingEntries,
    ) -> Result<(), StoreError> {
        while let Some(number) = self.placer.overfull() {
            let Some(at) = self.files.iter().position(|file| file.number == number) else { break };
            let Some(last) = self.files[at].segments.pop() else { break };
            let made = match last {
                SegmentPlan::Kept(row) => Made::again(row),
                SegmentPlan::Made(made) => made,
            };
            let Some(base) = made.base else { break };
            let text =
                SegmentText::read(&site.ledger.body(self.files[at].id.unwrap_or_default(), base.number)?, &base)?;
            let mut members = made.members;
            while self.placer.overfull() == Some(number)
                && let Some(member) = members.pop()
            {
                self.placer.take_out(number, site.renderer.weigh(member, &base, &text, settled).0);
                waiting.add(member, Some(base));
            }
            self.awaited = true;
            self.files[at].loses_to_others = true;
            if members.is_empty() {
                self.files[at].dropped.push(base.number);
                continue;
            }
            let mut rest = Made { base: Some(base), ..Made::new(base.number) };
            for member in members {
                let (weight, frame) = site.renderer.weigh(member, &base, &text, settled);
                rest.add(member, weight, frame);
            }
            self.files[at].segments.push(SegmentPlan::Made(rest));
        }
        Ok(())
    }

    /// Fills files with these entries from the first file on, whatever they contained before. Files with a known number
    /// are taken from `before`.
    pub(super) fn refill(&mut self, arrivals: Vec<Arrival>, before: &mut Vec<FilePlan>) {
        let limits = Limits {
            urls: self.cut.urls_per_file.when_opened(arrivals.len()),
            bytes: self.inside,
            media: self.cut.media_per_file,
        };
        let mut placer = Placer::new(Vec::new(), 1);
        for arrival in arrivals {
            let number = placer.place(arrival.weight(), limits);
            if self.files.last().is_none_or(|file| file.number != number) {
                let standing = before.iter().position(|file| file.number == number);
                let mut file = standing.map_or_else(|| self.opened(number, limits), |at| before.remove(at));
                file.dropped.extend(file.segments.drain(..).map(|segment| segment.number()));
                file.resized |= file.limits != limits;
                file.limits = limits;
                self.files.push(file);
            }
            if let Some(file) = self.files.last_mut() {
                file.append(arrival.member, arrival.weight(), arrival.frame);
            }
        }
    }

    /// A new, empty file.
    fn opened(&self, number: u32, limits: Limits) -> FilePlan {
        FilePlan {
            id: None,
            section: self.name.to_owned(),
            kind: self.kind,
            number,
            limits,
            resized: false,
            before: None,
            segments: Vec::new(),
            dropped: Vec::new(),
            loses_to_others: false,
        }
    }

    /// Places an entry in the open file, or opens another for it.
    pub(super) fn place(&mut self, member: Member, weight: Weight, frame: Frame) {
        let opening = Limits {
            urls: self.cut.urls_per_file.when_opened(self.entries as usize),
            bytes: self.inside,
            media: self.cut.media_per_file,
        };
        let number = self.placer.place(weight, opening);
        if self.files.last().is_none_or(|file| file.number != number) {
            self.files.push(self.opened(number, opening));
        }
        if let Some(file) = self.files.last_mut() {
            file.append(member, weight, frame);
        }
    }
}
