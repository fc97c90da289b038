//! What the ledger knows of one URL, without asking any source.

use std::collections::HashMap;

use atlas_core::choose::Reason;
use atlas_core::fingerprint;
use atlas_core::format::{RawUrl, read_element};
use atlas_core::placement::{FileKind, child_name};

use super::job::Job;
use crate::destination::MainFile;
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembrance, lookup};
use crate::model::{Fact, RememberedEntry, RunRow, SegmentText, Tombstone, tag};
use crate::provenance::Provenances;

/// What the ledger knows of one URL, as of the last build.
#[derive(Debug)]
pub struct Recorded {
    /// The last build.
    pub run: RunRow,
    /// What became of the URL.
    pub state: RecordedState,
    /// If no source named it: listed URLs that differ only in scheme, `www.`, capitals, the closing slash or `.html`.
    pub nearest: Vec<String>,
}

/// What became of a URL in the last build.
#[derive(Debug)]
pub enum RecordedState {
    /// It is listed.
    Listed(Box<ListedUrl>),
    /// Sources named it, and it was left out.
    LeftOut(Reason),
    /// It was listed once, in this section, and left in this run.
    Gone(i64, Tombstone),
    /// No source named it.
    Unknown,
}

/// A listed URL.
#[derive(Debug)]
pub struct ListedUrl {
    /// Its section.
    pub section: String,
    /// The files that contain it, the one for pages first.
    pub files: Vec<String>,
    /// The sources that named it.
    pub sources: Vec<String>,
    /// Its element in the file for pages.
    pub written: RawUrl<'static>,
    /// What the ledger remembers of it.
    pub remembered: RememberedEntry,
}

/// Looks up one address in the ledger; `None` if nothing has been built yet.
///
/// # Errors
///
/// Returns an error if the ledger cannot be read.
pub fn recorded(job: &Job<'_>, ledger: &dyn Ledger, address: &str) -> Result<Option<Recorded>, StoreError> {
    let Some((run, _)) = ledger.run(ledger.last_run()?)? else { return Ok(None) };
    let seed = ledger.seed()?;
    let key = fingerprint::key(seed, address);
    let remembered = ledger.remembered()?;
    let others = spellings(address).into_iter().map(|url| (fingerprint::key(seed, &url), url));
    let others: HashMap<u128, String> = others.filter(|(other, _)| *other != key).collect();
    let wanted = others.keys().copied().chain([key]).collect();
    let mut found = lookup(ledger, &remembered, &wanted)?;
    let known = found.remove(&key).unwrap_or_default();
    let state = match known.iter().find(|one| one.kind == FileKind::Pages) {
        Some(page) => {
            let form = job.names.form(remembered.files.len(), ledger.fact(Fact::MainFile)?.is_some());
            let mut files: Vec<_> = known.iter().map(|one| &remembered.files[one.file]).collect();
            files.sort_by_key(|file| file.kind);
            let names = files.iter().map(|file| match form {
                MainFile::Urlset => job.names.main.clone(),
                MainFile::Index => child_name(&file.section, file.kind, file.number),
            });
            RecordedState::Listed(Box::new(ListedUrl {
                section: remembered.files[page.file].section.clone(),
                files: names.collect(),
                sources: Provenances::new(ledger.provenances()?, Vec::new()).names_of(page.entry.provenance),
                written: written(ledger, &remembered, page)?,
                remembered: page.entry,
            }))
        }
        None => match ledger.left_out()?.reason(tag(key)) {
            Some(reason) => RecordedState::LeftOut(reason),
            None => {
                let tombstones = ledger.tombstones()?;
                let gone = tombstones.into_iter().find(|(tombstone, _)| tombstone.key == key);
                gone.map_or(RecordedState::Unknown, |(tombstone, run)| RecordedState::Gone(run, tombstone))
            }
        },
    };
    let mut nearest = Vec::new();
    if matches!(state, RecordedState::Unknown) {
        nearest.extend(found.keys().filter_map(|key| others.get(key).cloned()));
        nearest.sort();
    }
    Ok(Some(Recorded { run, state, nearest }))
}

/// The other usual spellings of a URL.
fn spellings(url: &str) -> Vec<String> {
    let (scheme, rest) = url.split_once("://").unwrap_or(("https", url));
    let (host, path) = rest.split_once('/').unwrap_or((rest, ""));
    let bare = host.strip_prefix("www.").unwrap_or(host);
    let stem = path.strip_suffix("index.html").unwrap_or(path);
    let stem = stem.strip_suffix(".html").unwrap_or(stem).trim_end_matches('/');
    let stems = [stem.to_owned(), stem.to_lowercase()];
    let folder = |stem: &str| if stem.is_empty() { String::new() } else { format!("{stem}/") };
    let paths = stems
        .iter()
        .flat_map(|stem| [stem.clone(), folder(stem), format!("{stem}.html"), format!("{}index.html", folder(stem))]);
    let paths: Vec<String> = paths.collect();
    let schemes = if scheme == "http" { ["http", "https"] } else { ["https", "http"] };
    let hosts = [bare.to_owned(), format!("www.{bare}")];
    let all = schemes.iter().flat_map(|scheme| {
        let paths = &paths;
        hosts.iter().flat_map(move |host| paths.iter().map(move |path| format!("{scheme}://{host}/{path}")))
    });
    all.collect()
}

/// The element of an entry, from the text of its segment.
fn written(
    ledger: &dyn Ledger,
    remembered: &crate::ledger::Remembered,
    page: &Remembrance,
) -> Result<RawUrl<'static>, StoreError> {
    let missing = || StoreError::LedgerDamaged("an entry is not where it was");
    let file = &remembered.files[page.file];
    for segment in &file.segments {
        let entries = ledger.entries_of(file.id, segment)?;
        if let Some(nth) = entries.iter().position(|entry| entry.key == page.entry.key) {
            let text = SegmentText::read(&ledger.body(file.id, segment.number)?, segment)?;
            return read_element(text.element(nth as u32)).ok_or_else(missing);
        }
    }
    Err(missing())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::slash("https://www.marrowvale.example/halts/weir", "https://www.marrowvale.example/halts/weir/")]
    #[case::no_slash("https://www.marrowvale.example/halts/weir/", "https://www.marrowvale.example/halts/weir")]
    #[case::html("https://www.marrowvale.example/weir/", "https://www.marrowvale.example/weir.html")]
    #[case::index("https://www.marrowvale.example/index.html", "https://www.marrowvale.example/")]
    #[case::capitals("https://www.marrowvale.example/Weir", "https://www.marrowvale.example/weir")]
    #[case::scheme_and_host("http://marrowvale.example/", "https://www.marrowvale.example/")]
    fn usual_spellings_are_found(#[case] asked: &str, #[case] known: &str) {
        assert!(spellings(asked).contains(&known.to_owned()), "{:?}", spellings(asked));
    }
}
