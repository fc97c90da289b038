//! Joining: which rows name the same URL, and where the ledger remembers it. Rows are read only if several have to be
//! merged.

use std::collections::BTreeMap;
use std::io;
use std::sync::atomic::{AtomicU8, AtomicU64};
use std::sync::{Mutex, PoisonError};

use atlas_core::contribution::url_of;
use rayon::prelude::*;

use super::assignment::Assignment;
use super::entry_rows::{EntryRows, Origins};
use super::expected::Expected;
use super::fate::{EntryFate, GroupsBefore};
use super::merged_rows::MergedRows;
use super::partition::{JoinedPartition, Joining, Odds, StandingEntry, Sure};
use super::shared_rows::{RowsOfPart, SharedRows};
use super::{ReportLimits, Sample};
use crate::arrival::{Arrivals, Block};
use crate::disk::spill::PARTITIONS;
use crate::ledger::Remembered;
use crate::provenance::{Provenances, Unchanged};

/// The result of joining.
#[derive(Debug, Default)]
pub(crate) struct Joined {
    /// Which rows represent entries.
    pub(crate) entry_rows: EntryRows,
    /// The [`EntryFate`] of each remembered entry.
    pub(crate) fates: Vec<u8>,
    /// Rows whose source had already named the URL.
    pub(crate) duplicates: Option<Sample>,
    /// Fields on which two sources disagree.
    pub(crate) at_odds: BTreeMap<Odds, Sample>,
    /// The number of remembered entries whose page was read both then and now.
    pub(crate) pages_known: u64,
    /// Remembered entries that stay as they were because sources could not be read, in the order of the ledger.
    pub(crate) standing: Vec<StandingEntry>,
    /// Remembered entries that stay as they were because nothing about them changed.
    pub(crate) unchanged: Unchanged,
    /// Whether an entry can be told only by reading all sources in full.
    pub(crate) is_unclear: bool,
    /// Whether anything moved: an entry came, left, or may have changed. Pages of archives do not count.
    pub(crate) has_moved: bool,
    /// For each remembered entry that may be written as before with its group of translations: the fingerprint of what
    /// was written; 0 for all others.
    pub(crate) written: Vec<u64>,
}

/// Joins the keys of all rows with each other and with those that the ledger remembers. Merged rows are added to the
/// arrivals, in the order of their first rows.
pub(crate) fn join(
    arrivals: &mut Arrivals,
    remembered: Option<&Remembered>,
    expected: Option<&Expected>,
    (provenances, settings): (&Provenances, u64),
    watch: Option<&GroupsBefore>,
    telling: ReportLimits<'_>,
) -> io::Result<Joined> {
    let shared = SharedRows::read(arrivals, expected)?;
    let entries = remembered.map_or(0, Remembered::entries);
    let untouched = |at: usize| remembered.is_some_and(|remembered| remembered.untouched.holds(at));
    let fate = |at: usize| if untouched(at) { EntryFate::Untouched } else { EntryFate::Gone };
    let joining = Joining {
        arrivals,
        remembered,
        expected,
        provenances,
        single: provenances.single(),
        settings,
        sets: Mutex::default(),
        merged: MergedRows::new(arrivals.decider(), arrivals.folder(), arrivals.memory() / 4),
        watch,
        telling,
        assignment: Assignment::new(arrivals.len(), entries > 0),
        fates: (0..entries).map(|at| AtomicU8::new(fate(at) as u8)).collect(),
        written: (0..entries).map(|_| AtomicU64::new(0)).collect(),
    };
    let parts = (0..PARTITIONS).into_par_iter().map(|part| {
        let rows = joining.arrivals.partitions().part(part)?;
        let known = remembered.map_or(Ok(Vec::new()), |remembered| remembered.known.part(part))?;
        let read = shared.as_ref().map_or(Ok(RowsOfPart::default()), |shared| shared.of_part(part))?;
        joining.partition(rows, known, &read)
    });
    let mut parts: Vec<JoinedPartition> = parts.collect::<io::Result<_>>()?;
    let mut sure = Sure::default();
    if watch.is_some() {
        let unsure = parts.iter_mut().flat_map(|part| std::mem::take(&mut part.unsure)).collect();
        sure = joining.make_sure(unsure);
    }
    let (all_merged, sets) = (joining.merged, joining.sets.into_inner().unwrap_or_else(PoisonError::into_inner));
    let origins = Origins::new(arrivals.len(), sets);
    let mut joined = Joined {
        entry_rows: EntryRows { assignment: joining.assignment, single: joining.single, origins },
        fates: joining.fates.into_iter().map(AtomicU8::into_inner).collect(),
        written: joining.written.into_iter().map(AtomicU64::into_inner).collect(),
        has_moved: sure.has_moved,
        pages_known: sure.pages_known,
        ..Joined::default()
    };
    let most = telling.examples;
    let mut merged = Vec::with_capacity(PARTITIONS);
    for part in parts {
        part.at_odds.into_iter().for_each(|(odds, sample)| joined.at_odds.entry(odds).or_default().join(most, sample));
        joined.pages_known += part.pages_known;
        joined.has_moved |= part.has_moved;
        joined.standing.extend(part.standing);
        part.unchanged
            .into_iter()
            .for_each(|(number, of_part)| *joined.unchanged.entry(number).or_default() += of_part);
        joined.is_unclear |= part.is_unclear;
        if part.duplicates.count() > 0 {
            joined.duplicates.get_or_insert_default().join(most, part.duplicates);
        }
        merged.push(part.merged);
        joined.entry_rows.origins.add_as_before(part.as_before);
    }
    for (row_id, times) in arrivals.repeats().iter().filter(|(_, times)| *times > 0) {
        let url = || url_of(&arrivals.row(*row_id)).to_owned();
        joined.duplicates.get_or_insert_default().add_many(*times, most, *row_id, url);
    }
    joined.standing.sort_unstable_by_key(|standing| standing.at);
    let mut block = Block::new(arrivals.decider());
    all_merged.in_order(merged, |row, summary, merged| {
        block.push_copy(row, summary);
        let EntryRows { assignment, origins, .. } = &mut joined.entry_rows;
        assignment.push(merged.prior);
        origins.push(merged.first, merged.set);
        if block.len() == MERGED_BLOCK {
            let full = std::mem::replace(&mut block, Block::new(arrivals.decider()));
            arrivals.push_unjoined(full);
        }
    })?;
    if !block.is_empty() {
        arrivals.push_unjoined(block);
    }
    Ok(joined)
}

/// How many merged rows a block holds.
const MERGED_BLOCK: usize = 8192;

#[cfg(test)]
mod tests {
    use atlas_core::accepted::Accepted;
    use atlas_core::contribution::Contribution;
    use atlas_core::fingerprint::{self, PageField};
    use rstest::rstest;

    use super::super::assignment::Role;
    use super::*;
    use crate::arrival::{Need, RowId, plain_decider};
    use crate::model::KnownEntry;
    use crate::provenance::SourceMapping;

    /// A path and a title.
    type TestRows = &'static [(&'static str, &'static str)];

    const FIRST: TestRows = &[("a", "Weir"), ("b", "Shed"), ("c", "Ford")];
    const SECOND: TestRows = &[("b", "The shed"), ("d", "Depot")];
    const SETTINGS: u64 = 5;
    static ALL: Accepted = Accepted::NONE;

    fn arrivals(folder: &tempfile::TempDir, sources: &[TestRows]) -> Arrivals {
        let mut arrivals = Arrivals::new(plain_decider(), folder.path(), Need::All, 1 << 20);
        for rows in sources {
            let mut block = Block::new(&arrivals.begin_source());
            for (path, title) in *rows {
                let url = format!("https://www.marrowvale.example/{path}/");
                block.push(&Contribution { url: url.into(), title: Some((*title).into()), ..Contribution::default() });
            }
            arrivals.push(block);
        }
        arrivals
    }

    fn mappings(first: u64) -> Vec<SourceMapping> {
        let mapping =
            |source: &str, how| SourceMapping { source: source.into(), fields: [(PageField::Title, how)].into() };
        vec![mapping("first", first), mapping("second", 1)]
    }

    fn joined(arrivals: &mut Arrivals, remembered: Option<&Remembered>, provenances: &Provenances) -> Joined {
        let telling = ReportLimits { examples: 5, accepted: &ALL };
        join(arrivals, remembered, None, (provenances, SETTINGS), None, telling).unwrap()
    }

    /// The path of each row that represents an entry, and its position in the ledger.
    fn entries(arrivals: &Arrivals, joined: &Joined) -> Vec<(String, RowId, Option<u32>)> {
        let entry_rows = joined.entry_rows.assignment.all().filter_map(|(row_id, role)| Some((row_id, role.prior()?)));
        let named = entry_rows.map(|(row_id, prior)| {
            let row = arrivals.row(row_id);
            (url_of(&row).trim_end_matches('/').rsplit('/').next().unwrap().to_owned(), row_id, prior)
        });
        named.collect()
    }

    /// What the ledger remembers of two sources, in the order of their paths, and the provenances it knows.
    fn remembered() -> (Remembered, Vec<(u16, String)>) {
        let folder = tempfile::tempdir().unwrap();
        let mut before = arrivals(&folder, &[FIRST, SECOND]);
        let provenances = Provenances::new(Vec::new(), mappings(1));
        let joined = joined(&mut before, None, &provenances);
        let mut entries = entries(&before, &joined);
        entries.sort_unstable();
        let mut remembered = Remembered { entries: entries.len(), ..Remembered::default() };
        for ((_, row_id, _), at) in entries.into_iter().zip(0..) {
            let summary = before.summary(row_id);
            let alone = || joined.entry_rows.single[usize::from(before.source_of(row_id))];
            let known = KnownEntry {
                key: summary.key(),
                written: fingerprint::written(summary.decided(), SETTINGS, None, 0),
                raw: 0,
                at,
                from_page: false,
                provenance: joined.entry_rows.origins.of(row_id).map_or_else(alone, |origin| origin.provenance),
            };
            remembered.known.push(known).unwrap();
        }
        (remembered, provenances.added())
    }

    #[test]
    fn rows_of_one_url_are_one_entry() {
        let folder = tempfile::tempdir().unwrap();
        let mut arrivals = arrivals(&folder, &[FIRST, SECOND]);
        let joined = joined(&mut arrivals, None, &Provenances::new(Vec::new(), mappings(1)));
        let paths: Vec<String> = entries(&arrivals, &joined).into_iter().map(|(path, ..)| path).collect();
        assert_eq!(paths, ["a", "c", "d", "b"], "what was merged comes last");
        assert_eq!(joined.entry_rows.assignment.of(RowId(1)), Role::PassedOver);
        let origin = joined.entry_rows.origins.of(RowId(5)).unwrap();
        assert_eq!((origin.first, origin.sources), (RowId(1), [0, 1].as_slice()));
        assert_eq!(Contribution::read(&arrivals.row(RowId(5))).title.as_deref(), Some("Shed"), "the first is believed");
        assert_eq!(joined.at_odds.keys().collect::<Vec<_>>(), [&("title", 0, 1)]);
        assert_eq!(joined.duplicates.map(|sample| sample.count()), None);
    }

    #[test]
    fn the_order_of_rows_with_one_url_decides_nothing() {
        let said = |order: [usize; 3]| {
            let folder = tempfile::tempdir().unwrap();
            let mut arrivals = Arrivals::new(plain_decider(), folder.path(), Need::All, 1 << 20);
            let mut block = Block::new(&arrivals.begin_source());
            for at in order {
                let (title, day) = [("Weir", 10), ("Ford", 20), ("Shed", 20)][at];
                block.push(&Contribution {
                    url: "https://www.marrowvale.example/a/".into(),
                    title: Some(title.into()),
                    modified: atlas_core::lastmod::Lastmod::from_epoch_day(day),
                    images: vec![format!("https://www.marrowvale.example/{at}.svg").into()],
                    ..Contribution::default()
                });
            }
            arrivals.push(block);
            joined(&mut arrivals, None, &Provenances::new(Vec::new(), mappings(1)));
            Contribution::read(&arrivals.row(RowId(3))).into_owned()
        };
        let wanted = said([0, 1, 2]);
        assert_eq!(wanted.title.as_deref(), Some("Shed"), "the newest, and of two the greater");
        for order in [[0, 2, 1], [1, 0, 2], [1, 2, 0], [2, 0, 1], [2, 1, 0]] {
            assert_eq!(said(order), wanted);
        }
    }

    #[test]
    fn a_repeated_url_in_one_source_is_not_a_second_source() {
        let folder = tempfile::tempdir().unwrap();
        let mut arrivals = arrivals(&folder, &[&[("a", "Weir"), ("a", "The weir")]]);
        let joined = joined(&mut arrivals, None, &Provenances::new(Vec::new(), mappings(1)));
        assert_eq!(joined.duplicates.map(|sample| sample.count()), Some(1));
        assert!(joined.at_odds.is_empty());
        assert_eq!(joined.entry_rows.origins.of(RowId(2)).unwrap().sources, [0]);
    }

    #[rstest]
    #[case::all_as_it_was(&[FIRST, SECOND], 1, "same same same same")]
    #[case::another_order(&[&[("c", "Ford"), ("b", "Shed"), ("a", "Weir")], SECOND], 1, "same same same same")]
    #[case::a_title_moved(&[&[("a", "Weir"), ("b", "Shed"), ("c", "The ford")], SECOND], 1, "same same met same")]
    #[case::a_word_that_is_not_believed_moved(&[FIRST, &[("b", "A shed"), ("d", "Depot")]], 1, "same met same same")]
    #[case::one_left(&[&[("b", "Shed"), ("c", "Ford")], SECOND], 1, "gone same same same")]
    #[case::one_source_dropped_it(&[FIRST, &[("d", "Depot")]], 1, "same met same same")]
    #[case::the_first_source_is_mapped_otherwise(&[FIRST, SECOND], 2, "met met met same")]
    fn fates_of_remembered_entries(#[case] sources: &[TestRows], #[case] mapping: u64, #[case] wanted: &str) {
        let (remembered, known) = remembered();
        let folder = tempfile::tempdir().unwrap();
        let mut arrivals = arrivals(&folder, sources);
        let joined = joined(&mut arrivals, Some(&remembered), &Provenances::new(known, mappings(mapping)));
        let word = |fate: &u8| match *fate {
            fate if fate == EntryFate::Gone as u8 => "gone",
            fate if fate == EntryFate::Same as u8 => "same",
            fate if fate == EntryFate::Met as u8 => "met",
            _ => "untouched",
        };
        assert_eq!(joined.fates.iter().map(word).collect::<Vec<_>>().join(" "), wanted);
        for (path, _, prior) in entries(&arrivals, &joined) {
            assert_eq!(prior, ["a", "b", "c", "d"].iter().position(|one| *one == path).map(|at| at as u32), "{path}");
        }
    }
}
