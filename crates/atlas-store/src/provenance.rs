//! Provenance: which sources the fields of an entry come from, and how each source maps them.
//!
//! A changed configuration is not a change to the pages. So the ledger remembers the mapping under which the
//! fingerprints of each entry were taken. If the mapping differs now, the entry is compared only over the fields that
//! were mapped in the same way before. There are few different provenances, and entries refer to them by number.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::{Arc, Mutex, PoisonError};

use atlas_core::contribution::Contribution;
use atlas_core::fingerprint::{PARTS, PageField, PageFields};
use serde::{Deserialize, Serialize};

use crate::model::UNKNOWN;
use crate::report::SourceChange;

/// The fields that a source gives, each with a fingerprint of how it finds them.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub(crate) struct SourceMapping {
    /// The source's name.
    pub source: String,
    /// The fingerprints by field.
    pub fields: BTreeMap<PageField, u64>,
}

/// The mappings of an entry's sources, in the order of their precedence.
type Set = Vec<SourceMapping>;

/// Whether a remembered entry stays as it was written although not all rows were read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Standing {
    /// It does not: its rows count.
    No,
    /// It does: these sources named it before, could not be read whole, and do not name it now.
    CouldNotBeRead(Vec<u16>),
    /// It does: only sources that were asked for changes alone named it, and they do not name it now.
    Unchanged,
    /// Other sources name it as well, so that it has to be read in full.
    Unclear,
}

/// The numbers of entries that stay as they were because sources that were asked for changes alone do not name them, by
/// the number of their provenance.
pub(crate) type Unchanged = BTreeMap<u16, u64>;

/// All known provenances, and those that this build adds.
#[derive(Debug, Default)]
pub(crate) struct Provenances {
    /// The mappings of the sources of this build, in order.
    mappings: Vec<SourceMapping>,
    known: Vec<(u16, Set)>,
    /// The names of all sources in the ledger.
    names: HashSet<String>,
    /// The sources that could not be read whole and whose entries stand, by index.
    standing: Vec<u16>,
    /// Those among the sources of each known provenance that has any, by its number.
    standing_by_number: HashMap<u16, Vec<u16>>,
    /// The sources that were asked for changes alone, by index.
    increments: Vec<u16>,
    /// Those among the sources of each known provenance that has any, by its number, and whether it has no others.
    increments_by_number: HashMap<u16, (Vec<u16>, bool)>,
    /// The numbers of provenances, by sources.
    numbers: Mutex<HashMap<Vec<u16>, u16>>,
    added: Mutex<Vec<(u16, Set)>>,
    /// Comparisons, by the numbers of both provenances.
    comparisons: Mutex<HashMap<(u16, u16), Arc<Comparison>>>,
}

impl Provenances {
    /// Starts from what the ledger knows and the mappings of the sources of this build.
    pub(crate) fn new(known: Vec<(u16, String)>, mappings: Vec<SourceMapping>) -> Self {
        let read = |(number, text): (u16, String)| Some((number, serde_json::from_str::<Set>(&text).ok()?));
        let known: Vec<(u16, Set)> = known.into_iter().filter_map(read).collect();
        let names = known.iter().flat_map(|(_, set)| set.iter().map(|mapping| mapping.source.clone())).collect();
        Self { mappings, known, names, ..Self::default() }
    }

    /// The same, in a run in which these sources could not be read whole.
    pub(crate) fn standing(mut self, sources: &[u16]) -> Self {
        let known = self.known.iter().map(|(number, set)| (*number, self.among(set, sources)));
        self.standing_by_number = known.filter(|(_, sources)| !sources.is_empty()).collect();
        self.standing = sources.to_vec();
        self
    }

    /// The same, in a run in which these sources were asked for changes alone.
    pub(crate) fn incremental(mut self, sources: &[u16]) -> Self {
        let known = self.known.iter().map(|(number, set)| {
            let among = self.among(set, sources);
            let is_all = among.len() == set.len();
            (*number, (among, is_all))
        });
        self.increments_by_number = known.filter(|(_, (sources, _))| !sources.is_empty()).collect();
        self.increments = sources.to_vec();
        self
    }

    /// The sources of a provenance that are among these.
    fn among(&self, set: &Set, sources: &[u16]) -> Vec<u16> {
        let is_of_set = |at: &u16| {
            let mapping = self.mappings.get(usize::from(*at));
            mapping.is_some_and(|mapping| set.iter().any(|known| known.source == mapping.source))
        };
        sources.iter().copied().filter(is_of_set).collect()
    }

    /// Whether the entries of some source stand, because it could not be read whole or was asked for changes alone.
    pub(crate) fn any_stands(&self) -> bool {
        !self.standing.is_empty() || !self.increments.is_empty()
    }

    /// Whether some source was asked for changes alone.
    pub(crate) fn any_increments(&self) -> bool {
        !self.increments.is_empty()
    }

    /// Whether some source was asked for changes alone, and each could be read whole.
    pub(crate) fn only_increments_stand(&self) -> bool {
        !self.increments.is_empty() && self.standing.is_empty()
    }

    /// Whether an entry stays as it was written, now that these sources name it.
    pub(crate) fn stands(&self, number: u16, named: impl Fn(u16) -> bool) -> Standing {
        let is_known = number != UNKNOWN;
        let is_named = (0..self.mappings.len() as u16).any(&named);
        let failed = match number {
            // It is not known who named it: any of them may have.
            UNKNOWN if !is_named => Some(&self.standing),
            number => self.standing_by_number.get(&number),
        };
        let failed: Vec<u16> = failed.into_iter().flatten().copied().filter(|source| !named(*source)).collect();
        if !failed.is_empty() {
            return Standing::CouldNotBeRead(failed);
        }
        match self.increments_by_number.get(&number) {
            None if is_known || self.increments.is_empty() => Standing::No,
            None if is_named && self.increments.iter().any(|source| named(*source)) => Standing::No,
            None => Standing::Unclear,
            Some((sources, _)) if sources.iter().all(|source| named(*source)) => Standing::No,
            Some((_, true)) if !is_named => Standing::Unchanged,
            Some(_) => Standing::Unclear,
        }
    }

    /// Whether all sources of a provenance were asked for changes alone.
    pub(crate) fn is_incremental(&self, number: u16) -> bool {
        self.increments_by_number.get(&number).is_some_and(|(_, is_all)| *is_all)
    }

    /// Whether a source that was asked for changes alone is among those of a provenance.
    pub(crate) fn comes_from(&self, number: u16, source: u16) -> bool {
        self.increments_by_number.get(&number).is_some_and(|(sources, _)| sources.contains(&source))
    }

    /// The number of the provenance that consists of these sources, given by index.
    pub(crate) fn number(&self, sources: &[u16]) -> u16 {
        let mut numbers = self.numbers.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(number) = numbers.get(sources) {
            return *number;
        }
        let set: Set = sources.iter().filter_map(|at| self.mappings.get(usize::from(*at)).cloned()).collect();
        let number = match self.known.iter().find(|(_, known)| *known == set) {
            Some((number, _)) => *number,
            None => {
                let mut added = self.added.lock().unwrap_or_else(PoisonError::into_inner);
                let last = self.known.iter().chain(&*added).map(|(number, _)| *number).max().unwrap_or(UNKNOWN);
                // If the numbers run out, entries are accepted without a comparison.
                let number = last.checked_add(1).unwrap_or(UNKNOWN);
                added.push((number, set));
                number
            }
        };
        numbers.insert(sources.to_owned(), number);
        number
    }

    /// The numbers of the provenances of one source alone, by the index of the source.
    pub(crate) fn single(&self) -> Vec<u16> {
        (0u16..).zip(&self.mappings).map(|(at, _)| self.number(&[at])).collect()
    }

    /// The provenances that the ledger has to remember in addition.
    pub(crate) fn added(&self) -> Vec<(u16, String)> {
        let added = self.added.lock().unwrap_or_else(PoisonError::into_inner);
        added.iter().filter_map(|(number, set)| Some((*number, serde_json::to_string(set).ok()?))).collect()
    }

    /// Whether entries of this source are or were in the ledger.
    pub(crate) fn names(&self, source: &str) -> bool {
        self.names.contains(source)
    }

    /// The names of the sources of a provenance, as the ledger knows it.
    pub(crate) fn names_of(&self, number: u16) -> Vec<String> {
        let set = self.known.iter().find(|(known, _)| *known == number).map(|(_, set)| set);
        set.into_iter().flatten().map(|mapping| mapping.source.clone()).collect()
    }

    /// Whether none of the sources of a provenance is configured any more.
    pub(crate) fn all_left(&self, number: u16) -> bool {
        let set = self.known.iter().find(|(known, _)| *known == number).map(|(_, set)| set);
        set.is_some_and(|set| !set.iter().any(|mapping| self.place(&mapping.source).is_some()))
    }

    fn place(&self, source: &str) -> Option<u16> {
        self.mappings.iter().position(|mapping| mapping.source == source).map(|at| at as u16)
    }

    /// How to compare an entry whose fingerprints were taken under another provenance and that these sources give now.
    /// Many entries share one comparison.
    pub(crate) fn comparison(&self, before: u16, sources: &[u16]) -> Arc<Comparison> {
        let now = self.number(sources);
        let mut known = self.comparisons.lock().unwrap_or_else(PoisonError::into_inner);
        known.entry((before, now)).or_insert_with(|| Arc::new(self.compare(before, sources))).clone()
    }

    fn compare(&self, before: u16, sources: &[u16]) -> Comparison {
        let none = Vec::new();
        let before = self.known.iter().find(|(number, _)| *number == before).map_or(&none, |(_, set)| set);
        let now: Vec<&SourceMapping> = sources.iter().filter_map(|at| self.mappings.get(usize::from(*at))).collect();
        let mut comparison = Comparison::default();
        let mut fields: HashMap<u16, Vec<PageField>> = HashMap::new();
        for &field in PageField::ALL {
            let givers = |set: &mut dyn Iterator<Item = &SourceMapping>| -> Vec<(String, u64)> {
                set.filter_map(|mapping| Some((mapping.source.clone(), *mapping.fields.get(&field)?))).collect()
            };
            let (given, gives) = (givers(&mut before.iter()), givers(&mut now.iter().copied()));
            if !is_within(&given, &gives) {
                match field.part() {
                    Some(part) => comparison.parts[part] = false,
                    None => comparison.dates = false,
                }
                continue;
            }
            for place in given.iter().filter_map(|(source, _)| self.place(source)) {
                fields.entry(place).or_default().push(field);
            }
        }
        if before.is_empty() {
            (comparison.parts, comparison.dates) = ([false; PARTS], false);
        }
        comparison.fields = fields.into_iter().map(|(place, fields)| (place, fields.into_iter().collect())).collect();
        comparison.changes = self.changes(before, &now);
        comparison
    }

    fn changes(&self, before: &Set, now: &[&SourceMapping]) -> Vec<(SourceChange, String)> {
        let was = |name: &str| before.iter().find(|mapping| mapping.source == name);
        let changed = now.iter().filter_map(|mapping| {
            let change = match was(&mapping.source) {
                Some(known) if known == *mapping => return None,
                Some(_) => SourceChange::Mapping,
                None if self.names.contains(&mapping.source) => return None,
                None => SourceChange::Joined,
            };
            Some((change, mapping.source.clone()))
        });
        let left = before.iter().filter(|mapping| self.place(&mapping.source).is_none());
        changed.chain(left.map(|mapping| (SourceChange::Left, mapping.source.clone()))).collect()
    }
}

/// Whether all of these are among the others, in the same order.
fn is_within(some: &[(String, u64)], others: &[(String, u64)]) -> bool {
    let mut others = others.iter();
    some.iter().all(|one| others.any(|other| other == one))
}

/// How an entry is compared with its state under another provenance.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Comparison {
    /// The parts of the page fingerprint that can be compared.
    pub(crate) parts: [bool; PARTS],
    /// Whether its declared dates can be compared.
    pub(crate) dates: bool,
    /// The fields that each source gave then, by the index of the source.
    fields: HashMap<u16, PageFields>,
    /// What changed about the sources.
    pub(crate) changes: Vec<(SourceChange, String)>,
}

impl Default for Comparison {
    fn default() -> Self {
        Self { parts: [true; PARTS], dates: true, fields: HashMap::new(), changes: Vec::new() }
    }
}

impl Comparison {
    /// What a source says now in the fields that it gave then.
    pub(crate) fn select<'a>(&self, source: u16, contribution: &Contribution<'a>) -> Contribution<'a> {
        self.fields.get(&source).copied().unwrap_or_default().select(contribution)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn mapping(source: &str, fields: &[(PageField, u64)]) -> SourceMapping {
        SourceMapping { source: source.to_owned(), fields: fields.iter().copied().collect() }
    }

    fn provenances(before: &[SourceMapping], now: Vec<SourceMapping>) -> Provenances {
        Provenances::new(vec![(7, serde_json::to_string(before).unwrap())], now)
    }

    const TABLE: [(PageField, u64); 2] = [(PageField::Title, 1), (PageField::Modified, 1)];
    const ALL: [bool; PARTS] = [true; PARTS];

    #[rstest]
    #[case::a_field_more(&[(PageField::Title, 1), (PageField::Modified, 1), (PageField::Images, 1)], ALL, true)]
    #[case::a_field_less(&[(PageField::Title, 1)], ALL, false)]
    #[case::mapped_otherwise(&[(PageField::Title, 2), (PageField::Modified, 1)], [false, true, true, true], true)]
    fn unchanged_mappings_can_be_compared(
        #[case] fields: &[(PageField, u64)],
        #[case] parts: [bool; PARTS],
        #[case] dates: bool,
    ) {
        let known = provenances(&[mapping("t.csv", &TABLE)], vec![mapping("t.csv", fields)]);
        let comparison = known.comparison(7, &[0]);
        assert_eq!((comparison.parts, comparison.dates), (parts, dates));
        assert_eq!(comparison.changes, [(SourceChange::Mapping, "t.csv".to_owned())]);
        let contribution =
            Contribution { title: Some("Weir".into()), images: vec!["/a".into()], ..Contribution::default() };
        let heard = comparison.select(0, &contribution);
        assert_eq!((heard.title.is_some(), heard.images.is_empty()), (parts[0], true));
    }

    #[test]
    fn a_new_source_has_nothing_to_compare() {
        let known = provenances(&[mapping("b", &TABLE)], vec![mapping("a", &TABLE), mapping("b", &TABLE)]);
        let comparison = known.comparison(7, &[0, 1]);
        assert_eq!((comparison.parts, comparison.dates), (ALL, true));
        assert_eq!(comparison.changes, [(SourceChange::Joined, "a".to_owned())]);
        let contribution = Contribution { title: Some("Weir".into()), ..Contribution::default() };
        assert!(
            comparison.select(0, &contribution).title.is_none() && comparison.select(1, &contribution).title.is_some()
        );
        assert!(!known.all_left(7));
    }

    #[test]
    fn a_removed_source_cannot_be_compared() {
        let before = [mapping("a", &[(PageField::Content, 1)]), mapping("b", &TABLE)];
        let known = provenances(&before, vec![mapping("a", &[(PageField::Content, 1)])]);
        let comparison = known.comparison(7, &[0]);
        assert_eq!((comparison.parts, comparison.dates), ([false, true, true, true], false));
        assert_eq!(comparison.changes, [(SourceChange::Left, "b".to_owned())]);
        let gone = provenances(&[mapping("b", &TABLE)], vec![mapping("a", &TABLE)]);
        assert!(gone.all_left(7));
    }

    #[test]
    fn provenances_are_numbered_once() {
        let known = provenances(&[mapping("a", &TABLE)], vec![mapping("a", &TABLE), mapping("b", &TABLE)]);
        assert_eq!(known.single(), [7, 8]);
        assert_eq!((known.number(&[0, 1]), known.number(&[0, 1]), known.number(&[1])), (9, 9, 8));
        assert_eq!(known.added().iter().map(|(number, _)| *number).collect::<Vec<_>>(), [8, 9]);
        assert_eq!(known.comparison(UNKNOWN, &[0]).parts, [false; PARTS]);
    }
}
