//! The shares of chunks in what is derived from entries: counts of archives, and the blocking keys of rows. With these,
//! the rows of unchanged chunks need not be read when other entries have moved.

use std::collections::HashMap;
use std::io;
use std::ops::Range;
use std::path::Path;

use atlas_core::archive::{ArchiveTally, CountedArchive};
use atlas_core::choose::Chooser;
use atlas_core::contribution::Contribution;
use atlas_core::derive::alternates::AlternatesSettings;
use atlas_core::lastmod::{BYTES as DATE, Lastmod};
use atlas_core::output_policy::lastmod;
use rayon::prelude::*;

use super::alternates::blocking_keys;
use crate::arrival::{Arrivals, RowId};
use crate::disk::spill::SpillFile;
use crate::ledger::Remembered;
use crate::model::{ArchiveName, ChunkShare};
use crate::settle::Settled;

/// The size of one count in a share: the number of the archive, of its entries, whether there is a date, and the date.
const COUNT: usize = 4 + 4 + 1 + DATE;

/// How many chunks are read before their shares are packed.
const CHUNKS_AT_A_TIME: usize = 1024;

/// The archives that shares count, by number.
#[derive(Debug, Clone, Default)]
pub(crate) struct ArchiveNumbers {
    list: Vec<ArchiveName>,
    numbers: HashMap<ArchiveName, u32>,
    /// How many of them the ledger knows.
    known: usize,
}

impl ArchiveNumbers {
    /// Those that the ledger knows.
    pub(crate) fn known(list: Vec<ArchiveName>) -> Self {
        let numbers = list.iter().cloned().zip(0..).collect();
        Self { known: list.len(), list, numbers }
    }

    /// The number of the first that the ledger does not know, and all from there on.
    pub(crate) fn added(&self) -> (usize, &[ArchiveName]) {
        (self.known, &self.list[self.known..])
    }

    fn number(&mut self, archive: ArchiveName) -> u32 {
        let next = self.list.len() as u32;
        *self.numbers.entry(archive).or_insert_with_key(|archive| {
            self.list.push(archive.clone());
            next
        })
    }

    /// Appends the counts of a tally to a share.
    fn write(&mut self, tally: &ArchiveTally<'_>, out: &mut Vec<u8>) {
        for CountedArchive { kind, slug, name, members, newest } in tally.counts() {
            let number = self.number(ArchiveName { kind: kind as u32, slug: slug.to_owned(), name: name.to_owned() });
            out.extend_from_slice(&number.to_le_bytes());
            out.extend_from_slice(&(members as u32).to_le_bytes());
            out.push(u8::from(newest.is_some()));
            out.extend_from_slice(&newest.map_or([0; DATE], |date| date.to_bytes()));
        }
    }
}

/// The sums of the counts in shares, by the number of the archive.
#[derive(Debug, Default)]
pub(super) struct ShareSums(Vec<(u64, Option<Lastmod>)>);

impl ShareSums {
    /// Adds the counts of a share.
    pub(super) fn add(&mut self, counts: &[u8]) {
        for count in counts.as_chunks::<COUNT>().0 {
            let number = |at: usize| u32::from_le_bytes([count[at], count[at + 1], count[at + 2], count[at + 3]]);
            let at = number(0) as usize;
            self.0.resize(self.0.len().max(at + 1), (0, None));
            let (members, newest) = &mut self.0[at];
            *members += u64::from(number(4));
            let date = Lastmod::from_bytes(&count[9..]).filter(|_| count[8] != 0);
            if date.map(|date| date.seconds()) > newest.map(|date| date.seconds()) {
                *newest = date;
            }
        }
    }

    /// Adds the sums to a tally.
    pub(super) fn count_in(&self, archives: &ArchiveNumbers, tally: &mut ArchiveTally<'_>) {
        let counted = self.0.iter().zip(&archives.list).filter(|((members, _), _)| *members > 0);
        for (&(members, newest), ArchiveName { kind, slug, name }) in counted {
            tally.add_counted(CountedArchive { kind: *kind as usize, slug, name, members, newest });
        }
    }
}

/// Appends the blocking keys of a row to a share.
fn write_keys(keys: impl Iterator<Item = u32>, out: &mut Vec<u8>) {
    let start = out.len();
    out.extend_from_slice(&[0; 4]);
    keys.for_each(|key| out.extend_from_slice(&key.to_le_bytes()));
    let number = ((out.len() - start) / 4 - 1) as u32;
    out[start..start + 4].copy_from_slice(&number.to_le_bytes());
}

/// The blocking keys of each row in a share.
pub(super) fn keys_of_rows(keys: &[u8]) -> impl Iterator<Item = &[[u8; 4]]> {
    let mut rest = keys.as_chunks().0;
    std::iter::from_fn(move || {
        let (number, after) = rest.split_first()?;
        let (row, after) = after.split_at_checked(u32::from_le_bytes(*number) as usize)?;
        rest = after;
        Some(row)
    })
}

/// The shares of the chunks of one build, on disk.
pub(crate) struct ChunkShares {
    /// Where each is, by the print of the chunk, and how long its counts and its keys are.
    places: HashMap<u64, (u64, u32, u32)>,
    spill: SpillFile,
    end: u64,
}

impl ChunkShares {
    /// None so far.
    pub(crate) fn new(folder: &Path) -> Self {
        Self { places: HashMap::new(), spill: SpillFile::new(folder), end: 0 }
    }

    /// Notes a share in the bytes that are put next: where it begins there, and how long its counts and its keys are.
    fn note(&mut self, print: u64, (start, counts, keys): (usize, usize, usize)) {
        self.places.insert(print, (self.end + start as u64, counts as u32, keys as u32));
    }

    fn put(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.spill.put(bytes)?;
        self.end += bytes.len() as u64;
        Ok(())
    }

    /// The share of a chunk, if it has one.
    pub(crate) fn get(&self, print: u64) -> io::Result<Option<ChunkShare>> {
        let Some((at, counts, keys)) = self.places.get(&print) else { return Ok(None) };
        let mut bytes = self.spill.get(*at, (counts + keys) as usize)?;
        let keys = bytes.split_off(*counts as usize);
        Ok(Some(ChunkShare { counts: bytes, keys }))
    }
}

/// Makes the shares of the chunks of one build.
pub(crate) struct ShareMaker<'a> {
    pub(crate) arrivals: &'a Arrivals,
    pub(crate) settled: &'a Settled,
    pub(crate) remembered: &'a Remembered,
    pub(crate) chooser: &'a Chooser,
    /// How groups of translations are found, if there may be any.
    pub(crate) alternates: Option<&'a AlternatesSettings>,
}

impl ShareMaker<'_> {
    /// The shares of all chunks that were divided into rows.
    pub(crate) fn shares(&self, archives: &mut ArchiveNumbers) -> io::Result<ChunkShares> {
        let stands = |row_id| self.settled.entry_rows.is_entry(row_id);
        let mut chunks = self.arrivals.chunks().divided(&stands).map(|(print, rows)| (print, rows.collect()));
        let mut shares = ChunkShares::new(self.arrivals.folder());
        loop {
            let some: Vec<(u64, Vec<(RowId, bool)>)> = chunks.by_ref().take(CHUNKS_AT_A_TIME).collect();
            if some.is_empty() {
                return Ok(shares);
            }
            let made: Vec<(ArchiveTally<'_>, Vec<u8>)> = some.par_iter().map(|(_, rows)| self.share(rows)).collect();
            let mut bytes = Vec::new();
            for ((print, _), (tally, keys)) in some.iter().zip(made) {
                let start = bytes.len();
                archives.write(&tally, &mut bytes);
                shares.note(*print, (start, bytes.len() - start, keys.len()));
                bytes.extend_from_slice(&keys);
            }
            shares.put(&bytes)?;
        }
    }

    fn share(&self, rows: &[(RowId, bool)]) -> (ArchiveTally<'_>, Vec<u8>) {
        let Self { arrivals, chooser, .. } = *self;
        let (mut tally, mut keys) = (chooser.archives.tally(), Vec::new());
        let mut rows = rows.iter().peekable();
        while let Some((first, _)) = rows.peek() {
            let (at, _) = arrivals.find(*first);
            let Range { start, end } = arrivals.first_of(at).0..arrivals.first_of(at + 1).0;
            let block = arrivals.block(at);
            while let Some((row_id, is_quiet)) = rows.next_if(|(row_id, _)| row_id.0 < end) {
                let (row, summary) = block.entry((row_id.0 - start) as usize);
                let contribution = Contribution::read(&row);
                if let Some(settings) = self.alternates {
                    write_keys(blocking_keys(&contribution, settings, arrivals.decider().seed()), &mut keys);
                }
                if let Some(kept) = summary.kept().filter(|_| *is_quiet && !chooser.archives.is_empty()) {
                    let section = &chooser.sections.list()[usize::from(kept.section)].name;
                    let prior = self.settled.entry_rows.assignment.of(*row_id).prior().flatten();
                    let seen = self.settled.observed(self.remembered, prior);
                    tally.add(
                        &contribution,
                        section,
                        lastmod(&contribution, seen, kept.date_policy, &chooser.calendar),
                    );
                }
            }
        }
        (tally, keys)
    }
}

#[cfg(test)]
mod tests {
    use atlas_core::archive::{Archive, Archives, By};
    use jiff::tz::TimeZone;

    use super::*;

    #[test]
    fn counts_of_shares_add_up() {
        let archives = Archives::new(vec![Archive::new(By::Tag, "/tags/{slug}/")], TimeZone::UTC);
        let counted = |name, members, day| CountedArchive {
            kind: 0,
            slug: "winter-days",
            name,
            members,
            newest: Lastmod::from_epoch_day(day),
        };
        let (mut numbers, mut sums) = (ArchiveNumbers::default(), ShareSums::default());
        for counted in [counted("Winter days", 3, 20), counted("winter days", 2, 30), counted("Winter days", 1, 10)] {
            let (mut tally, mut share) = (archives.tally(), Vec::new());
            tally.add_counted(counted);
            numbers.write(&tally, &mut share);
            sums.add(&share);
        }
        let mut tally = archives.tally();
        sums.count_in(&ArchiveNumbers::known(numbers.added().1.to_vec()), &mut tally);
        assert_eq!(tally.counts().collect::<Vec<_>>(), [counted("Winter days", 6, 30)]);
    }

    #[test]
    fn keys_come_back_row_by_row() {
        let mut keys = Vec::new();
        for row in [&[1u32, 2][..], &[3], &[4, 5, 6]] {
            write_keys(row.iter().copied(), &mut keys);
        }
        let rows: Vec<Vec<u32>> =
            keys_of_rows(&keys).map(|row| row.iter().map(|key| u32::from_le_bytes(*key)).collect()).collect();
        assert_eq!(rows, [vec![1, 2], vec![3], vec![4, 5, 6]]);
    }
}
