//! Explaining: everything that is known of one address.

use atlas_core::choose::{Step, Verdict};
use atlas_core::contribution::{Alternate, Said};
use atlas_core::fingerprint;
use atlas_core::lastmod::Lastmod;
use atlas_core::shape::lastmod;
use atlas_core::strand::Strand;
use atlas_core::structured::{self, VideoObjects};

use super::{FORM, Job, Purpose, find};
use crate::arrange::child_name;
use crate::error::StoreError;
use crate::ledger::{FileRow, LaneEntry, Ledger, NEVER};
use crate::publish::Form;

/// Everything that is known of one address.
pub struct Explained {
    /// What each source says of it, in the order of the sources.
    pub said: Vec<(String, Said<'static>)>,
    /// What came of it, and each step that led there.
    pub verdict: Option<(Verdict, Vec<Step>)>,
    /// The sum of what was said.
    pub merged: Option<Said<'static>>,
    /// The files it stands in, as of the last build.
    pub files: Vec<String>,
    /// What the ledger remembers.
    pub remembered: Option<LaneEntry>,
    /// The date that is written.
    pub lastmod: Option<Lastmod>,
    /// The group of translations it belongs to, itself included.
    pub alternates: Vec<Alternate<'static>>,
    /// Structured data for its videos; none where the page carries its own.
    pub structured: Option<VideoObjects>,
    /// What could be better about the structured data that the page carries.
    pub structured_differences: Vec<String>,
}

/// Decides again about one address, from what the sources say now.
pub fn explain(job: &Job<'_>, ledger: &mut Ledger, address: &str) -> Result<Explained, StoreError> {
    let found = find(job, ledger, Purpose::LookCloser)?;
    let key = fingerprint::key(ledger.seed()?, address);
    let (arrivals, remembered) = (&found.arrivals, &found.remembered);
    let mut said = Vec::new();
    let mut merged: Option<Said<'static>> = None;
    let mut sources: Vec<u16> = Vec::new();
    for (place, _) in arrivals.marks().filter(|(_, mark)| mark.key == key) {
        // Rows that were merged from several come after those of the last source.
        if place.block() >= found.blocks {
            break;
        }
        let one = Said::read(arrivals.row(place)).into_owned();
        match &mut merged {
            Some(merged) => merged.merge(one.clone()),
            None => merged = Some(one.clone()),
        }
        let source = arrivals.source_of(place);
        if !sources.contains(&(source as u16)) {
            sources.push(source as u16);
        }
        said.push((found.outcomes[source].name.clone(), one));
    }
    let form = job.place.form(remembered.files.len(), ledger.fact(FORM)?.is_some());
    let mut files: Vec<&FileRow> = remembered.files.iter().collect();
    files.retain(|file| {
        let mut places = file.segments.iter().flat_map(|one| one.first..one.first + one.count as usize);
        places.any(|at| remembered.lane[at].key == key)
    });
    files.sort_by_key(|file| file.strand);
    let files = files.into_iter().map(|file| match form {
        Form::Urlset => job.place.main.clone(),
        Form::Index => child_name(&file.section, file.strand, file.number),
    });
    let lane = remembered.lane_of(|strand| strand == Strand::Pages).find(|(_, _, entry)| entry.key == key);
    let lane = lane.map(|(_, _, entry)| *entry);
    let observed = lane.map(|lane| lane.observed).filter(|day| *day != NEVER);
    let verdict = merged.as_ref().map(|merged| found.chooser.explain(merged, &sources));
    let lastmod = match (&merged, &verdict) {
        (Some(merged), Some((Verdict::Kept(kept), _))) => lastmod(merged, observed, kept.date_policy),
        _ => None,
    };
    let group = found.settled.pages().find(|candidate| candidate.lane.key == key).map(|candidate| candidate.group);
    let wanted = merged.as_ref().filter(|merged| structured::is_wanted(merged));
    Ok(Explained {
        verdict,
        files: files.collect(),
        remembered: lane,
        lastmod,
        alternates: group.map(|group| found.alternates.list(group).to_vec()).unwrap_or_default(),
        structured: wanted.map(|merged| structured::video_objects(merged, &job.timezone)),
        structured_differences: merged.as_ref().map(structured::compare).unwrap_or_default(),
        said,
        merged,
    })
}
