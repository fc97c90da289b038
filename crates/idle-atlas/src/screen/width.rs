//! The width of the terminal.

use std::io::IsTerminal;
use std::os::fd::AsFd;

/// The columns of a terminal of unknown width.
const USUAL_WIDTH: usize = 80;
/// The least width that layouts are made for.
const LEAST_WIDTH: usize = 30;

/// The columns of the terminal; `None` if the output is not a terminal.
pub(super) fn width_of(output: impl IsTerminal + AsFd) -> Option<usize> {
    let columns = || std::env::var("COLUMNS").ok()?.parse().ok();
    let found = || terminal_size::terminal_size_of(&output).map(|(width, _)| usize::from(width.0));
    let width = output.is_terminal().then(|| found().filter(|width| *width > 0).or_else(columns))?;
    Some(width.unwrap_or(USUAL_WIDTH).max(LEAST_WIDTH))
}
