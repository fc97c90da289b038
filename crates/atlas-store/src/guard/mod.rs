//! Guards: they hold back a build whose result would do harm, and report what would have happened and which option lets
//! it pass.

mod before;
mod ours;
mod foreign;

use std::collections::{BTreeMap, HashSet};

use atlas_core::choose::{Chooser, Reason};
use atlas_core::judge::{Thresholds, is_lost, is_renamed, is_too_much_left_out, share};
use atlas_core::number::{count, grouped};
use atlas_core::placement::{FileKind, plain_name};

pub(crate) use self::before::Before;
use self::before::gzip_word;
pub(crate) use self::foreign::foreign;
pub(crate) use self::ours::is_ours;
pub use self::ours::is_own_file;
use crate::destination::{Destination, Names};
use crate::error::StoreError;
use crate::ledger::{Remembered, Writing};
use crate::model::Fact;
use crate::report::{Guard, Held};
use crate::settle::Settled;
use jiff::Timestamp;

/// The input of the guards: the build as it would be, and the state before.
pub(crate) struct GuardInput<'a> {
    /// Guards that are allowed to be passed.
    pub(crate) allow: &'a HashSet<Guard>,
    pub(crate) thresholds: &'a Thresholds,
    pub(crate) chooser: &'a Chooser,
    pub(crate) names: &'a Names,
    pub(crate) destination: &'a dyn Destination,
    /// The state after the last build.
    pub(crate) before: &'a Before,
    pub(crate) remembered: &'a Remembered,
    /// The names of files that would be overwritten although another tool wrote them.
    pub(crate) foreign: &'a [String],
    pub(crate) settled: &'a Settled,
    /// The instant of this run, in seconds since 1970, if the clock told it.
    pub(crate) now: Option<i64>,
    /// Why sources that could not be read hold the build back, if they do.
    pub(crate) part: Option<&'a str>,
}

/// Remembers the state after a build.
pub(crate) fn remember(input: &GuardInput<'_>, writing: &dyn Writing) -> Result<(), StoreError> {
    writing.set_fact(Fact::Site, Some(input.chooser.site.root().as_str()))?;
    writing.set_fact(Fact::Main, Some(&input.names.main))?;
    writing.set_fact(Fact::Gzip, Some(gzip_word(input.names.gzip)))?;
    if input.allow.contains(&Guard::LeftOut) {
        let lines = shares(input).map(|(reason, share)| format!("{} {share}\n", reason.code()));
        writing.set_fact(Fact::AcceptedLeftOut, Some(&lines.collect::<String>()))?;
    }
    Ok(())
}

/// Reasons that a mistake in a template, a server or robots.txt may apply to many entries at once. The others are
/// decisions.
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

/// A guard: returns what would happen, if it would do harm.
type Ask = fn(&GuardInput<'_>) -> Option<String>;

/// Runs all guards and returns those that hold the build back.
pub(crate) fn guard(input: &GuardInput<'_>) -> Vec<Held> {
    let guards: [(Guard, Ask); 11] = [
        (Guard::Clock, clock),
        (Guard::Part, |input| input.part.map(str::to_owned)),
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
    let asked = guards.into_iter().filter(|(guard, _)| !input.allow.contains(guard));
    let held = asked.filter_map(|(guard, ask)| {
        let message = ask(input)?;
        Some(Held { guard, message, mend: guard.mend() })
    });
    held.collect()
}

fn empty(input: &GuardInput<'_>) -> Option<String> {
    if input.settled.entries() > 0 || input.part.is_some() {
        return None;
    }
    let why = input.settled.counts.left_out.iter().max_by_key(|(_, sample)| sample.count());
    let why = why.map_or_else(
        || "the sources have no entries".to_owned(),
        |(reason, sample)| format!("{} left out: {}", grouped(sample.count()), reason.words()),
    );
    Some(format!("nothing would be left to list ({why})"))
}

/// How far the clock may be behind the last run, in seconds.
const CLOCK_MAY_BE_BEHIND: i64 = 3600;

/// Whether the clock is so far behind the last run that one of them is wrong. Both in seconds since 1970.
pub(crate) fn is_behind(now: i64, last_run: i64) -> bool {
    now < last_run - CLOCK_MAY_BE_BEHIND
}

fn clock(input: &GuardInput<'_>) -> Option<String> {
    let (now, last) = (input.now?, input.before.at?);
    let shown = |seconds| Timestamp::from_second(seconds).map(|instant| instant.to_string()).unwrap_or_default();
    is_behind(now, last).then(|| {
        format!("the last run was at {}, and now it is {}: the clock is wrong, or was then", shown(last), shown(now))
    })
}

fn new_url(input: &GuardInput<'_>) -> Option<String> {
    let (before, now) = (input.before.site.as_deref()?, input.chooser.site.root().as_str());
    (before != now).then(|| format!("the last build was for {before}, this one is for {now}: every URL would change"))
}

fn new_main(input: &GuardInput<'_>) -> Option<String> {
    let (before, now) = (input.before.main.as_deref()?, input.names.main.as_str());
    (before != now).then(|| {
        format!("the file to submit would be {now} instead of {before}: the URL that was submitted before would stand for {}, and then no longer exist", atlas_core::number::count(u64::from(input.names.folded_days), "more day", "more days"))
    })
}

fn gzip(input: &GuardInput<'_>) -> Option<String> {
    let (before, now) = (input.before.gzip.as_deref()?, gzip_word(input.names.gzip));
    (before != now).then(|| {
        let ends = if now == "only" { ".xml.gz instead of .xml" } else { ".xml instead of .xml.gz" };
        format!("every file would end in {ends}: files that were submitted one by one would no longer exist")
    })
}

/// robots.txt forbids the home page, so that engines would look at nothing.
fn shut_out(input: &GuardInput<'_>) -> Option<String> {
    let home = input.chooser.site.root().path();
    let tokens = std::iter::once("*").chain(input.chooser.tokens.iter().map(String::as_str));
    let mut barred = tokens.filter_map(|token| Some((token, input.chooser.robots.barred(token, home)?)));
    let (token, barred) = barred.next()?;
    Some(format!(
        "line {} of robots.txt, “Disallow: {}” (for {token}), shuts engines out of the home page",
        barred.line, barred.pattern
    ))
}

/// Reasons that leave out more than a few entries, each with its share in percent.
fn shares(input: &GuardInput<'_>) -> impl Iterator<Item = (Reason, u64)> {
    let few = input.thresholds.few;
    let left_out: u64 = input.settled.counts.left_out.values().map(|sample| sample.count()).sum();
    let all = input.settled.entries() + left_out;
    let many = input
        .settled
        .counts
        .left_out
        .iter()
        .filter(move |(reason, sample)| BY_MISTAKE.contains(reason) && sample.count() > few);
    many.map(move |(reason, sample)| (*reason, share(sample.count(), all)))
}

fn left_out(input: &GuardInput<'_>) -> Option<String> {
    let (reason, share) = shares(input).find(|(reason, share)| {
        let accepted = input.before.accepted.get(reason.code()).copied();
        is_too_much_left_out(*share, accepted, input.thresholds)
    })?;
    let sample = input.settled.counts.left_out.get(&reason)?.counted();
    let hint = match reason {
        Reason::NotInFolder => {
            " (if their pages are not in a folder that is read, set pages = \"may-be-elsewhere\" on their source)"
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

/// A section that is now empty although its entries are still listed: it has another name now.
fn new_sections(input: &GuardInput<'_>) -> Option<String> {
    let sections = input.chooser.sections.list().iter().zip(&input.settled.counts.tallies);
    let now: HashSet<&str> =
        sections.filter(|(_, tally)| tally.entries > 0).map(|(section, _)| section.name.as_str()).collect();
    let (section, (count, gone)) = sections_before(input)
        .into_iter()
        .find(|(section, (count, gone))| !now.contains(section) && is_renamed(*gone, *count, input.thresholds))?;
    Some(format!(
        "section {section} would disappear, and {} of its {} entries would be in files with other names",
        grouped(count - gone),
        grouped(count)
    ))
}

fn shrink(input: &GuardInput<'_>) -> Option<String> {
    if input.allow.contains(&Guard::NewUrl) && new_url(input).is_some() {
        return None;
    }
    let lost = |(_, (count, gone)): &(&str, (u64, u64))| is_lost(*gone, *count, input.thresholds);
    let lost: Vec<_> = sections_before(input).into_iter().filter(lost).collect();
    let [(section, (count, gone)), others @ ..] = &lost[..] else { return None };
    let first = format!(
        "section {section} would lose {} of its {} entries ({} %)",
        grouped(*gone),
        grouped(*count),
        share(*gone, *count)
    );
    let others = others.iter().map(|(section, (count, gone))| {
        format!(", {section} {} of {} ({} %)", grouped(*gone), grouped(*count), share(*gone, *count))
    });
    Some(first + &others.collect::<String>())
}

/// The entries of each section after the last build, and how many of them are lost. Expired entries had announced it
/// and are not a loss.
fn sections_before<'a>(input: &GuardInput<'a>) -> BTreeMap<&'a str, (u64, u64)> {
    let mut before: BTreeMap<&'a str, (u64, u64)> = BTreeMap::new();
    let lost = input.settled.gone.iter().filter(|gone| gone.reason != Some(Reason::Expired));
    let lost: HashSet<u32> = lost.map(|gone| gone.prior).collect();
    for file in input.remembered.files.iter().filter(|file| file.kind == FileKind::Pages) {
        let (count, gone) = before.entry(&file.section).or_default();
        for segment in &file.segments {
            *count += u64::from(segment.count);
            let range = segment.first as u32..segment.first as u32 + segment.count;
            *gone += if lost.is_empty() { 0 } else { range.filter(|at| lost.contains(at)).count() as u64 };
        }
    }
    before
}

/// Files that another tool wrote would be overwritten.
fn overwrite(input: &GuardInput<'_>) -> Option<String> {
    let (first, others) = input.foreign.split_first()?;
    let shown = input.destination.shown(first);
    if plain_name(first) == input.names.main {
        return Some(format!(
            "{shown} is there already, and another tool wrote it: it would be overwritten, and two tools would compete for it"
        ));
    }
    let others = match others.len() as u64 {
        0 => String::new(),
        more => format!(" and {}", count(more, "more file", "more files")),
    };
    Some(format!("{shown}{others} would be overwritten, and it was not written by Idle Atlas"))
}
