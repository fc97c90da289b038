//! Samples: counts with their first examples, in whatever order partial results are combined.

use std::borrow::Cow;

use atlas_core::accepted::Accepted;
use atlas_core::address::shown;
use atlas_core::lastmod::Lastmod;

use super::EXAMPLES;
use crate::arrival::RowId;
use crate::report::{Due, DueTo};
use atlas_core::report::{Counted, Notice};

/// How much is reported.
#[derive(Debug, Clone, Copy)]
pub struct ReportLimits<'a> {
    /// How many examples are shown of anything.
    pub examples: usize,
    /// The remarks that are not reported.
    pub accepted: &'a Accepted,
}

impl ReportLimits<'_> {
    /// Whether a remark about a URL or a name is reported.
    pub(crate) fn wants(&self, notice: Notice, about: &str) -> bool {
        !self.accepted.holds(notice.code(), about)
    }
}

/// A count with the first few addresses, in the order of arrival.
#[derive(Debug, Clone, Default)]
pub(crate) struct Sample {
    count: u64,
    first: Vec<(RowId, String)>,
}

impl Sample {
    /// Counts one more. The first `most` of all are kept as examples.
    pub(crate) fn add(&mut self, most: usize, row_id: RowId, address: impl FnOnce() -> String) {
        self.count += 1;
        let later = self.first.len() >= most && self.first.last().is_some_and(|(known, _)| *known < row_id);
        if !later {
            let at = self.first.partition_point(|(known, _)| *known < row_id);
            let lines = address();
            let lines: Vec<Cow<'_, str>> = lines.split('\n').map(shown).collect();
            self.first.insert(at, (row_id, lines.join("\n")));
            self.first.truncate(most);
        }
    }

    /// Counts one more, and as many again.
    pub(super) fn add_many(&mut self, times: u32, most: usize, row_id: RowId, address: impl FnOnce() -> String) {
        self.add(most, row_id, address);
        self.count += u64::from(times) - 1;
    }

    /// Counts one more of which nothing else is known.
    pub(crate) fn add_unseen(&mut self) {
        self.count += 1;
    }

    pub(super) fn join(&mut self, most: usize, other: Self) {
        let count = self.count + other.count;
        other.first.into_iter().for_each(|(row_id, address)| self.add(most, row_id, || address));
        self.count = count;
    }

    /// The count.
    pub(crate) fn count(&self) -> u64 {
        self.count
    }

    /// The sample for a report.
    pub(crate) fn counted(&self) -> Counted {
        Counted { count: self.count, examples: self.first.iter().map(|(_, address)| address.clone()).collect() }
    }
}

/// The entries whose time comes soonest.
#[derive(Debug, Clone, Default)]
pub(crate) struct Soonest {
    /// The number of all.
    pub(crate) count: u64,
    /// The first few.
    pub(crate) first: Vec<Due>,
}

impl Soonest {
    pub(super) fn add(&mut self, at: Lastmod, url: &str, to: DueTo) {
        self.count += 1;
        let nth = self.first.partition_point(|known| (known.at.seconds(), &*known.url) < (at.seconds(), url));
        if nth < EXAMPLES {
            self.first.insert(nth, Due { at, url: url.to_owned(), to });
            self.first.truncate(EXAMPLES);
        }
    }

    pub(crate) fn join(&mut self, other: Self) {
        let count = self.count + other.count;
        other.first.iter().for_each(|due| self.add(due.at, &due.url, due.to));
        self.count = count;
    }
}
