//! The reasons that engines give, beside our own decisions: does it matter?

use std::collections::{BTreeMap, HashMap};

use atlas_core::choose::Reason;
use foldhash::fast::RandomState;

use super::overlay::{LastLook, MOST_EXAMPLES, Overlaid};
use super::overview::{KnownOfReason, ReasonUptake};
use super::worth::urls;
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::tag;

/// How many pages that nothing explains are read again, to see what they say by now.
const MOST_READ: usize = 200;

/// What we know of a URL that an engine names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Explanation {
    /// It is listed, and nothing explains why it is not taken.
    Not,
    /// It answers 404 or 410 by now.
    Gone,
    /// It answers with another error.
    Failing,
    /// It redirects by now.
    Redirecting,
    /// It says noindex by now.
    Noindex,
    /// It is new, or engines were told of it a short time ago.
    Waiting,
    /// It is left out.
    LeftOut(Reason),
    /// It was listed once.
    Left,
    /// No source names it.
    Unknown,
}

impl Explanation {
    /// A code, words, and whether that is as the user wants it.
    fn told(self) -> (&'static str, String, bool) {
        let (code, words, on_purpose) = match self {
            Self::Not => ("unexplained", "nothing here explains it", false),
            Self::Gone => ("answers-gone", "listed, but it is gone by now", false),
            Self::Failing => ("answers-error", "listed, but it answers with an error", false),
            Self::Redirecting => ("redirects", "listed, but it redirects by now", false),
            Self::Noindex => ("says-noindex", "listed, but it says noindex by now", false),
            Self::Waiting => ("waiting", "new or changed a short time ago", true),
            Self::LeftOut(reason) => return (reason.code(), format!("left out: {}", reason.words()), true),
            Self::Left => ("gone", "no longer part of the site", true),
            Self::Unknown => ("unknown", "no source names it", false),
        };
        (code, words.to_owned(), on_purpose)
    }
}

/// The URLs with a reason that we know the same of.
#[derive(Debug, Default)]
struct ReasonGroup {
    urls: u64,
    examples: Vec<String>,
    /// Listed pages whose URLs are still to be read.
    listed: Vec<u32>,
}

/// The URLs with a reason, by what we know of them.
#[derive(Debug, Default)]
struct ReasonGroups {
    picked_up: u64,
    groups: BTreeMap<Explanation, ReasonGroup>,
}

/// Groups the URLs of each reason by what we know of them.
pub(super) fn reasons(overlaid: &Overlaid<'_>, ledger: &dyn Ledger) -> Result<Vec<ReasonUptake>, StoreError> {
    if overlaid.looks.iter().all(|last| last.look.facts.reasons.is_empty()) {
        return Ok(Vec::new());
    }
    let left_out = ledger.left_out()?;
    let tombstones = ledger.tombstones()?.into_iter();
    let gone: HashMap<u64, String, RandomState> =
        tombstones.map(|(tombstone, _)| (tag(tombstone.key), tombstone.url)).collect();
    let mut all = Vec::new();
    for last in &overlaid.looks {
        let mut by_reason: Vec<ReasonGroups> = Vec::new();
        by_reason.resize_with(last.look.facts.reasons.len(), ReasonGroups::default);
        for (record, at) in last.placed() {
            let Some(groups) = usize::from(record.reason).checked_sub(1).and_then(|at| by_reason.get_mut(at)) else {
                continue;
            };
            if record.picked_up {
                groups.picked_up += 1;
                continue;
            }
            let explained = match at {
                Some(at) => of_listed(overlaid, at),
                None => match (left_out.reason(record.tag), gone.get(&record.tag)) {
                    (Some(reason), _) => Explanation::LeftOut(reason),
                    (None, Some(_)) => Explanation::Left,
                    (None, None) => Explanation::Unknown,
                },
            };
            let group = groups.groups.entry(explained).or_default();
            group.urls += 1;
            match at {
                Some(at) if group.listed.len() < MOST_READ => group.listed.push(at),
                None if group.examples.len() < MOST_EXAMPLES => {
                    let url = last.look.facts.strange.get(&record.tag).or_else(|| gone.get(&record.tag));
                    group.examples.extend(url.cloned());
                }
                _ => {}
            }
        }
        all.extend(told(overlaid, ledger, last, by_reason)?);
    }
    // What means “picked up” is no question.
    all.sort_by(|one, other| {
        (one.means_picked_up, other.urls, &one.reason).cmp(&(other.means_picked_up, one.urls, &other.reason))
    });
    Ok(all)
}

/// The groups of an export, with the URLs of listed pages.
fn told(
    overlaid: &Overlaid<'_>,
    ledger: &dyn Ledger,
    last: &LastLook,
    mut by_reason: Vec<ReasonGroups>,
) -> Result<Vec<ReasonUptake>, StoreError> {
    let groups = by_reason.iter().flat_map(|groups| groups.groups.values());
    let listed: Vec<u32> = groups.flat_map(|group| group.listed.iter().copied()).collect();
    let urls = urls(overlaid, ledger, &listed)?;
    for groups in &mut by_reason {
        read_again(overlaid, groups, &urls);
        for group in groups.groups.values_mut() {
            let listed = group.listed.iter().filter_map(|at| urls.get(at)).take(MOST_EXAMPLES);
            group.examples.extend(listed.cloned());
            group.examples.sort();
        }
    }
    let told = last.look.facts.reasons.iter().zip(by_reason).map(|((reason, means_picked_up), groups)| {
        let mut told = ReasonUptake {
            engine: last.look.engine.clone(),
            reason: reason.clone(),
            means_picked_up: *means_picked_up,
            urls: groups.picked_up + groups.groups.values().map(|group| group.urls).sum::<u64>(),
            known: Vec::new(),
            unexplained: 0,
            examples: Vec::new(),
        };
        for (explained, ReasonGroup { urls, examples, .. }) in groups.groups {
            if explained == Explanation::Not {
                (told.unexplained, told.examples) = (urls, examples);
                continue;
            }
            let (code, words, on_purpose) = explained.told();
            told.known.push(KnownOfReason { code: code.to_owned(), words, urls, on_purpose, examples });
        }
        told.known.sort_by(|one, other| other.urls.cmp(&one.urls).then(one.code.cmp(&other.code)));
        told
    });
    Ok(told.collect())
}

/// What the answers to crawlers explain of a listed page.
fn of_listed(overlaid: &Overlaid<'_>, at: u32) -> Explanation {
    let visits = overlaid.visits.of(at);
    let known = overlaid.known(at);
    match visits.status {
        404 | 410 if known.fetched => Explanation::Gone,
        400.. if known.fetched => Explanation::Failing,
        status @ 300..400 if known.fetched && status != 304 => Explanation::Redirecting,
        _ if known.recent => Explanation::Waiting,
        _ => Explanation::Not,
    }
}

/// Reads pages that nothing explains once more: some may say noindex by now.
fn read_again(overlaid: &Overlaid<'_>, groups: &mut ReasonGroups, urls: &HashMap<u32, String>) {
    let Some(unexplained) = groups.groups.get_mut(&Explanation::Not) else { return };
    let says_noindex = |at: &u32| urls.get(at).is_some_and(|url| overlaid.knowledge.says_noindex(url));
    let (noindex, others): (Vec<u32>, Vec<u32>) = unexplained.listed.iter().partition(|at| says_noindex(at));
    if noindex.is_empty() {
        return;
    }
    unexplained.listed = others;
    unexplained.urls -= noindex.len() as u64;
    if unexplained.urls == 0 {
        groups.groups.remove(&Explanation::Not);
    }
    let group = ReasonGroup { urls: noindex.len() as u64, examples: Vec::new(), listed: noindex };
    groups.groups.insert(Explanation::Noindex, group);
}
