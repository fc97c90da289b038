//! A few of many: counts with their first examples, whatever the order in which parts are put together.

use atlas_core::lastmod::Lastmod;

use super::EXAMPLES;
use crate::arrival::Place;
use crate::report::{Counted, Due, DueTo};

/// A count with the first few addresses, in the order of arrival.
#[derive(Debug, Clone, Default)]
pub(crate) struct Sample {
    count: u64,
    first: Vec<(Place, String)>,
}

impl Sample {
    pub(super) fn add(&mut self, place: Place, address: &str) {
        self.add_with(place, || address.to_owned());
    }

    pub(crate) fn add_with(&mut self, place: Place, address: impl FnOnce() -> String) {
        self.count += 1;
        let later = self.first.len() == EXAMPLES && self.first.last().is_some_and(|(known, _)| *known < place);
        if !later {
            let at = self.first.partition_point(|(known, _)| *known < place);
            self.first.insert(at, (place, address()));
            self.first.truncate(EXAMPLES);
        }
    }

    pub(super) fn join(&mut self, other: Self) {
        let count = self.count + other.count;
        other.first.iter().for_each(|(place, address)| self.add(*place, address));
        self.count = count;
    }

    /// How many.
    pub(crate) fn count(&self) -> u64 {
        self.count
    }

    /// For reports.
    pub(crate) fn counted(&self) -> Counted {
        Counted { count: self.count, examples: self.first.iter().map(|(_, address)| address.clone()).collect() }
    }
}

/// What falls due soonest.
#[derive(Debug, Clone, Default)]
pub(crate) struct Soonest {
    /// How many there are in all.
    pub(crate) count: u64,
    /// The first few.
    pub(crate) first: Vec<Due>,
}

impl Soonest {
    pub(super) fn add(&mut self, at: Lastmod, url: &str, to: DueTo) {
        self.count += 1;
        let place = self.first.partition_point(|known| (known.at.seconds(), &*known.url) < (at.seconds(), url));
        if place < EXAMPLES {
            self.first.insert(place, Due { at, url: url.to_owned(), to });
            self.first.truncate(EXAMPLES);
        }
    }

    pub(super) fn join(&mut self, other: Self) {
        let count = self.count + other.count;
        other.first.iter().for_each(|due| self.add(due.at, &due.url, due.to));
        self.count = count;
    }
}
