//! Driving an inspection: files are fetched and judged side by side, and their verdicts taken in order.

use atlas_core::check::{FetchResult, FetchedFile, FileRequest, Inspection};
use atlas_store::error::StoreError;
use atlas_store::stop::Stop;
use rayon::prelude::*;

/// How many bytes of files are in memory at once, as far as the sizes of the files before tell.
const MOST_AT_ONCE: usize = 24 << 20;
/// The most files that are judged at once.
const MOST_FILES: usize = 64;

/// Where sitemaps are.
pub trait SitemapPlace: Sync {
    /// Fetches a file.
    fn fetch(&self, wanted: &FileRequest) -> FetchedFile;

    /// How many files may be fetched at once.
    fn connections(&self) -> usize {
        MOST_FILES
    }
}

/// Reads all files that an inspection wants.
///
/// # Errors
///
/// Returns [`StoreError::Interrupted`] if it was asked to stop.
pub fn inspect(inspection: &mut Inspection<'_>, place: &dyn SitemapPlace, stop: &Stop) -> Result<(), StoreError> {
    let mut at_once = rayon::current_num_threads().min(place.connections());
    loop {
        let batch: Vec<FileRequest> = std::iter::from_fn(|| inspection.next_wanted()).take(at_once).collect();
        if batch.is_empty() {
            return Ok(());
        }
        let judged = batch.par_iter().map(|wanted| {
            stop.check()?;
            let fetched = place.fetch(wanted);
            let size = match &fetched.result {
                FetchResult::Bytes(bytes) => bytes.len(),
                _ => 0,
            };
            let is_missed = !wanted.is_guess() || fetched.is_sitemap();
            Ok((is_missed.then(|| inspection.judge().file(wanted, fetched)), size))
        });
        let judged: Vec<_> = judged.collect::<Result<_, StoreError>>()?;
        let largest = judged.iter().map(|(_, size)| *size).max().unwrap_or(0).max(1);
        // Slowly, because the files that follow an index are larger than the index.
        at_once = (MOST_AT_ONCE / largest).clamp(2, MOST_FILES).min(at_once * 2).min(place.connections());
        for (wanted, (judged, _)) in batch.iter().zip(judged) {
            judged.into_iter().for_each(|judged| inspection.take(wanted, judged));
        }
    }
}
