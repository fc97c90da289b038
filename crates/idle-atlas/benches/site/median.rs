//! Medians.

use std::time::Duration;

/// The median of some times, of which there is at least one.
pub fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times[times.len() / 2]
}
