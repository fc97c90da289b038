//! The progress of gathering, on a terminal only.

use std::sync::atomic::{AtomicU64, Ordering};

use indicatif::ProgressBar;

use super::words::{count, size};

/// A counter of gathered rows.
pub struct Progress {
    pub(super) bar: ProgressBar,
    pub(super) site: String,
    pub(super) rows: AtomicU64,
}

impl Progress {
    /// Adds rows.
    pub fn more(&self, rows: u64) {
        let all = self.rows.fetch_add(rows, Ordering::Relaxed) + rows;
        let rows = count(all, "entry", "entries");
        self.bar.set_message(format!("{}gathering: {rows}", self.site));
    }

    /// Shows how many pages were visited.
    pub fn visited(&self, pages: u64) {
        self.bar.set_message(format!("{}visiting: {}", self.site, count(pages, "page", "pages")));
    }

    /// Shows how many bytes of logs were read.
    pub fn read(&self, bytes: u64) {
        self.bar.set_message(format!("{}reading logs: {}", self.site, size(bytes)));
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}
