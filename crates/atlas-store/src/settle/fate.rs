//! The fates of remembered entries, and what is needed to tell them.

use std::collections::HashMap;

use foldhash::fast::FixedState;

use crate::model::tag;

/// What happened to a remembered entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub(crate) enum EntryFate {
    /// No row names it any more.
    Gone = 0,
    /// Nothing about it changed.
    Same = 1,
    /// A row names it, and something changed.
    Met = 2,
    /// Its row is unchanged, byte for byte, and was not read.
    Untouched = 3,
}

impl EntryFate {
    /// Whether an entry with this fate is written as before.
    pub(crate) fn stays(fate: u8) -> bool {
        fate == Self::Same as u8 || fate == Self::Untouched as u8
    }
}

/// The groups of translations of the last build, as far as they are needed to recognise entries whose rows every build
/// reads: the fingerprint of what the group lists, by the [`tag`] of the entry's key.
#[derive(Debug, Clone, Default)]
pub(crate) struct GroupsBefore(HashMap<u64, u64, FixedState>);

impl GroupsBefore {
    /// Reads what [`GroupsBefore::packed`] wrote.
    pub(crate) fn read(bytes: &[u8]) -> Self {
        let numbers: Vec<u64> = bytes.as_chunks().0.iter().map(|number| u64::from_le_bytes(*number)).collect();
        Self(numbers.as_chunks().0.iter().map(|[tag, print]| (*tag, *print)).collect())
    }

    /// The groups of these entries as bytes.
    pub(crate) fn packed(entries: impl Iterator<Item = (u128, u64)>) -> Vec<u8> {
        entries.flat_map(|(key, print)| [tag(key), print]).flat_map(u64::to_le_bytes).collect()
    }

    pub(super) fn of(&self, key: u128) -> Option<u64> {
        self.0.get(&tag(key)).copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn groups_come_back() {
        let entries = [(1u128 << 70, 5u64), (3 << 80, 6)];
        let groups = GroupsBefore::read(&GroupsBefore::packed(entries.into_iter()));
        assert_eq!(entries.map(|(key, _)| groups.of(key)), [Some(5), Some(6)]);
        assert_eq!(groups.of(7), None);
    }
}
