//! Watching a site: noticing that files changed, and deciding when to build and to announce.

mod child;
mod files;
mod schedule;

pub use self::child::run_to_end;
pub use self::files::{FileWatch, FilesChanged, WatchError};
pub use self::schedule::{RoundEnd, Schedule, Wake};
