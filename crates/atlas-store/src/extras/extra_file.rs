//! Files beside the sitemaps: what is for people, and what the site's own templates include.

use std::fmt;

/// A file that is made whole, when it is wanted.
pub struct ExtraFile<'a> {
    /// Its name in the ledger.
    pub name: String,
    make: Box<dyn Fn() -> Vec<u8> + Sync + 'a>,
}

impl<'a> ExtraFile<'a> {
    /// A file that `make` makes: always the same bytes.
    pub fn new(name: impl Into<String>, make: impl Fn() -> Vec<u8> + Sync + 'a) -> Self {
        Self { name: name.into(), make: Box::new(make) }
    }

    /// A file that stands as it is to be: it is never made.
    pub(crate) fn standing(name: impl Into<String>) -> Self {
        Self::new(name, Vec::new)
    }

    /// Makes it.
    pub fn bytes(&self) -> Vec<u8> {
        (self.make)()
    }
}

impl fmt::Debug for ExtraFile<'_> {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.debug_tuple("ExtraFile").field(&self.name).finish()
    }
}
