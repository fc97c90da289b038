//! The input of arranging.

use atlas_core::choose::Sections;

use super::cut::Cut;
use super::renderer::Renderer;
use crate::ledger::{Ledger, Remembered};

/// The input of arranging.
pub(crate) struct ArrangedSite<'a> {
    pub(crate) ledger: &'a dyn Ledger,
    pub(crate) remembered: &'a Remembered,
    pub(crate) sections: &'a Sections,
    pub(crate) cut: &'a Cut,
    pub(crate) renderer: Renderer<'a>,
}
