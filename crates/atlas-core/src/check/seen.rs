//! What is seen of one file.

use serde::Serialize;

use super::findings::Findings;
use super::listed::ListedPage;
use super::returned::Unreturned;
use crate::lastmod::Lastmod;

/// The form of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Form {
    /// A `urlset`.
    Urlset,
    /// A `sitemapindex`.
    Index,
    /// Text with one URL a line.
    Text,
    /// RSS.
    Rss,
    /// Atom.
    Atom,
}

/// One file that was read.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FileSeen {
    /// Its address.
    pub address: String,
    /// Its form.
    pub form: Form,
    /// The number of URLs, or of files in an index.
    pub entries: u64,
    /// Pictures.
    pub images: u64,
    /// Videos.
    pub videos: u64,
    /// News articles.
    pub news: u64,
    /// URLs that robots.txt forbids to fetch.
    pub barred: u64,
    /// Unpacked size in bytes.
    pub bytes: u64,
    /// How long a server took, in milliseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub milliseconds: Option<u64>,
    /// The newest `lastmod` in it.
    pub newest: Option<Lastmod>,
}

impl FileSeen {
    /// Whether it is an index.
    pub fn is_index(&self) -> bool {
        self.form == Form::Index
    }
}

/// A file that an index lists.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Child {
    pub(super) line: u64,
    pub(super) address: String,
    pub(super) lastmod: Option<String>,
}

/// In so few entries, equal dates mean nothing.
pub(super) const FEW_DATES: u64 = 10;

/// The dates in files: their number, the bounds, and the one that all are, if all are the same.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct DateTally {
    pub(super) number: u64,
    pub(super) same: Option<Lastmod>,
    pub(super) differ: bool,
    pub(super) bounds: Option<(i64, i64)>,
}

impl DateTally {
    pub(super) fn add(&mut self, date: Lastmod) {
        self.number += 1;
        let seconds = date.seconds();
        self.bounds = Some(self.bounds.map_or((seconds, seconds), |(low, high)| (low.min(seconds), high.max(seconds))));
        self.agree(date);
    }

    fn agree(&mut self, date: Lastmod) {
        match self.same {
            None => self.same = Some(date),
            Some(same) => self.differ |= !same.is_same(&date),
        }
    }

    pub(super) fn append(&mut self, other: &Self) {
        self.number += other.number;
        self.differ |= other.differ;
        other.same.into_iter().for_each(|date| self.agree(date));
    }
}

/// The verdict on one file, to be taken by the inspection.
#[derive(Debug)]
pub struct JudgedFile<'k> {
    pub(super) findings: Findings<'k>,
    pub(super) seen: Option<FileSeen>,
    pub(super) children: Vec<Child>,
    /// A hash of each entry's URL, with its number in the file.
    pub(super) keys: Vec<(u64, u32)>,
    pub(super) unreturned: Unreturned,
    pub(super) dates: DateTally,
    pub(super) listed: Vec<ListedPage>,
    /// The file itself, to look again.
    pub(super) bytes: Vec<u8>,
}
