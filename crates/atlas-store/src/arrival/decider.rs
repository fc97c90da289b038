//! The decider: decides about each row while it is in memory, and gives it the summary that all later steps use.

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};

use atlas_core::choose::{Chooser, Kept, MOST_MADE, Verdict};
use atlas_core::contribution::{Contribution, address_of};
use atlas_core::entry::DatePolicy;
use atlas_core::fingerprint::{self, Prints};
use atlas_core::format::{Bare, Frame, url_bytes};
use atlas_core::lastmod::Lastmod;
use atlas_core::output_policy::{self, Media, OutputPolicy};
use atlas_core::placement::FileKind;

use crate::bytes::key_of;
use crate::model::{KnownChunks, RememberedChunk};

/// Decides about rows as they arrive. Made for one source; cheap to clone.
#[derive(Debug, Clone)]
pub struct Decider {
    seed: u64,
    source: u16,
    rules: Arc<Rules>,
    /// The remembered chunks, if chunks are used.
    chunks: Option<Arc<KnownChunks>>,
    /// Whether all sources recognise their rows. Then groups of translations need no row that says what it said before.
    by_row: bool,
}

/// The settings that decide.
#[derive(Debug)]
struct Rules {
    chooser: Chooser,
    policy: OutputPolicy,
    /// The names of sections that rows make and that do not exist yet.
    new_sections: Mutex<BTreeSet<String>>,
}

/// What is known of a row without reading it again.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct RowSummary {
    /// [`fingerprint::key`] of its URL, in two halves: one number would take 8 bytes more, because of its alignment.
    pub(super) key: [u64; 2],
    /// [`fingerprint::contribution`], or the sum of those of the merged rows.
    pub(crate) row_print: u64,
    /// The fingerprint of the raw row, by which the next build can recognise it unread; 0 if that build has to read it.
    pub(crate) raw: u64,
    /// [`Prints::page`]; 0 if it is left out.
    pub(crate) page: u64,
    /// [`Prints::declared`]; 0 if it is left out.
    pub(crate) declared: u32,
    /// Whether it is kept, and how it is written.
    pub(crate) verdict: Verdict,
    /// The date that is written unless a change of its content was seen.
    pub(crate) date: Option<Lastmod>,
    /// When it was created, in seconds since 1970; far in the future if unknown.
    pub(crate) age: i64,
    /// The bytes of its element in a pages file, if no change was seen and it is in no group of translations.
    pub(crate) bytes: u32,
    /// The number of its pictures that are written, in any kind of file.
    pub(crate) images: u16,
    /// The number of its videos that are written, in any kind of file.
    pub(crate) videos: u16,
    /// The namespaces that its element needs, and the kinds of file besides pages that contain it, as bits.
    pub(super) forms: u8,
    /// [`RowFlag`]s, as bits.
    pub(super) flags: u8,
    /// Where its bytes begin in the block.
    pub(super) start: u32,
}

/// Properties of a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub(crate) enum RowFlag {
    /// Its page was read.
    FromPage = 1,
    /// It declares a date of change.
    Dated = 2,
    /// It may belong to a group of translations.
    SpeaksOfOthers = 4,
    /// It has videos, complete or not.
    HasVideos = 8,
    /// Its date depends on when a change of its content was seen.
    SeenDate = 16,
    /// There is something to report about it, so it has to be read.
    Odd = 32,
}

impl RowSummary {
    /// [`fingerprint::key`] of its URL.
    pub(crate) fn key(&self) -> u128 {
        key_of(self.key)
    }

    /// The number of pictures and videos in its element in a pages file.
    pub(crate) fn media(&self) -> u32 {
        let frame = self.frame();
        let of = |there: bool, number: u16| if there { u32::from(number) } else { 0 };
        of(frame.images, self.images) + of(frame.videos, self.videos)
    }

    /// The namespaces that its element needs.
    pub(crate) fn frame(&self) -> Frame {
        Frame::from_bits(self.forms & 15)
    }

    /// The kinds of file besides pages that contain it.
    pub(crate) fn own_files(&self) -> impl Iterator<Item = FileKind> {
        let kinds = self.forms >> 4;
        [FileKind::Images, FileKind::Videos, FileKind::News].into_iter().filter(move |kind| kinds & bit(*kind) != 0)
    }

    /// The same summary, but the next build has to read the row.
    pub(super) fn doubtful(self) -> Self {
        Self { raw: 0, ..self }
    }

    pub(crate) fn has(&self, one: RowFlag) -> bool {
        self.flags & one as u8 != 0
    }

    /// How it is written, if it is kept.
    pub(crate) fn kept(&self) -> Option<Kept> {
        match self.verdict {
            Verdict::Kept(kept) => Some(kept),
            Verdict::LeftOut(_) => None,
        }
    }

    /// Its element in a pages file, if it has nothing else: no group of translations, and no change was seen.
    pub(crate) fn bare<'r>(&self, kept: &Kept, row: &'r [u8]) -> Option<Bare<'r>> {
        (self.frame() == Frame::default()).then(|| bare(address_of(row), self.date, kept))
    }

    /// [`fingerprint::decided`] of its element in a pages file; 0 if it is left out.
    pub(crate) fn decided(&self) -> u64 {
        self.kept().map_or(0, |kept| fingerprint::decided(self.row_print, &kept, FileKind::Pages))
    }
}

impl Decider {
    /// A decider for the first source.
    pub(crate) fn new(seed: u64, chooser: Chooser, policy: OutputPolicy) -> Self {
        Self {
            seed,
            source: 0,
            rules: Arc::new(Rules { chooser, policy, new_sections: Mutex::default() }),
            chunks: None,
            by_row: false,
        }
    }

    /// The same for a build whose sources all recognise their rows, or not, and that uses these chunks.
    pub(crate) fn recognising(self, by_row: bool, chunks: Option<Arc<KnownChunks>>) -> Self {
        Self { by_row, chunks, ..self }
    }

    /// The same for a source whose rows are not all there each time, so that they make no chunks.
    pub(super) fn without_chunks(self) -> Self {
        Self { chunks: None, ..self }
    }

    /// Whether chunks of rows are used.
    pub fn wants_chunks(&self) -> bool {
        self.chunks.is_some()
    }

    /// What is remembered of the chunk with this print.
    pub fn knows(&self, print: u64) -> Option<&RememberedChunk> {
        self.chunks.as_ref()?.get(&print)
    }

    /// The same decider for another source.
    pub(crate) fn for_source(&self, source: usize) -> Self {
        Self { source: source as u16, ..self.clone() }
    }

    pub(crate) fn seed(&self) -> u64 {
        self.seed
    }

    fn note_sections(&self, contribution: &Contribution<'_>) {
        let sections = &self.rules.chooser.sections;
        let names = [contribution.own_section.as_deref(), contribution.section.as_deref()];
        for name in names.into_iter().flatten().filter(|name| sections.may_make(name)) {
            let mut new = self.rules.new_sections.lock().unwrap_or_else(PoisonError::into_inner);
            if new.len() < MOST_MADE && !new.contains(name) {
                new.insert(name.to_owned());
            }
        }
    }

    /// The names of sections that rows made and that do not exist yet, in order.
    pub(crate) fn new_sections(&self) -> Vec<String> {
        let new = self.rules.new_sections.lock().unwrap_or_else(PoisonError::into_inner);
        new.iter().cloned().collect()
    }

    pub(crate) fn chooser(&self) -> &Chooser {
        &self.rules.chooser
    }

    /// The summary of a row of this source alone.
    pub(super) fn summary(
        &self,
        contribution: &Contribution<'_>,
        row: &[u8],
        raw: u64,
        start: usize,
        scratch: &mut Vec<u8>,
    ) -> RowSummary {
        let print = fingerprint::contribution(contribution, row);
        let summary = self.summary_of_merged(contribution, print, &[self.source], start, scratch);
        // If the decision may differ tomorrow although the row is the same, the row has to be read again.
        let needed = summary.has(RowFlag::SpeaksOfOthers) && !self.by_row;
        let settled = !summary.has(RowFlag::Odd) && !needed && summary.forms >> 4 == 0;
        let own = self.rules.chooser.own_files.may_hold(&contribution.url);
        RowSummary { raw: if settled && !own { raw } else { 0 }, ..summary }
    }

    /// The summary of a row merged from these sources; `sum` is the fingerprint of what they say.
    pub(super) fn summary_of_merged(
        &self,
        contribution: &Contribution<'_>,
        sum: u64,
        sources: &[u16],
        start: usize,
        scratch: &mut Vec<u8>,
    ) -> RowSummary {
        let Rules { chooser, policy, .. } = &*self.rules;
        let mut summary = RowSummary {
            key: halves(fingerprint::key(self.seed, &contribution.url)),
            row_print: sum,
            raw: 0,
            page: 0,
            declared: 0,
            verdict: chooser.choose(contribution, sources),
            date: None,
            age: contribution.age().unwrap_or(i64::MAX),
            bytes: 0,
            images: 0,
            videos: 0,
            forms: 0,
            flags: 0,
            start: start as u32,
        };
        let Some(kept) = summary.kept() else { return summary };
        Prints { page: summary.page, declared: summary.declared } = Prints::of(contribution, scratch);
        let held_back = contribution.modified.is_some_and(|date| !chooser.calendar.may_be_written(&date));
        if held_back {
            // The same row means something else once the date has come.
            summary.row_print = summary.row_print.rotate_left(1);
        }
        summary.date = output_policy::lastmod(contribution, None, kept.date_policy, &chooser.calendar);
        let of_section = policy.of(usize::from(kept.section));
        let bytes = if contribution.images.is_empty() && contribution.videos.is_empty() && of_section.news.is_none() {
            bare(contribution.url.as_bytes(), summary.date, &kept).bytes()
        } else {
            let entry = policy.entry(contribution, kept, None, Vec::new(), FileKind::Pages);
            let (images, videos) = policy.media(contribution, usize::from(kept.section));
            summary.images = u16::try_from(images).unwrap_or(u16::MAX);
            summary.videos = u16::try_from(videos).unwrap_or(u16::MAX);
            let kinds =
                policy.own_files(contribution, usize::from(kept.section)).fold(0, |bits, kind| bits | bit(kind));
            summary.forms = Frame::of(&entry).bits() | kinds << 4;
            url_bytes(&entry)
        };
        summary.bytes = u32::try_from(bytes).unwrap_or(u32::MAX);
        let lacks = || {
            of_section.videos != Media::Off
                && contribution.videos.iter().any(|video| !video.lacks(&contribution.url).is_empty())
        };
        let unknown_section =
            || contribution.own_section.as_deref().is_some_and(|name| chooser.sections.named(name).is_none());
        if contribution.makes_section {
            self.note_sections(contribution);
        }
        let seen = kept.date_policy == DatePolicy::Seen
            || kept.date_policy == DatePolicy::Usual && (contribution.modified.is_none() || held_back);
        let flags = [
            (RowFlag::FromPage, contribution.digest.is_some()),
            (RowFlag::Dated, contribution.modified.is_some()),
            (RowFlag::SpeaksOfOthers, !contribution.alternates.is_empty() || contribution.language_group.is_some()),
            (RowFlag::HasVideos, !contribution.videos.is_empty()),
            (RowFlag::SeenDate, seen),
            (
                RowFlag::Odd,
                contribution.no_head
                    || contribution.expires.is_some()
                    || held_back
                    || !contribution.unknown_players.is_empty()
                    || unknown_section()
                    || lacks(),
            ),
        ];
        summary.flags = flags.iter().filter(|(_, has)| *has).fold(0, |bits, (one, _)| bits | *one as u8);
        summary
    }
}

/// The element of an entry that has only what every element may have.
fn bare<'a>(address: &'a [u8], lastmod: Option<Lastmod>, kept: &Kept) -> Bare<'a> {
    Bare { address, lastmod, changefreq: kept.changefreq, priority: kept.priority }
}

fn halves(key: u128) -> [u64; 2] {
    [key as u64, (key >> 64) as u64]
}

/// The bit of a kind of file. Pages have none.
fn bit(kind: FileKind) -> u8 {
    (1 << kind as u8) >> 1
}

/// Summaries as bytes, for blocks on disk.
pub(super) mod packed {
    use atlas_core::choose::Reason;
    use atlas_core::entry::{Changefreq, Priority};
    use atlas_core::lastmod::BYTES as DATE;

    use super::{DatePolicy, Kept, Lastmod, RowSummary, Verdict, halves};

    /// The size of a summary in bytes.
    pub(in crate::arrival) const BYTES: usize = 16 + 8 + 8 + 12 + 6 + (1 + DATE) + 8 + 4 + 4 + 2 + 4;

    const NONE: u8 = u8::MAX;

    /// Appends a summary.
    pub(in crate::arrival) fn write(summary: &RowSummary, out: &mut Vec<u8>) {
        out.extend_from_slice(&summary.key().to_le_bytes());
        out.extend_from_slice(&summary.row_print.to_le_bytes());
        out.extend_from_slice(&summary.raw.to_le_bytes());
        out.extend_from_slice(&summary.page.to_le_bytes());
        out.extend_from_slice(&summary.declared.to_le_bytes());
        let verdict = match summary.verdict {
            Verdict::LeftOut(reason) => [0, reason as u8, 0, 0, 0, 0],
            Verdict::Kept(kept) => {
                let [low, high] = kept.section.to_le_bytes();
                let changefreq = kept.changefreq.map_or(NONE, |hint| hint as u8);
                let priority = kept.priority.map_or(NONE, |hint| hint.hundredths());
                // The policy leaves room for a bit.
                let policy = kept.date_policy as u8 | u8::from(!kept.announce) << 7;
                [1, low, high, changefreq, priority, policy]
            }
        };
        out.extend_from_slice(&verdict);
        out.push(u8::from(summary.date.is_some()));
        out.extend_from_slice(&summary.date.map_or([0; DATE], |date| date.to_bytes()));
        out.extend_from_slice(&summary.age.to_le_bytes());
        out.extend_from_slice(&summary.bytes.to_le_bytes());
        for number in [summary.images, summary.videos] {
            out.extend_from_slice(&number.to_le_bytes());
        }
        out.extend_from_slice(&[summary.forms, summary.flags]);
        out.extend_from_slice(&summary.start.to_le_bytes());
    }

    /// Reads a summary.
    pub(in crate::arrival) fn read(bytes: &[u8; BYTES]) -> RowSummary {
        let mut rest = &bytes[..];
        fn part<const N: usize>(rest: &mut &[u8]) -> [u8; N] {
            let (part, after) = rest.split_first_chunk().map_or(([0; N], &[][..]), |(part, after)| (*part, after));
            *rest = after;
            part
        }
        let key = halves(u128::from_le_bytes(part(&mut rest)));
        let [row_print, raw, page] = std::array::from_fn(|_| u64::from_le_bytes(part(&mut rest)));
        let declared = u32::from_le_bytes(part(&mut rest));
        let verdict = match part(&mut rest) {
            [1, low, high, changefreq, priority, policy] => Verdict::Kept(Kept {
                section: u16::from_le_bytes([low, high]),
                changefreq: Changefreq::ALL.get(usize::from(changefreq)).copied(),
                priority: Priority::from_hundredths(priority),
                date_policy: DatePolicy::ALL.get(usize::from(policy & 0x7f)).copied().unwrap_or_default(),
                announce: policy < 0x80,
            }),
            [_, reason, ..] => {
                Verdict::LeftOut(Reason::ALL.get(usize::from(reason)).copied().unwrap_or(Reason::Duplicate))
            }
        };
        let [dated] = part(&mut rest);
        let date = Lastmod::from_bytes(&part::<DATE>(&mut rest)).filter(|_| dated != 0);
        let age = i64::from_le_bytes(part(&mut rest));
        let bytes = u32::from_le_bytes(part(&mut rest));
        let [images, videos] = std::array::from_fn(|_| u16::from_le_bytes(part(&mut rest)));
        let [forms, flags] = part(&mut rest);
        let start = u32::from_le_bytes(part(&mut rest));
        RowSummary {
            key,
            row_print,
            raw,
            page,
            declared,
            verdict,
            date,
            age,
            bytes,
            images,
            videos,
            forms,
            flags,
            start,
        }
    }
}

#[cfg(test)]
mod tests {
    use atlas_core::choose::Reason;
    use atlas_core::entry::Priority;
    use proptest::prelude::*;

    use super::*;

    fn verdict() -> impl Strategy<Value = Verdict> {
        prop_oneof![
            (0..Reason::ALL.len()).prop_map(|at| Verdict::LeftOut(Reason::ALL[at])),
            (0u16..70, proptest::option::of(0u8..=100), 0..4usize).prop_map(|(section, priority, policy)| {
                Verdict::Kept(Kept {
                    section,
                    changefreq: None,
                    priority: priority.and_then(Priority::from_hundredths),
                    date_policy: DatePolicy::ALL[policy],
                    announce: section % 2 == 0,
                })
            }),
        ]
    }

    #[test]
    fn a_summary_is_small() {
        // There is one summary per row: 16 bytes more are 16 MB for a million rows.
        assert!(size_of::<RowSummary>() <= 88, "{}", size_of::<RowSummary>());
    }

    proptest! {
        #[test]
        fn a_summary_round_trips_through_the_disk(
            verdict in verdict(),
            day in proptest::option::of(-700_000i32..2_900_000),
            (key, row_print, age) in any::<(u128, u64, i64)>(),
            (bytes, media, forms, flags) in (any::<u32>(), any::<u16>(), 0u8..128, 0u8..64),
            (raw, page, declared) in any::<(u64, u64, u32)>(),
        ) {
            let summary = RowSummary {
                key: halves(key), row_print, raw, page, declared, verdict, date: day.and_then(Lastmod::from_epoch_day), age, bytes, images: media / 2,
                videos: media / 3, forms, flags, start: bytes / 2,
            };
            let mut out = Vec::new();
            packed::write(&summary, &mut out);
            prop_assert_eq!(packed::read(out[..].try_into().unwrap()), summary);
        }
    }
}
