//! How wide a terminal is.

use std::io::IsTerminal;
use std::os::fd::AsFd;

/// Columns of a terminal that does not say how many it has.
const USUAL_WIDTH: usize = 80;
/// No layout fits into less.
const LEAST_WIDTH: usize = 30;

/// The columns of a terminal; none where the output goes elsewhere.
pub(super) fn width_of(output: impl IsTerminal + AsFd) -> Option<usize> {
    let columns = || std::env::var("COLUMNS").ok()?.parse().ok();
    let found = || terminal_size::terminal_size_of(&output).map(|(width, _)| usize::from(width.0));
    let width = output.is_terminal().then(|| found().filter(|width| *width > 0).or_else(columns))?;
    Some(width.unwrap_or(USUAL_WIDTH).max(LEAST_WIDTH))
}
