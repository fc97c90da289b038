//! One file beside the sitemaps: for visitors, or for the site's own templates.

use std::fmt;

/// A file that is made when it is needed.
pub(crate) struct ExtraFile<'a> {
    /// Its name in the ledger.
    pub name: String,
    make: Box<dyn Fn() -> Vec<u8> + Sync + 'a>,
}

impl<'a> ExtraFile<'a> {
    /// A file made by `make`, which must always return the same bytes.
    pub fn new(name: impl Into<String>, make: impl Fn() -> Vec<u8> + Sync + 'a) -> Self {
        Self { name: name.into(), make: Box::new(make) }
    }

    /// A file that is already up to date and never made.
    pub(crate) fn standing(name: impl Into<String>) -> Self {
        Self::new(name, Vec::new)
    }

    /// The contents of the file.
    pub fn bytes(&self) -> Vec<u8> {
        (self.make)()
    }
}

impl fmt::Debug for ExtraFile<'_> {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.debug_tuple("ExtraFile").field(&self.name).finish()
    }
}
