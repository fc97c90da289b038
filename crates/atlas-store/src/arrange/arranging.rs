//! The steps of arranging.

use std::cmp::Reverse;
use std::collections::HashMap;
use std::ops::Range;

use atlas_core::placement::{FileKind, FileState, Limits, Placer};
use rayon::prelude::*;

use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::{ContentCounts, FileRow, SegmentText};
use crate::settle::{EntryFate, Settled};

use super::cut::inside;
use super::plan::{FilePlan, Made, Member, MemberOrigin, Plan, SegmentPlan};
use super::series::FileSeries;
use super::site::ArrangedSite;
use super::untouched::{SEGMENTS_AT_A_TIME, UntouchedContents, look_into};
use super::waiting::{Arrival, WaitingEntries, series_of};

/// How many bytes of segment text are kept in memory because the segments will be rebuilt, rather than unpacked twice.
const TEXTS: usize = 32 << 20;

/// Arranges all entries: first the existing ones, file by file; then those that wait for a file, window by window.
/// `None` if some that must move have skipped rows.
pub(crate) fn arrange(site: &ArrangedSite<'_>, settled: &mut Settled) -> Result<Option<Plan>, StoreError> {
    let mut arranging = Arranging::new(site, settled);
    arranging.take_over(settled)?;
    let mut waiting = arranging.make_room(settled)?;
    let wanted = std::mem::take(&mut waiting.recalled);
    let ArrangedSite { ledger, remembered, renderer, .. } = site;
    let recalled = settled.recall(&wanted, renderer.arrivals, *ledger, remembered, renderer.alternates)?;
    if recalled.len() < wanted.len() {
        return Ok(None);
    }
    waiting.candidates.extend(recalled);
    arranging.place(settled, waiting.candidates);
    arranging.fill_news(settled, waiting.news)?;
    Ok(Some(arranging.plan(settled)))
}

struct Arranging<'a> {
    site: &'a ArrangedSite<'a>,
    /// The series, by section and kind of file.
    all_series: Vec<FileSeries<'a>>,
    folded: Vec<i64>,
}

impl<'a> Arranging<'a> {
    fn new(site: &'a ArrangedSite<'a>, settled: &Settled) -> Self {
        let sections = site.sections.list().iter().enumerate();
        let all_series = sections.flat_map(|(at, section)| {
            FileKind::ALL.map(|kind| FileSeries {
                section: at,
                name: &section.name,
                kind,
                cut: site.cut.of(section, kind),
                inside: inside(site.cut.of(section, kind).bytes_per_file, site.renderer.style),
                files: Vec::new(),
                placer: Placer::new(Vec::new(), 1),
                entries: if kind == FileKind::Pages { settled.counts.tallies[at].entries } else { 0 },
                awaited: kind == FileKind::Pages && settled.counts.tallies[at].added > 0,
            })
        });
        // Sections that are no longer configured have lost all their entries to others.
        let gone = |file: &&FileRow| site.sections.named(&file.section).is_none();
        let folded = site.remembered.files.iter().filter(gone).map(|file| file.id).collect();
        Self { site, all_series: all_series.collect(), folded }
    }

    /// Takes over existing files, without removed entries.
    fn take_over(&mut self, settled: &mut Settled) -> Result<(), StoreError> {
        let mut untouched = UntouchedContents::default();
        let candidates: HashMap<u32, u32> =
            settled.candidates.iter().zip(0..).filter_map(|(candidate, at)| Some((candidate.prior?, at))).collect();
        for file in &self.site.remembered.files {
            let Some(section) = self.site.sections.named(&file.section) else { continue };
            let series = &mut self.all_series[series_of(section, file.kind)];
            let limits = Limits {
                urls: series.cut.urls_per_file.for_standing(file.limits.urls),
                bytes: series.inside,
                media: series.cut.media_per_file,
            };
            let mut plan = FilePlan {
                id: Some(file.id),
                section: file.section.clone(),
                kind: file.kind,
                number: file.number,
                limits,
                resized: limits != file.limits,
                before: Some(file.digest),
                segments: Vec::with_capacity(file.segments.len()),
                dropped: Vec::new(),
                loses_to_others: false,
            };
            for segment in &file.segments {
                let fates = &settled.fates[segment.range()];
                if fates.iter().all(|fate| EntryFate::stays(*fate)) {
                    if series.kind != FileKind::News {
                        untouched.note(section, file.id, segment, fates);
                    }
                    plan.segments.push(SegmentPlan::Kept(*segment));
                    continue;
                }
                let mut made = Made { base: Some(*segment), ..Made::new(segment.number) };
                for (fate, nth) in fates.iter().zip(0..) {
                    if EntryFate::stays(*fate) {
                        made.members.push(Member::base(nth));
                    } else if let Some(&at) = candidates.get(&(segment.first as u32 + nth)) {
                        let here = usize::from(settled.candidates[at as usize].section) == section;
                        plan.loses_to_others |= !here;
                        made.members.extend(here.then(|| Member::candidates(at)));
                    }
                }
                match made.members.is_empty() {
                    true => plan.dropped.push(segment.number),
                    false => plan.segments.push(SegmentPlan::Made(made)),
                }
            }
            series.files.push(plan);
        }
        untouched.read(self.site.ledger, settled)?;
        self.measure(settled)?;
        for series in &mut self.all_series {
            series.files.sort_by_key(|file| file.number);
            let states = series.files.iter().map(|file| FileState {
                number: file.number,
                limits: file.limits,
                urls: file.urls() as u32,
                bytes: file.segments.iter().map(SegmentPlan::size).sum(),
                media: file.segments.iter().map(SegmentPlan::media).sum(),
            });
            let next = self.site.remembered.next_numbers.get(&(series.name.to_owned(), series.kind)).copied();
            series.placer = Placer::new(states.collect(), next.unwrap_or(1));
            if series.kind != FileKind::Pages {
                series.entries = series.placer.files().iter().map(|file| u64::from(file.urls)).sum();
            }
        }
        Ok(())
    }

    /// Measures the segments that lost entries or contain changed ones.
    fn measure(&mut self, settled: &mut Settled) -> Result<(), StoreError> {
        let (ledger, renderer) = (self.site.ledger, self.site.renderer);
        let files = self.all_series.iter_mut().flat_map(|series| {
            let section = series.section;
            series.files.iter_mut().map(move |file| (section, file))
        });
        let mut touched: Vec<(i64, usize, &mut Made)> = files
            .flat_map(|(section, file)| {
                let id = file.id.unwrap_or_default();
                file.segments.iter_mut().filter_map(move |segment| match segment {
                    SegmentPlan::Made(made) => Some((id, section, made)),
                    SegmentPlan::Kept(_) => None,
                })
            })
            .collect();
        let mut room = TEXTS;
        for some in touched.chunks_mut(SEGMENTS_AT_A_TIME) {
            let place = |(file, _, made): &&mut (i64, usize, &mut Made)| (*file, made.number);
            let facts = look_into(ledger, &mut *some, place, |(_, section, made), body| {
                let Some(base) = made.base else { return Ok((*section, ContentCounts::default())) };
                let text = SegmentText::read(&body, &base)?;
                for member in std::mem::take(&mut made.members) {
                    let (weight, frame) = renderer.weigh(member, &base, &text, settled);
                    made.add(member, weight, frame);
                }
                let fates = &settled.fates[base.range()];
                let facts = text.facts(&base, |at| fates[at as usize] == EntryFate::Untouched as u8);
                made.text = Some(text);
                Ok((*section, facts))
            })?;
            facts.iter().for_each(|(section, facts)| settled.counts.tallies[*section].add(facts));
            for (.., made) in some {
                made.text.take_if(|text| text.size() > room);
                room -= made.text.as_ref().map_or(0, SegmentText::size);
            }
        }
        Ok(())
    }

    /// Takes entries out of files that are over their limits, and out of files to be folded.
    fn make_room(&mut self, settled: &Settled) -> Result<WaitingEntries, StoreError> {
        let mut waiting = WaitingEntries::default();
        let files = self.all_series.iter().flat_map(|series| &series.files);
        let made = files.flat_map(|file| &file.segments).filter_map(|segment| match segment {
            SegmentPlan::Made(made) => Some(made),
            SegmentPlan::Kept(_) => None,
        });
        let mut placed = vec![false; settled.candidates.len()];
        for member in made.flat_map(|made| &made.members) {
            if let MemberOrigin::Candidate(at) = member.from() {
                placed[at as usize] = true;
            }
        }
        for ((candidate, at), _) in settled.candidates.iter().zip(0..).zip(&placed).filter(|(_, placed)| !**placed) {
            if candidate.kind == FileKind::News {
                waiting.news.push(at);
                continue;
            }
            let series = &mut self.all_series[series_of(usize::from(candidate.section), candidate.kind)];
            series.awaited = true;
            series.entries += u64::from(candidate.kind != FileKind::Pages);
            waiting.candidates.push(at);
        }
        for series in self.all_series.iter_mut().filter(|series| series.kind != FileKind::News) {
            series.shrink_overfull(self.site, settled, &mut waiting)?;
            if series.files.last().is_some_and(|file| file.loses_to_others) {
                series.placer.seal();
            }
            for number in series.placer.fold(series.awaited) {
                let Some(at) = series.files.iter().position(|file| file.number == number) else { continue };
                let file = series.files.remove(at);
                for segment in &file.segments {
                    match segment {
                        SegmentPlan::Kept(row) => waiting.recalled.extend(row.range().map(|at| at as u32)),
                        SegmentPlan::Made(made) => made.members.iter().for_each(|one| waiting.add(*one, made.base)),
                    }
                }
                self.folded.extend(file.id);
            }
        }
        waiting.recalled.sort_unstable();
        Ok(waiting)
    }

    /// Places the waiting entries into the open files, the oldest of each window first, and opens further files as
    /// needed.
    fn place(&mut self, settled: &Settled, mut candidates: Vec<u32>) {
        let renderer = self.site.renderer;
        let arrivals = renderer.arrivals;
        candidates.sort_unstable_by_key(|at| settled.candidates[*at as usize].row_id);
        let mut candidates = candidates.into_iter().peekable();
        let any_added = settled.counts.added.count() > 0;
        let mut window = |blocks: Range<usize>| {
            let end = arrivals.first_of(blocks.end);
            let mut some: Vec<u32> = Vec::new();
            while let Some(at) = candidates.next_if(|at| settled.candidates[*at as usize].row_id < end) {
                some.push(at);
            }
            let mut window: Vec<Arrival> = some.par_iter().map(|at| renderer.arrival(*at, settled)).collect();
            if any_added {
                window.par_extend(renderer.added(blocks, settled));
            }
            window.par_sort_unstable_by_key(|arrival| (arrival.age, arrival.named));
            window
        };
        let all_series = &mut self.all_series;
        let mut put = |arrivals: Vec<Arrival>| {
            for arrival in arrivals {
                all_series[usize::from(arrival.series)].place(arrival.member, arrival.weight(), arrival.frame);
            }
        };
        // Placing is sequential, so the next window is sorted meanwhile.
        let mut ready = Vec::new();
        for blocks in arrivals.windows() {
            (ready, ()) = rayon::join(|| window(blocks), || put(ready));
        }
        put(ready);
    }

    /// Fills the news files: the first holds the newest articles, further ones the older ones, and a file without
    /// articles is removed. A file that would list the same articles stays as it is.
    fn fill_news(&mut self, settled: &Settled, candidates: Vec<u32>) -> Result<(), StoreError> {
        let ArrangedSite { ledger, remembered, renderer, .. } = *self.site;
        let mut news: Vec<Vec<Arrival>> = self.all_series.iter().map(|_| Vec::new()).collect();
        for at in candidates {
            let arrival = renderer.arrival(at, settled);
            news[usize::from(arrival.series)].push(arrival);
        }
        let all_series = self.all_series.iter_mut().zip(news).filter(|(series, _)| series.kind == FileKind::News);
        for (series, mut articles) in all_series {
            articles.sort_unstable_by_key(|article| (Reverse(article.age), article.named));
            let mut before = std::mem::take(&mut series.files);
            if articles.is_empty() {
                series.files = before.extract_if(.., |file| !file.segments.is_empty()).collect();
            }
            series.refill(articles, &mut before);
            for file in &mut series.files {
                let Some(row) = remembered.files.iter().find(|row| Some(row.id) == file.id) else { continue };
                if file.limits == row.limits && would_list_the_same(file, row, ledger, settled)? {
                    *file = FilePlan::as_it_stands(row);
                }
            }
            self.folded.extend(before.iter().filter_map(|file| file.id));
        }
        Ok(())
    }

    fn plan(self, settled: &Settled) -> Plan {
        let mut plan =
            Plan { files: Vec::new(), folded: self.folded, next_numbers: self.site.remembered.next_numbers.clone() };
        for mut series in self.all_series {
            let next = match series.kind {
                FileKind::News => series.files.last().map_or(1, |file| file.number + 1),
                _ => series.placer.next_number(),
            };
            let any = series.entries > 0
                || settled.counts.tallies[series.section].entries > 0 && series.kind == FileKind::Pages;
            if any || next > 1 {
                plan.next_numbers.insert((series.name.to_owned(), series.kind), next);
            }
            plan.files.append(&mut series.files);
        }
        plan
    }
}

/// Whether a file that was filled anew lists the same entries as before, unchanged.
fn would_list_the_same(
    file: &FilePlan,
    before: &FileRow,
    ledger: &dyn Ledger,
    settled: &Settled,
) -> Result<bool, StoreError> {
    let members = file.segments.iter().flat_map(|segment| match segment {
        SegmentPlan::Made(made) => made.members.as_slice(),
        SegmentPlan::Kept(_) => &[],
    });
    let now = members.filter_map(|member| match member.from() {
        MemberOrigin::Candidate(at) => Some(settled.candidates[at as usize].entry),
        _ => None,
    });
    let mut before_entries = Vec::new();
    for segment in &before.segments {
        before_entries.extend(ledger.entries_of(before.id, segment)?);
    }
    Ok(now.eq(before_entries))
}
