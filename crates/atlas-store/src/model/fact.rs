//! Facts about a site as a whole.

use atlas_core::choose::Reason;

use crate::bytes::part;

/// A fact about the site as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fact {
    /// The seed of all keys.
    Seed,
    /// What the main file is, once it is an index.
    MainFile,
    /// The version of the page reader.
    Reader,
    /// A fingerprint of how the files beside the sitemaps were made.
    Extras,
    /// A fingerprint of what decided about the rows that are recognised unread.
    Choices,
    /// Whether what was derived from entries was without faults, which every build has to report. Not known if nothing
    /// is derived.
    Derived,
    /// Whether entries may be in groups of translations.
    Groups,
    /// The sources that could not be read whole, and since when, as JSON.
    Failing,
    /// When sources that can be asked for changes alone were last read, as JSON.
    Increments,
    /// The sections that rows have made, in the order in which they came, one per line.
    MadeSections,
    /// The site's URL.
    Site,
    /// The name of the main file.
    Main,
    /// Whether files end in `.gz`.
    Gzip,
    /// Reasons whose share of left-out entries was accepted, each with that share in percent.
    AcceptedLeftOut,
    /// The declarations that the tool has made in robots.txt, one per line.
    Declared,
    /// The IndexNow key that the tool made.
    IndexNowKey,
    /// The IndexNow key before the last renewal, and when that was, in seconds since 1970.
    FormerKey,
    /// The files that changed since the user's commands last dealt with them, one per line.
    Undelivered,
    /// The name that the main file had before it was renamed, as long as it stands.
    FormerMain,
    /// Since when the live site does not serve what was built, in seconds since 1970.
    NotLiveSince,
}

impl Fact {
    /// Its name in the ledger.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Seed => "seed",
            Self::MainFile => "form",
            Self::Reader => "reader",
            Self::Extras => "people",
            Self::Choices => "choices",
            Self::Derived => "derived",
            Self::Groups => "groups",
            Self::Failing => "failing",
            Self::Increments => "increments",
            Self::MadeSections => "made-sections",
            Self::Site => "site",
            Self::Main => "main",
            Self::Gzip => "gzip",
            Self::AcceptedLeftOut => "accepted-left-out",
            Self::Declared => "declared",
            Self::IndexNowKey => "indexnow-key",
            Self::FormerKey => "former-key",
            Self::Undelivered => "undelivered",
            Self::FormerMain => "former-main",
            Self::NotLiveSince => "not-live-since",
        }
    }
}

/// What a build derived from entries, packed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct DerivedBefore {
    /// The rows of archive pages.
    pub rows: Vec<u8>,
    /// The groups of translations of some entries.
    pub groups: Vec<u8>,
}

/// Why entries were left out, packed: 9 bytes for each, sorted by the tag of its key.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LeftOutBefore(pub Vec<u8>);

impl LeftOutBefore {
    /// Packs the reasons of entries.
    pub(crate) fn of(mut entries: Vec<(u64, Reason)>) -> Self {
        entries.sort_unstable_by_key(|(tag, reason)| (*tag, *reason as u8));
        let bytes = |(tag, reason): (u64, Reason)| tag.to_le_bytes().into_iter().chain([reason as u8]);
        Self(entries.into_iter().flat_map(bytes).collect())
    }

    /// The entries, by their tags.
    pub(crate) fn entries(&self) -> impl Iterator<Item = (u64, Reason)> {
        let entries = self.0.as_chunks::<9>().0.iter();
        entries.filter_map(|entry| Some((u64::from_le_bytes(part(entry, 0)), *Reason::ALL.get(usize::from(entry[8]))?)))
    }

    /// Why the entry with this tag was left out.
    pub(crate) fn reason(&self, tag: u64) -> Option<Reason> {
        let entries = self.0.as_chunks::<9>().0;
        let tag_of = |entry: &[u8; 9]| u64::from_le_bytes(part(entry, 0));
        let at = entries.binary_search_by_key(&tag, tag_of).ok()?;
        Reason::ALL.get(usize::from(entries[at][8])).copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reasons_come_back() {
        let entries: Vec<(u64, Reason)> =
            (0..200u64).map(|at| (at * 7_919 % 1_000, Reason::ALL[at as usize % 5])).collect();
        let packed = LeftOutBefore::of(entries.clone());
        assert!(entries.iter().all(|(tag, reason)| packed.reason(*tag) == Some(*reason)));
        assert_eq!(packed.reason(1_001), None);
        assert_eq!(packed.entries().count(), entries.len());
    }
}
