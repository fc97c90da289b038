//! A site that has moved from the sitemap of another tool: what both have, what only one has, and whose dates differ.

use atlas_core::choose::{Reason, Verdict};
use atlas_core::contribution::{Contribution, url_of};

use super::links::most_of;
use super::notices::each_row;
use crate::arrival::Arrivals;
use crate::report::MoveReport;
use crate::settle::{ReportLimits, Sample, Settled};
use crate::source::Source;

/// Compares what would be listed with what the old sitemap lists; `None` if the site has not moved from one.
pub(crate) fn compare_move(
    arrivals: &Arrivals,
    settled: &Settled,
    sources: &[Box<dyn Source>],
    telling: ReportLimits<'_>,
) -> Option<MoveReport> {
    let is_old = |source: &u16| sources.get(usize::from(*source)).is_some_and(|source| source.is_moved_from());
    if !sources.iter().any(|source| source.is_moved_from()) {
        return None;
    }
    let most = most_of(telling);
    let [mut only_old, mut only_new, mut left_out, mut other_date] = [(); 4].map(|()| Sample::default());
    let mut both = 0;
    each_row(arrivals, settled, &mut |entry_row, row| {
        let is_in_old = entry_row.sources(arrivals).iter().any(is_old);
        let (named, url) = (entry_row.named(), || url_of(row).to_owned());
        match entry_row.verdict() {
            Verdict::LeftOut(Reason::OnlyBeforeMove) => only_old.add(most, named, url),
            Verdict::LeftOut(reason) if is_in_old => {
                left_out.add(most, named, || format!("{}\n{}", url_of(row), reason.words()));
            }
            Verdict::LeftOut(_) => {}
            Verdict::Kept(_) if !is_in_old => only_new.add(most, named, url),
            Verdict::Kept(_) => {
                both += 1;
                let contribution = Contribution::read(row);
                let dates = contribution.modified.zip(contribution.recorded);
                if let Some((now, then)) = dates.filter(|(now, then)| now.epoch_day() != then.epoch_day()) {
                    other_date.add(most, named, || format!("{}\n{now} now, {then} in the old one", contribution.url));
                }
            }
        }
    });
    Some(MoveReport {
        both,
        only_old: only_old.counted(),
        only_new: only_new.counted(),
        left_out: left_out.counted(),
        other_date: other_date.counted(),
    })
}
