//! Entries that stay as they were written because their source could not be read: what was written about their
//! translations, so that the other pages of their groups still list them.

use atlas_core::contribution::Contribution;
use atlas_core::format::{Frame, read};
use atlas_core::language::Alternate;

use crate::arrival::{Arrivals, Block, RowId};
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered};
use crate::model::SegmentText;

/// Adds a row for each standing entry that was written with translations, and returns the rows. They represent no
/// entries. `standing` are positions in the ledger, in order.
pub(crate) fn standing_rows(
    ledger: &dyn Ledger,
    remembered: &Remembered,
    standing: &[u32],
    arrivals: &mut Arrivals,
) -> Result<Vec<RowId>, StoreError> {
    let first = arrivals.len() as u32;
    let mut block = Block::new(arrivals.decider());
    let mut standing = standing.iter().copied().peekable();
    for (file, segment) in remembered.segments(|_| true) {
        let range = segment.range();
        let of_segment: Vec<u32> = std::iter::from_fn(|| standing.next_if(|at| (*at as usize) < range.end)).collect();
        if of_segment.is_empty() || !segment.frame.alternates {
            continue;
        }
        let text = SegmentText::read(&ledger.body(file.id, segment.number)?, segment)?;
        for at in of_segment.into_iter().filter(|at| range.contains(&(*at as usize))) {
            let element = text.element(at - range.start as u32);
            let document = [&segment.frame.open(None)[..], element, Frame::CLOSE].concat();
            let take = |url: atlas_core::format::RawUrl<'_>| {
                let Some(loc) = url.loc.filter(|_| !url.alternates.is_empty()) else { return };
                let own = url.alternates.iter().find(|one| one.url == loc);
                let language = own.map(|own| own.language.to_string().into());
                let alternates = url.alternates.iter().map(|one| Alternate {
                    language: one.language.to_string().into(),
                    url: one.url.to_string().into(),
                });
                let alternates = alternates.collect();
                block.push(&Contribution { url: loc, language, alternates, ..Contribution::default() });
            };
            read(&document, take, |_| ())
                .map_err(|_| StoreError::LedgerDamaged("the text of a segment is not what was written"))?;
        }
    }
    let rows = (first..first + block.len() as u32).map(RowId).collect();
    arrivals.push_unjoined(block);
    Ok(rows)
}
