//! Guards: they hold back a build whose result would do harm, say what would have happened, and which option goes on.

use std::collections::{BTreeMap, HashSet};
use std::fs;

use atlas_core::choose::Reason;
use atlas_core::format::read;
use atlas_core::number::grouped;
use atlas_core::placement::{CHILD_PREFIX, STYLESHEET_NAME, Strand};

use super::{Found, Job};
use crate::error::StoreError;
use crate::ledger::{Ledger, Writing};
use crate::publish::{Form, Gzip};
use crate::report::{Guard, Held};

/// When guards hold a build back: shares in percent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Thresholds {
    /// The share of a section that may be lost in one build.
    pub most_lost: u64,
    /// The share of all entries that one reason may leave out.
    pub most_left_out: u64,
    /// By so many points that share may grow once it has been accepted.
    pub left_out_may_grow: u64,
    /// So many entries may be lost or left out whatever their share is.
    pub few: u64,
}

impl Default for Thresholds {
    fn default() -> Self {
        Self { most_lost: 30, most_left_out: 50, left_out_may_grow: 10, few: 2 }
    }
}

/// Facts of the ledger: what the last build stood for.
const SITE: &str = "site";
const MAIN: &str = "main";
const GZIP: &str = "gzip";
/// Reasons whose share was accepted, each with that share in percent.
const ACCEPTED: &str = "accepted-left-out";

/// Reasons that a mistake in a template, a server or robots.txt may give many entries at once; the others are choices.
const BY_MISTAKE: [Reason; 11] = [
    Reason::OtherHost,
    Reason::TooLong,
    Reason::NoPage,
    Reason::ServerError,
    Reason::NotAPage,
    Reason::Noindex,
    Reason::Redirect,
    Reason::CanonicalElsewhere,
    Reason::ErrorPage,
    Reason::Disallowed,
    Reason::NotInFolder,
];

/// What the last build stood for, as far as guards ask for it.
#[derive(Debug, Default)]
pub(super) struct Before {
    site: Option<String>,
    main: Option<String>,
    gzip: Option<String>,
    accepted: BTreeMap<String, u64>,
}

impl Before {
    pub(super) fn read(ledger: &Ledger) -> Result<Self, StoreError> {
        let accepted = ledger.fact(ACCEPTED)?.unwrap_or_default();
        let accepted = accepted.lines().filter_map(|line| {
            let (code, share) = line.split_once(' ')?;
            Some((code.to_owned(), share.parse().ok()?))
        });
        Ok(Self {
            site: ledger.fact(SITE)?,
            main: ledger.fact(MAIN)?,
            gzip: ledger.fact(GZIP)?,
            accepted: accepted.collect(),
        })
    }
}

/// Remembers what a build that is done stands for.
pub(super) fn remember(job: &Job<'_>, found: &Found, writing: &Writing<'_>) -> Result<(), StoreError> {
    writing.set_fact(SITE, Some(job.chooser.site.root().as_str()))?;
    writing.set_fact(MAIN, Some(&job.place.main))?;
    writing.set_fact(GZIP, Some(gzip_word(job.place.gzip)))?;
    if job.allow.contains(&Guard::LeftOut) {
        let lines = shares(job, found).map(|(reason, share)| format!("{} {share}\n", reason.code()));
        writing.set_fact(ACCEPTED, Some(&lines.collect::<String>()))?;
    }
    Ok(())
}

fn gzip_word(gzip: Gzip) -> &'static str {
    if gzip == Gzip::Only { "only" } else { "plain" }
}

/// What a guard asks: what would happen, where that would do harm.
type Ask = fn(&Job<'_>, &Found) -> Option<String>;

/// The guards that hold the build back.
pub(super) fn guard(job: &Job<'_>, found: &Found) -> Vec<Held> {
    let guards: [(Guard, Ask); 9] = [
        (Guard::NewUrl, new_url),
        (Guard::ShutOut, shut_out),
        (Guard::LeftOut, left_out),
        (Guard::Empty, empty),
        (Guard::NewMain, new_main),
        (Guard::Gzip, gzip),
        (Guard::NewSections, new_sections),
        (Guard::Shrink, shrink),
        (Guard::Overwrite, overwrite),
    ];
    let asked = guards.into_iter().filter(|(guard, _)| !job.allow.contains(guard));
    let held = asked.filter_map(|(guard, ask)| {
        let message = ask(job, found)?;
        let mend = guard.option().map_or_else(
            || "Look closer with: idle-atlas survey".to_owned(),
            |option| format!("If that is right: idle-atlas build --allow {option}"),
        );
        Some(Held { guard, message, mend })
    });
    held.collect()
}

fn empty(_: &Job<'_>, found: &Found) -> Option<String> {
    if found.settled.entries() > 0 {
        return None;
    }
    let why = found.settled.counts.left_out.iter().max_by_key(|(_, sample)| sample.count());
    let why = why.map_or_else(
        || "the sources have no entries".to_owned(),
        |(reason, sample)| format!("{} left out: {}", grouped(sample.count()), reason.words()),
    );
    Some(format!("nothing would be left to list ({why})"))
}

fn new_url(job: &Job<'_>, found: &Found) -> Option<String> {
    let (before, now) = (found.before.site.as_deref()?, job.chooser.site.root().as_str());
    (before != now).then(|| format!("the last build was for {before}, this one is for {now}: every URL would change"))
}

fn new_main(job: &Job<'_>, found: &Found) -> Option<String> {
    let (before, now) = (found.before.main.as_deref()?, job.place.main.as_str());
    (before != now).then(|| {
        format!("the file to submit would be {now} instead of {before}: what was submitted before would lead nowhere")
    })
}

fn gzip(job: &Job<'_>, found: &Found) -> Option<String> {
    let (before, now) = (found.before.gzip.as_deref()?, gzip_word(job.place.gzip));
    (before != now).then(|| {
        let ends = if now == "only" { ".xml.gz instead of .xml" } else { ".xml instead of .xml.gz" };
        format!("every file would end in {ends}: files that were submitted one by one would lead nowhere")
    })
}

/// robots.txt keeps engines from the home page, so that nothing of the site would be looked at.
fn shut_out(job: &Job<'_>, found: &Found) -> Option<String> {
    let home = job.chooser.site.root().path();
    let tokens = std::iter::once("*").chain(found.chooser().tokens.iter().map(String::as_str));
    let mut barred = tokens.filter_map(|token| Some((token, found.chooser().robots.barred(token, home)?)));
    let (token, barred) = barred.next()?;
    Some(format!(
        "line {} of robots.txt, “Disallow: {}” (for {token}), shuts engines out of the home page",
        barred.line, barred.pattern
    ))
}

/// Reasons that leave out more than a few entries, each with its share in percent.
fn shares(job: &Job<'_>, found: &Found) -> impl Iterator<Item = (Reason, u64)> {
    let few = job.thresholds.few;
    let left_out: u64 = found.settled.counts.left_out.values().map(|sample| sample.count()).sum();
    let all = found.settled.entries() + left_out;
    let many = found
        .settled
        .counts
        .left_out
        .iter()
        .filter(move |(reason, sample)| BY_MISTAKE.contains(reason) && sample.count() > few);
    many.map(move |(reason, sample)| (*reason, sample.count() * 100 / all.max(1)))
}

fn left_out(job: &Job<'_>, found: &Found) -> Option<String> {
    let Thresholds { most_left_out: most, left_out_may_grow: growth, .. } = job.thresholds;
    let (reason, share) = shares(job, found).find(|(reason, share)| {
        let accepted = found.before.accepted.get(reason.code());
        *share > accepted.map_or(most, |accepted| (accepted + growth).max(most))
    })?;
    let sample = found.settled.counts.left_out.get(&reason)?.counted();
    let hint = match reason {
        Reason::NotInFolder => {
            " (where their pages are in no folder that is read, say pages = \"may-be-elsewhere\" on their source)"
        }
        _ => "",
    };
    Some(format!(
        "{} entries, {share} % of all, would be left out for one reason: {}, such as {}{hint}",
        grouped(sample.count),
        reason.words(),
        sample.examples.first().map_or("", String::as_str)
    ))
}

/// A section of which nothing is left although its entries are still there: it bears another name now.
fn new_sections(job: &Job<'_>, found: &Found) -> Option<String> {
    let few = job.thresholds.few;
    let sections = found.chooser().sections.list().iter().zip(&found.settled.counts.tallies);
    let now: HashSet<&str> =
        sections.filter(|(_, tally)| tally.entries > 0).map(|(section, _)| section.name.as_str()).collect();
    let (section, (count, gone)) = sections_before(found)
        .into_iter()
        .find(|(section, (count, gone))| *count > few && !now.contains(section) && gone * 2 < *count)?;
    Some(format!(
        "section {section} would be no more, and {} of its {} entries would stand in files of another name",
        grouped(count - gone),
        grouped(count)
    ))
}

fn shrink(job: &Job<'_>, found: &Found) -> Option<String> {
    if job.allow.contains(&Guard::NewUrl) && new_url(job, found).is_some() {
        return None;
    }
    let Thresholds { most_lost, few, .. } = job.thresholds;
    let lost = |(_, (count, gone)): &(&str, (u64, u64))| *gone > few && gone * 100 > count * most_lost;
    let (section, (count, gone)) = sections_before(found).into_iter().find(lost)?;
    let (share, gone, count) = (gone * 100 / count, grouped(gone), grouped(count));
    Some(format!("section {section} would lose {gone} of its {count} entries ({share} %)"))
}

/// The entries of each section as of the last build, and how many of them are lost. What has expired had said so beforehand:
/// that is no loss.
fn sections_before(found: &Found) -> BTreeMap<&str, (u64, u64)> {
    let mut before: BTreeMap<&str, (u64, u64)> = BTreeMap::new();
    let lost = found.settled.gone.iter().filter(|gone| gone.reason != Some(Reason::Expired));
    let lost: HashSet<u32> = lost.map(|gone| gone.prior).collect();
    for file in found.remembered.files.iter().filter(|file| file.strand == Strand::Pages) {
        let (count, gone) = before.entry(&file.section).or_default();
        for segment in &file.segments {
            *count += u64::from(segment.count);
            let range = segment.first as u32..segment.first as u32 + segment.count;
            *gone += if lost.is_empty() { 0 } else { range.filter(|at| lost.contains(at)).count() as u64 };
        }
    }
    before
}

/// The main file is there, and not by us: another tool writes it.
fn overwrite(job: &Job<'_>, found: &Found) -> Option<String> {
    let form = job.place.form(found.plan.files.len(), found.was_index);
    let names = match form {
        Form::Index => job.place.index_names(found.plan.files.len()),
        Form::Urlset => vec![job.place.main.clone()],
    };
    let unknown =
        |name: &&String| !found.remembered.outputs.contains_key(*name) && !found.remembered.planned.contains(*name);
    let anothers = |name: &String| {
        let path = job.place.folder.join(name);
        fs::read(&path).is_ok_and(|bytes| !is_ours(&bytes)).then_some(path)
    };
    let path = names.iter().filter(unknown).find_map(anothers)?;
    Some(format!(
        "{} is there already, and another tool wrote it: it would be written over, and two tools would fight over it",
        path.display()
    ))
}

/// Whether a main file was written by this tool, as far as it shows: by its stylesheet, or by the names of the files it lists.
/// A ledger that was lost does not make the site's own files another's.
pub(super) fn is_ours(bytes: &[u8]) -> bool {
    let head = String::from_utf8_lossy(&bytes[..bytes.len().min(512)]);
    if head.contains(&format!("href=\"{STYLESHEET_NAME}\"")) {
        return true;
    }
    let (mut children, mut ours) = (0u64, 0u64);
    let _ = read(
        bytes,
        |_| (),
        |child| {
            children += 1;
            let name = child.loc.unwrap_or_default();
            ours += u64::from(name.rsplit('/').next().is_some_and(|name| name.starts_with(CHILD_PREFIX)));
        },
    );
    children > 0 && ours == children
}
