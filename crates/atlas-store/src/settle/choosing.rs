//! Choosing from the entries of one block of rows.

use atlas_core::address;
use atlas_core::choose::{Kept, Reason, Verdict};
use atlas_core::contribution::Said;
use atlas_core::fingerprint::Prints;
use atlas_core::format::{Frame, write_url};
use atlas_core::shape::{self, Media};
use atlas_core::strand::Strand;

use super::judging::bit;
use super::standing::Stand;
use super::{Candidate, Gone, News, Settled, SourceTally, Tally, Terms, UNKNOWN};
use crate::arrival::Arrivals;
use crate::derive::NO_GROUP;
use crate::ledger::{Change, LaneEntry, NEVER};
use crate::report::{DueTo, IncompleteVideo};

/// Choosing the entries of one block.
pub(super) struct Choosing<'a> {
    arrivals: &'a Arrivals,
    lane: &'a [LaneEntry],
    terms: &'a Terms<'a>,
    scratch: Vec<u8>,
    out: Settled,
}

impl<'a> Choosing<'a> {
    pub(super) fn new(arrivals: &'a Arrivals, lane: &'a [LaneEntry], terms: &'a Terms<'a>) -> Self {
        let tallies = vec![Tally::default(); terms.chooser.sections.list().len()];
        Self { arrivals, lane, terms, scratch: Vec::new(), out: Settled { tallies, ..Settled::default() } }
    }

    pub(super) fn run<'s>(mut self, standing: impl Iterator<Item = Stand<'s>>, most: usize) -> Settled {
        self.out.candidates.reserve(most);
        for stand in standing {
            let said = Said::read(self.arrivals.row(stand.place));
            let verdict = stand.choose(&said, self.terms.chooser, self.arrivals);
            self.tally_sources(&stand, matches!(verdict, Verdict::Kept(_)));
            match verdict {
                Verdict::LeftOut(reason) => self.left_out(&said, reason, &stand),
                Verdict::Kept(kept) => self.kept(&said, kept, &stand),
            }
        }
        self.out
    }

    fn tally_sources(&mut self, stand: &Stand<'_>, kept: bool) {
        let alone = [self.arrivals.source_of(stand.place) as u16];
        for &source in stand.origin.map_or(&alone[..], |origin| &origin.sources) {
            let tallies = &mut self.out.sources;
            tallies.resize(tallies.len().max(usize::from(source) + 1), SourceTally::default());
            let tally = &mut tallies[usize::from(source)];
            if kept { tally.kept += 1 } else { tally.left_out += 1 }
        }
    }

    fn left_out(&mut self, said: &Said<'_>, reason: Reason, stand: &Stand<'_>) {
        self.out.left_out.entry(reason).or_default().add(stand.named, &said.url);
        let origin = address::origin(&said.url);
        if reason == Reason::OtherHost && origin != self.terms.chooser.site.root().origin() {
            self.out.elsewhere.entry(origin.to_owned()).or_default().add(stand.named, &said.url);
        }
        if let (Reason::Scheduled, Some(published)) = (reason, said.published) {
            self.out.due.add(published, &said.url, DueTo::GoIn);
        }
        if stand.prior != UNKNOWN {
            let told = (reason == Reason::Redirect).then_some(Change::Redirected);
            self.out.gone.push(Gone { prior: stand.prior, change: told, reason: Some(reason) });
        }
    }

    fn kept(&mut self, said: &Said<'_>, kept: Kept, stand: &Stand<'_>) {
        let &Stand { place, named, prior, origin } = stand;
        let mark = self.arrivals.mark(place);
        let (key, sum) = (mark.key, origin.map_or(mark.said, |origin| origin.sum));
        let prints = Prints::of(said, &mut self.scratch);
        let remembered = self.lane.get(prior as usize);
        let content_moved = remembered.is_some_and(|known| known.page != prints.page);
        let declared_moved = remembered.is_some_and(|known| known.declared != prints.declared);
        let from_page = said.digest.is_some();
        if from_page && remembered.is_some_and(|known| known.from_page) {
            self.out.pages_known += 1;
            self.out.contents_moved += u64::from(content_moved);
            self.out.dates_moved += u64::from(content_moved && declared_moved);
        }
        if self.terms.same_reader
            && from_page
            && remembered.is_some_and(|known| known.from_page)
            && said.modified.is_some()
        {
            match (content_moved, declared_moved) {
                (true, false) => self.out.content_alone.add(named, &said.url),
                (false, true) => self.out.date_alone.add(named, &said.url),
                _ => {}
            }
        }
        if said.no_head {
            self.out.headless.add(named, &said.url);
        }
        let section = said.own_section.as_deref();
        if let Some(section) = section.filter(|name| self.terms.chooser.sections.named(name).is_none()) {
            self.out.unknown_sections.add_with(named, || format!("{}\n“{section}”", said.url));
        }
        let observed = remembered.map_or(NEVER, |known| known.observed);
        let tally = &mut self.out.tallies[kept.section];
        tally.entries += 1;
        let shape = self.terms.shape;
        let (images, videos) = shape.media(said, kept.section);
        tally.images += images;
        tally.videos += videos;
        tally.newest(shape::lastmod(said, Some(observed).filter(|day| *day != NEVER), kept.date_policy));
        let own_strands = shape.own_strands(said, kept.section).fold(0, |bits, strand| bits | bit(strand));
        tally.news += u64::from(own_strands & bit(Strand::News) != 0);
        for video in said.videos.iter().filter(|_| shape.of(kept.section).videos != Media::Off) {
            let lacks = video.lacks(&said.url);
            if !lacks.is_empty() {
                self.out.incomplete.push((named, IncompleteVideo { page: said.url.to_string(), lacks }));
            }
        }
        if let Some(expires) = said.expires {
            self.out.due.add(expires, &said.url, DueTo::Leave);
        }
        let (bytes, media, frame): (_, _, Frame) =
            if prior == UNKNOWN { self.measure(said, kept) } else { Default::default() };
        self.out.candidates.push(Candidate {
            lane: LaneEntry {
                key,
                written: 0,
                page: prints.page,
                declared: prints.declared,
                observed: NEVER,
                changed: self.terms.run,
                from_page,
            },
            place,
            named,
            prior,
            age: said.age().unwrap_or(i64::MAX),
            bytes,
            media,
            frame: frame.bits(),
            section: kept.section as u16,
            strand: Strand::Pages,
            group: NO_GROUP,
            speaks_of_others: !said.alternates.is_empty() || said.language_group.is_some(),
            has_videos: !said.videos.is_empty(),
            own_strands,
            changefreq: kept.changefreq,
            priority: kept.priority,
            date_policy: kept.date_policy,
            same: false,
            news: if prior == UNKNOWN { News::Added } else { News::None },
            content_moved,
            declared_moved,
            dated: said.modified.is_some(),
            said: sum,
        });
    }

    /// A new entry will be placed by its size: it is rendered while its row is at hand.
    fn measure(&mut self, said: &Said<'_>, kept: Kept) -> (u32, u32, Frame) {
        let entry = self.terms.shape.entry(said, kept, None, &[], Strand::Pages);
        self.scratch.clear();
        write_url(&mut self.scratch, &entry);
        (u32::try_from(self.scratch.len()).unwrap_or(u32::MAX), entry.media(), Frame::of(&entry))
    }
}
