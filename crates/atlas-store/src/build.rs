//! The run of a survey or a build, from sources to files.

use std::collections::HashSet;
use std::path::PathBuf;

use atlas_core::choose::{Chooser, Verdict};
use atlas_core::contribution::Said;
use atlas_core::fingerprint;
use atlas_core::lastmod::Lastmod;
use atlas_core::page;
use atlas_core::shape::{Shape, lastmod};
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::arrange::{Cut, Plan, Renderer, arrange};
use crate::arrival::Arrivals;
use crate::error::StoreError;
use crate::ledger::{Change, Ledger, Remembered, RunCounts, RunRow, Tombstone};
use crate::look::{self, Listed, Listing, notice};
use crate::publish::{Form, Place, Publisher, remove};
use crate::report::{
    Built, Changes, Counted, Fate, FileReport, Guard, Held, LeftOut, RobotsFate, SectionReport, SourceReport, Survey,
};
use crate::settle::{EXAMPLES, News, Settled, Terms, settle};
use crate::source::{Gathering, Memory, Outcome, Source};

/// A section of at least this many entries is guarded against shrinking.
const GUARDED_LEAST: u64 = 20;
/// The share of a section, in percent, that may be lost in one build.
const MAY_LOSE: u64 = 30;

/// Facts of the ledger that a build needs.
const READER: &str = "reader";
const FORM: &str = "form";

/// What is to be gathered, chosen and written.
pub struct Job<'a> {
    /// Where entries come from, in the order in which they are believed.
    pub sources: &'a [Box<dyn Source>],
    /// Decides about each entry.
    pub chooser: Chooser,
    /// What of an entry is written.
    pub shape: Shape,
    /// How files are cut.
    pub cut: Cut,
    /// Where files go.
    pub place: Place,
    /// A text that changes whenever a setting with a say in what is written changes.
    pub settings: String,
    /// The instant of the run.
    pub now: Timestamp,
    /// The site's zone: what day it is.
    pub timezone: TimeZone,
    /// Read everything anew.
    pub fresh: bool,
    /// Guards that may be passed.
    pub allow: HashSet<String>,
    /// Is told how many more rows have come.
    pub progress: &'a (dyn Fn(u64) + Sync),
}

/// What a run has found, before anything is written.
struct Found {
    arrivals: Arrivals,
    remembered: Remembered,
    settled: Settled,
    outcomes: Vec<Outcome>,
    memories: Vec<Memory>,
    first: bool,
    run: i64,
    was_index: bool,
    /// Addresses and kinds of the entries that are gone, where engines may have to know.
    gone: Vec<Tombstone>,
    left_out_now: Counted,
}

/// Gathers and shows what would be in, and why the rest is left out. Writes nothing but what was learnt of files.
pub fn survey(job: &Job<'_>, ledger: &mut Ledger) -> Result<Survey, StoreError> {
    let found = find(job, ledger, Purpose::Look)?;
    let renderer = Renderer { arrivals: &found.arrivals, shape: &job.shape };
    let plan = arrange(&found.remembered, &found.settled.candidates, &job.chooser.sections, &job.cut, &renderer);
    let writing = ledger.transaction()?;
    keep_memories(job, &found, &writing)?;
    writing.commit()?;
    let notices = notice(&found.arrivals, &found.settled, &job.chooser, &found.outcomes, ledger.seed()?);
    let form = job.place.form(plan.files.len(), found.was_index);
    let fates = plan.files.iter().map(|file| match (file.id, file.is_touched()) {
        (None, _) => Fate::New,
        (_, true) => Fate::Changed,
        (_, false) => Fate::Unchanged,
    });
    let fates: Vec<Fate> = fates.collect();
    let sizes: Vec<u64> = plan.files.iter().map(|file| file.size()).collect();
    Ok(Survey { notices, ..report(job, found, &plan, form, &fates, &sizes) })
}

/// Gathers and lists entries, those that are left out too. Returns the list and how many there are in all.
pub fn list(job: &Job<'_>, ledger: &mut Ledger, listing: &Listing) -> Result<(Vec<Listed>, u64), StoreError> {
    let found = find(job, ledger, Purpose::LookCloser)?;
    let writing = ledger.transaction()?;
    keep_memories(job, &found, &writing)?;
    writing.commit()?;
    Ok(look::list(listing, &found.arrivals, &found.settled, &job.chooser, &found.outcomes))
}

/// Gathers, chooses, writes the files, the index and robots.txt, and remembers.
pub fn build(job: &Job<'_>, ledger: &mut Ledger) -> Result<Built, StoreError> {
    let mut found = find(job, ledger, Purpose::Write)?;
    guard(job, &found)?;
    let renderer = Renderer { arrivals: &found.arrivals, shape: &job.shape };
    let plan = arrange(&found.remembered, &found.settled.candidates, &job.chooser.sections, &job.cut, &renderer);
    let form = job.place.form(plan.files.len(), found.was_index);
    let publisher = Publisher {
        place: &job.place,
        plan: &plan,
        remembered: &found.remembered,
        candidates: &found.settled.candidates,
        renderer,
        form,
        now: job.now.as_second(),
    };
    if !publisher.is_settled() {
        ledger.plan(publisher.names_at_stake())?;
    }
    let writing = ledger.transaction()?;
    let published = publisher.publish(&writing)?;
    if form == Form::Index {
        writing.set_fact(FORM, Some("index"))?;
    }
    writing.set_fact(READER, Some(&page::VERSION.to_string()))?;
    keep_memories(job, &found, &writing)?;
    for tombstone in &found.gone {
        writing.bury(tombstone, found.run)?;
    }
    if !found.first {
        let added = found.settled.candidates.iter().filter(|candidate| candidate.news == News::Added);
        added.into_iter().try_for_each(|candidate| writing.unbury(candidate.lane.key))?;
    }
    found.arrivals = Arrivals::default();
    let run = found.run;
    let survey = report(job, found, &plan, form, &published.fates, &published.sizes);
    let built = Built {
        run,
        survey,
        written: published.written,
        retired: published.retired,
        removed: published.to_remove.clone(),
        robots: published.robots.unwrap_or(RobotsFate::Unnamed),
    };
    writing.add_run(&run_row(job, &built), &serde_json::to_string(&built).unwrap_or_default())?;
    if published.to_remove.is_empty() {
        writing.plan_is_done()?;
    }
    writing.commit()?;
    if !published.to_remove.is_empty() {
        remove(&job.place, &published.to_remove)?;
        let writing = ledger.transaction()?;
        writing.plan_is_done()?;
        writing.commit()?;
    }
    Ok(built)
}

/// Everything that is known of one address.
pub struct Explained {
    /// What each source says of it, in the order of the sources.
    pub said: Vec<(String, Said<'static>)>,
    /// What came of it, and each step that led there.
    pub verdict: Option<(Verdict, Vec<atlas_core::choose::Step>)>,
    /// The sum of what was said.
    pub merged: Option<Said<'static>>,
    /// The file it stands in, as of the last build.
    pub file: Option<String>,
    /// What the ledger remembers.
    pub remembered: Option<crate::ledger::LaneEntry>,
    /// The date that is written.
    pub lastmod: Option<Lastmod>,
}

/// Decides again about one address, from what the sources say now.
pub fn explain(job: &Job<'_>, ledger: &mut Ledger, address: &str) -> Result<Explained, StoreError> {
    let seed = ledger.seed()?;
    let Gathered { arrivals, outcomes, .. } = gather(job, ledger, seed, Purpose::LookCloser)?;
    let key = fingerprint::key(seed, address);
    let mut said = Vec::new();
    let mut merged: Option<Said<'static>> = None;
    for (place, _) in arrivals.marks().filter(|(_, mark)| mark.key == key) {
        let one = Said::read(arrivals.row(place)).into_owned();
        match &mut merged {
            Some(merged) => merged.merge(one.clone()),
            None => merged = Some(one.clone()),
        }
        said.push((outcomes[arrivals.source_of(place)].name.clone(), one));
    }
    let remembered = ledger.remembered()?;
    let at = remembered.lane.iter().position(|entry| entry.key == key);
    let row = at.and_then(|at| remembered.files.iter().find(|file| holds(file, at)));
    let was_index = ledger.fact(FORM)?.is_some();
    let form = job.place.form(remembered.files.len(), was_index);
    let file = row.map(|row| match form {
        Form::Urlset => job.place.main.clone(),
        Form::Index => crate::arrange::child_name(&row.section, row.number),
    });
    let lane = at.map(|at| remembered.lane[at]);
    let observed = lane.map(|lane| lane.observed).filter(|day| *day != crate::ledger::NEVER);
    let lastmod = merged.as_ref().and_then(|merged| lastmod(merged, observed));
    let verdict = merged.as_ref().map(|merged| job.chooser.explain(merged));
    Ok(Explained { said, verdict, merged, file, remembered: lane, lastmod })
}

fn holds(file: &crate::ledger::FileRow, at: usize) -> bool {
    file.segments.iter().any(|segment| (segment.first..segment.first + segment.count as usize).contains(&at))
}

/// What is done with what the sources yield.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Purpose {
    /// To look at the site as a whole, its links included.
    Look,
    /// To write files.
    Write,
    /// To look at some entries closely: what is known of a site that takes long to walk will do.
    LookCloser,
}

/// What the sources yielded.
struct Gathered {
    arrivals: Arrivals,
    outcomes: Vec<Outcome>,
    memories: Vec<Memory>,
}

fn gather(job: &Job<'_>, ledger: &mut Ledger, seed: u64, purpose: Purpose) -> Result<Gathered, StoreError> {
    let mut gathered = Gathered { arrivals: Arrivals::default(), outcomes: Vec::new(), memories: Vec::new() };
    for source in job.sources {
        let (name, settings) = (source.name(), source.settings());
        let links = purpose == Purpose::Look || source.needs_links();
        let memory = if job.fresh { Memory::default() } else { ledger.memory(&name, settings, links)? };
        let memory = Memory { will_do: purpose == Purpose::LookCloser && !memory.known.is_empty(), ..memory };
        let mut keep = |memory: &Memory| {
            let writing = ledger.transaction()?;
            writing.learnt(&name, settings, memory)?;
            writing.commit()
        };
        let arrivals = &mut gathered.arrivals;
        let mut gathering = Gathering::new(name.clone(), seed, memory, arrivals, job.progress, &mut keep);
        source.gather(&mut gathering)?;
        let (outcome, memory) = gathering.finish();
        gathered.outcomes.push(outcome);
        gathered.memories.push(memory);
    }
    Ok(gathered)
}

fn find(job: &Job<'_>, ledger: &mut Ledger, purpose: Purpose) -> Result<Found, StoreError> {
    let seed = ledger.seed()?;
    let remembered = ledger.remembered()?;
    let last_run = ledger.last_run()?;
    let run = last_run + 1;
    let Gathered { mut arrivals, outcomes, memories } = gather(job, ledger, seed, purpose)?;
    let today = Lastmod::Day(job.now.to_zoned(job.timezone.clone()).date()).epoch_day();
    let terms = Terms {
        chooser: &job.chooser,
        run: run as u32,
        shape: &job.shape,
        today,
        settings: fingerprint::settings(&job.settings),
        same_reader: ledger.fact(READER)?.as_deref() == Some(&page::VERSION.to_string()),
    };
    let settled = settle(&mut arrivals, &remembered.lane, seed, &terms);
    let (gone, left_out_now) = gone(ledger, &remembered, &settled)?;
    let was_index = ledger.fact(FORM)?.is_some();
    let first = last_run == 0;
    Ok(Found { arrivals, remembered, settled, outcomes, memories, first, run, was_index, gone, left_out_now })
}

/// The addresses of entries that are gone, read back from the text of their segments.
fn gone(ledger: &Ledger, remembered: &Remembered, settled: &Settled) -> Result<(Vec<Tombstone>, Counted), StoreError> {
    let mut gone = settled.gone.clone();
    gone.sort_unstable_by_key(|(at, _)| *at);
    let mut gone = gone.into_iter().peekable();
    let (mut tombstones, mut left_out) = (Vec::new(), Counted::default());
    for file in &remembered.files {
        for segment in &file.segments {
            let end = segment.first + segment.count as usize;
            let mut urls: Option<Vec<String>> = None;
            while let Some((at, change)) = gone.next_if(|(at, _)| (segment.first..end).contains(&(*at as usize))) {
                if urls.is_none() {
                    let body = ledger.body(file.id, segment.number)?;
                    urls = Some(crate::ledger::urls_of(&body, segment.size)?);
                }
                let nth = at as usize - segment.first;
                let url = urls.as_ref().and_then(|urls| urls.get(nth)).cloned().unwrap_or_default();
                let key = remembered.lane[at as usize].key;
                if change != Some(Change::Removed) {
                    left_out.count += 1;
                    if left_out.examples.len() < EXAMPLES {
                        left_out.examples.push(url.clone());
                    }
                }
                tombstones.extend(change.map(|change| Tombstone { key, url, change }));
            }
        }
    }
    Ok((tombstones, left_out))
}

fn keep_memories(job: &Job<'_>, found: &Found, writing: &crate::ledger::Writing<'_>) -> Result<(), StoreError> {
    for (source, memory) in job.sources.iter().zip(&found.memories) {
        writing.remember(&source.name(), source.settings(), memory)?;
    }
    Ok(())
}

/// Holds back a build whose result would do harm.
fn guard(job: &Job<'_>, found: &Found) -> Result<(), StoreError> {
    if found.settled.candidates.is_empty() {
        let why = found.settled.left_out.iter().max_by_key(|(_, sample)| sample.counted().count);
        let why = why.map_or_else(
            || "the sources have no entries".to_owned(),
            |(reason, sample)| format!("{} left out: {}", sample.counted().count, reason.words()),
        );
        let message =
            format!("nothing would be left to list ({why}); nothing was written. Look closer with: idle-atlas survey");
        return Err(StoreError::Held(Held { guard: Guard::Empty, message }));
    }
    if job.allow.contains("shrink") {
        return Ok(());
    }
    let mut before: std::collections::BTreeMap<&str, (u64, u64)> = std::collections::BTreeMap::new();
    let lost: HashSet<u32> = found.settled.gone.iter().map(|(at, _)| *at).collect();
    for file in &found.remembered.files {
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
            return Err(StoreError::Held(Held { guard: Guard::Shrink, message }));
        }
    }
    Ok(())
}

fn report(job: &Job<'_>, found: Found, plan: &Plan, form: Form, fates: &[Fate], sizes: &[u64]) -> Survey {
    let settled = &found.settled;
    let sections = job.chooser.sections.list().iter().zip(&settled.tallies).filter(|(_, tally)| tally.entries > 0);
    let sections = sections.map(|(section, tally)| SectionReport {
        name: section.name.clone(),
        entries: tally.entries,
        images: tally.images,
        videos: tally.videos,
        newest: tally.newest,
        files: (plan.files.iter().zip(fates).zip(sizes))
            .filter(|((file, _), _)| file.section == section.name)
            .map(|((file, fate), bytes)| FileReport {
                address: format!("{}{}", job.place.address, job.place.listed_name(file, form)),
                entries: file.urls(),
                bytes: *bytes,
                fate: *fate,
            })
            .collect(),
    });
    let left_out = settled.left_out.iter().map(|(reason, sample)| LeftOut {
        reason: *reason,
        words: reason.words(),
        counted: sample.counted(),
    });
    let removed: Vec<&Tombstone> = found.gone.iter().filter(|one| one.change == Change::Removed).collect();
    let changes = Changes {
        first: found.first,
        added: settled.added.counted(),
        changed: settled.changed.counted(),
        removed: Counted {
            count: removed.len() as u64,
            examples: removed.iter().take(EXAMPLES).map(|one| one.url.clone()).collect(),
        },
        left_out: found.left_out_now.clone(),
        redesign: settled.redesign,
    };
    let tallies = settled.sources.clone();
    let with_tally = |(at, outcome): (usize, Outcome)| {
        let tally = tallies.get(at).copied().unwrap_or_default();
        SourceReport { outcome, kept: tally.kept, left_out: tally.left_out }
    };
    Survey {
        main: job.place.main_address(),
        sections: sections.collect(),
        left_out: left_out.collect(),
        changes,
        incomplete_videos: settled.incomplete_videos(),
        headless: settled.headless.counted(),
        sources: found.outcomes.into_iter().enumerate().map(with_tally).collect(),
        notices: Vec::new(),
    }
}

fn run_row(job: &Job<'_>, built: &Built) -> RunRow {
    let survey = &built.survey;
    RunRow {
        run: built.run,
        at: job.now.as_second(),
        counts: RunCounts {
            entries: survey.sections.iter().map(|section| section.entries).sum(),
            added: survey.changes.added.count,
            changed: survey.changes.changed.count,
            removed: survey.changes.removed.count,
            left_out: survey.left_out.iter().map(|left_out| left_out.counted.count).sum(),
            files_written: built.written.len() as u64,
        },
    }
}

/// Where a ledger lives for a site whose configuration is in `folder`.
pub fn ledger_folder(folder: &std::path::Path) -> PathBuf {
    folder.join(crate::ledger::FOLDER)
}
