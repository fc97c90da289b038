//! Guards: they hold back a build whose result would do harm.

use std::collections::{BTreeMap, HashSet};

use atlas_core::strand::Strand;

use super::{Found, Job};
use crate::report::{Guard, Held};

/// A section of at least this many entries is guarded against shrinking.
const GUARDED_LEAST: u64 = 20;
/// The share of a section, in percent, that may be lost in one build.
const MAY_LOSE: u64 = 30;

/// Holds back a build whose result would do harm.
pub(super) fn guard(job: &Job<'_>, found: &Found) -> Option<Held> {
    if found.settled.candidates.is_empty() {
        let why = found.settled.left_out.iter().max_by_key(|(_, sample)| sample.counted().count);
        let why = why.map_or_else(
            || "the sources have no entries".to_owned(),
            |(reason, sample)| format!("{} left out: {}", sample.counted().count, reason.words()),
        );
        let message =
            format!("nothing would be left to list ({why}); nothing was written. Look closer with: idle-atlas survey");
        return Some(Held { guard: Guard::Empty, message });
    }
    if job.allow.contains("shrink") {
        return None;
    }
    let mut before: BTreeMap<&str, (u64, u64)> = BTreeMap::new();
    let lost: HashSet<u32> = found.settled.gone.iter().map(|gone| gone.prior).collect();
    for file in found.remembered.files.iter().filter(|file| file.strand == Strand::Pages) {
        let (count, gone) = before.entry(&file.section).or_default();
        for segment in &file.segments {
            *count += u64::from(segment.count);
            let range = segment.first as u32..segment.first as u32 + segment.count;
            *gone += if lost.is_empty() { 0 } else { range.filter(|at| lost.contains(at)).count() as u64 };
        }
    }
    for (section, (count, gone)) in before {
        if count >= GUARDED_LEAST && gone * 100 > count * MAY_LOSE {
            let message = format!(
                "section {section} would lose {gone} of its {count} entries ({} %); nothing was written. If that is right: idle-atlas build --allow shrink",
                gone * 100 / count
            );
            return Some(Held { guard: Guard::Shrink, message });
        }
    }
    None
}
