//! Entries that are known to be unchanged.

/// Which entries are known to be unchanged without reading their rows.
#[derive(Debug, Default)]
pub(crate) enum Untouched {
    /// None.
    #[default]
    None,
    /// All.
    All,
    /// Some, as bits.
    Some(Vec<u64>),
}

impl Untouched {
    /// Whether an entry is known to be unchanged.
    pub(crate) fn holds(&self, at: usize) -> bool {
        match self {
            Self::None => false,
            Self::All => true,
            Self::Some(bits) => bits.get(at / 64).is_some_and(|bits| bits >> (at % 64) & 1 == 1),
        }
    }
}
