//! Explaining one address: everything that is known about it.

use std::collections::HashSet;

use atlas_core::address::in_short;
use atlas_core::choose::{Reason, Step, Verdict};
use atlas_core::contribution::{Contribution, url_of};
use atlas_core::derive::structured::{self, VideoObjects};
use atlas_core::fingerprint;
use atlas_core::language::Alternate;
use atlas_core::lastmod::Lastmod;
use atlas_core::output_policy::lastmod;
use atlas_core::placement::FileKind;

use super::Purpose;
use super::job::Job;
use super::pipeline::find;
use crate::arrival::{Arrivals, RowId};
use crate::destination::MainFile;
use crate::error::StoreError;
use crate::ledger::{Ledger, lookup};
use crate::model::{Fact, FileRow, NEVER, RememberedEntry};
use atlas_core::placement::child_name;

/// Everything that is known about one address.
pub struct Explained {
    /// What each source says of it, in the order of the sources.
    pub said: Vec<(String, Contribution<'static>)>,
    /// The verdict, and each step that led to it.
    pub verdict: Option<(Verdict, Vec<Step>)>,
    /// The section that it is in, if it is listed.
    pub section: Option<String>,
    /// The merged contributions.
    pub merged: Option<Contribution<'static>>,
    /// The files that contain it, as of the last build.
    pub files: Vec<String>,
    /// What the ledger remembers.
    pub remembered: Option<RememberedEntry>,
    /// The date that is written.
    pub lastmod: Option<Lastmod>,
    /// Its group of translations, itself included.
    pub alternates: Vec<Alternate<'static>>,
    /// Structured data for its videos; `None` if the page has its own.
    pub structured: Option<VideoObjects>,
    /// How the page's own structured data could be improved.
    pub structured_differences: Vec<String>,
    /// If no source knows it, similar URLs, the most similar first.
    pub nearest: Vec<String>,
}

/// The number of similar URLs that are shown.
const NEAREST: usize = 5;
/// How similar they must be, from 0 to 1.
const ALIKE: f64 = 0.85;

/// The URLs that are most similar to one that no source knows.
fn nearest(arrivals: &Arrivals, address: &str) -> Vec<String> {
    let short = in_short(address);
    let mut alike: Vec<(f64, String)> = Vec::new();
    let path = |short: &str| short.split_once('/').map_or(String::new(), |(_, path)| path.to_owned());
    let wanted = path(&short);
    arrivals.each_summary(|row_id, _| {
        let row = arrivals.row(row_id);
        let known = in_short(url_of(&row));
        let likeness = if known == short { 1.0 } else { strsim::jaro_winkler(&path(&known), &wanted) };
        if likeness >= ALIKE {
            alike.push((likeness, url_of(&row).to_owned()));
        }
    });
    alike.sort_by(|one, other| other.0.total_cmp(&one.0).then_with(|| one.1.cmp(&other.1)));
    // If one differs only in spelling, the others are not meant.
    let same = alike.first().is_some_and(|(likeness, _)| *likeness >= 1.0);
    alike.retain(|(likeness, _)| !same || *likeness >= 1.0);
    alike.dedup_by(|one, other| one.1 == other.1);
    alike.into_iter().take(NEAREST).map(|(_, url)| url).collect()
}

/// Decides again about one address, from what the sources say now.
///
/// # Errors
///
/// Returns an error if a source or the ledger cannot be read.
pub fn explain(job: &Job<'_>, ledger: &mut dyn Ledger, address: &str) -> Result<Explained, StoreError> {
    let found = find(job, ledger, Purpose::LookCloser)?;
    let key = fingerprint::key(ledger.seed()?, address);
    let (arrivals, remembered) = (&found.arrivals, &found.remembered);
    let mut said = Vec::new();
    let mut merged: Option<Contribution<'static>> = None;
    let mut sources: Vec<u16> = Vec::new();
    let mut row_ids: Vec<RowId> = Vec::new();
    arrivals.each_summary(|row_id, summary| row_ids.extend((summary.key() == key).then_some(row_id)));
    // Merged rows come after those of the last source.
    row_ids.retain(|row_id| arrivals.find(*row_id).0 < found.blocks);
    let read = |row_id: &RowId| (arrivals.source_of(*row_id), Contribution::read(&arrivals.row(*row_id)).into_owned());
    let mut rows: Vec<(u16, Contribution<'static>)> = row_ids.iter().map(read).collect();
    rows.sort_by_cached_key(|(source, one)| (*source, one.precedence()));
    for (source, one) in rows {
        match &mut merged {
            Some(merged) => merged.merge(one.clone()),
            None => merged = Some(one.clone()),
        }
        if !sources.contains(&source) {
            sources.push(source);
        }
        said.push((found.outcomes[usize::from(source)].name.clone(), one));
    }
    let form = job.names.form(remembered.files.len(), ledger.fact(Fact::MainFile)?.is_some());
    let known = lookup(ledger, remembered, &HashSet::from([key]))?.remove(&key).unwrap_or_default();
    let mut files: Vec<(&FileRow, RememberedEntry)> =
        known.into_iter().map(|one| (&remembered.files[one.file], one.entry)).collect();
    files.sort_by_key(|(file, _)| file.kind);
    let remembered_entry = files.iter().find(|(file, _)| file.kind == FileKind::Pages).map(|(_, entry)| *entry);
    let files = files.into_iter().map(|(file, _)| match form {
        MainFile::Urlset => job.names.main.clone(),
        MainFile::Index => child_name(&file.section, file.kind, file.number),
    });
    let observed = remembered_entry.map(|entry| entry.observed).filter(|day| *day != NEVER);
    // If several rows name it, the merged one represents it.
    let mut group = None;
    arrivals.each_summary(|row_id, summary| {
        if summary.key() == key && found.settled.entry_rows.is_entry(row_id) {
            group = Some(found.alternates.group_of(row_id));
            if let Some(merged) = &mut merged {
                merged.not_in_folder = summary.verdict == Verdict::LeftOut(Reason::NotInFolder);
            }
        }
    });
    let verdict = merged.as_ref().map(|merged| found.chooser().explain(merged, &sources));
    let lastmod = match (&merged, &verdict) {
        (Some(merged), Some((Verdict::Kept(kept), _))) => {
            lastmod(merged, observed, kept.date_policy, &found.chooser().calendar)
        }
        _ => None,
    };
    let wanted = merged.as_ref().filter(|merged| structured::is_wanted(merged));
    let section = match &verdict {
        Some((Verdict::Kept(kept), _)) => {
            found.chooser().sections.list().get(usize::from(kept.section)).map(|section| section.name.clone())
        }
        _ => None,
    };
    Ok(Explained {
        section,
        verdict,
        files: files.collect(),
        remembered: remembered_entry,
        lastmod,
        alternates: group.map(|group| found.alternates.owned_list(group)).unwrap_or_default(),
        structured: wanted.map(|merged| structured::video_objects(merged, &job.timezone)),
        nearest: if row_ids.is_empty() { nearest(arrivals, address) } else { Vec::new() },
        structured_differences: merged.as_ref().map(structured::compare).unwrap_or_default(),
        said,
        merged,
    })
}
